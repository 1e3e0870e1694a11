"""From where a scan was seen, and what would have hidden it: a scan laid wrongly stands in the other's light."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from juxtum.align.scans.sheet import Sheet, even_directions
from juxtum.geometry.arrays import Floats, Ints, frozen, orthonormal_frame

DIRECTIONS = 400
FACING = -0.12
"""A scan was seen from one side when all but a few of its points turn no farther away from it than this cosine."""
FEW = 0.03
PIXELS = 90


@dataclass(frozen=True, eq=False)
class Sight:
    """A scan as it was seen from one side.

    Parameters
    ----------
    frame : array (3, 3)
        Rows: two directions across and the one towards the scanner.
    front : array (P, Q)
        The foremost height towards the scanner in and beside each pixel, mm; nan where the scan does not fill it and
        all its neighbours.
    corner : array (2,)
        Of the first pixel across.
    pixel : float
        mm.
    """

    frame: Floats
    front: Floats
    corner: Floats
    pixel: float


def sight_of(sheet: Sheet) -> Sight | None:
    """From where a scan was seen; None where it was seen from all round, as by a hand that goes about the part."""
    normals = sheet.normals[~sheet.border][:: max(1, len(sheet.normals) // 6000)]
    directions = even_directions(DIRECTIONS)
    least = np.quantile(normals @ directions.T, FEW, axis=0)
    if least.max() < FACING:
        return None
    towards = directions[np.argmax(least)]
    frame = np.vstack([orthonormal_frame(towards)[:2], towards])
    return Sight(frozen(frame), *_front(sheet.points @ frame.T, sheet.spacing))


def _front(points: Floats, spacing: float) -> tuple[Floats, Floats, float]:
    """Foremost heights of points (N, 3), pixel by pixel."""
    low, high = points[:, :2].min(0), points[:, :2].max(0)
    pixel = max(float((high - low).max()) / PIXELS, 2.5 * spacing)
    shape = np.ceil((high - low) / pixel).astype(int) + 3
    corner = low - pixel
    cells: Ints = np.floor((points[:, :2] - corner) / pixel).astype(np.int64)
    heights = np.full(tuple(shape), -np.inf)
    np.maximum.at(heights, (cells[:, 0], cells[:, 1]), points[:, 2])
    around = [np.roll(heights, (i, j), (0, 1)) for i in (-1, 0, 1) for j in (-1, 0, 1)]
    front = np.max(around, axis=0)
    front[~np.isfinite(np.min(around, axis=0))] = np.nan
    return frozen(front), frozen(corner), pixel


def hides(points: Floats, sight: Sight, least: float) -> float:
    """Share of points (N, 3), in the frame of the scan that is seen, which stand before it by more than `least` mm."""
    there = points @ sight.frame.T
    cells = np.floor((there[:, :2] - sight.corner) / sight.pixel).astype(np.int64)
    inside = ((cells >= 0) & (cells < sight.front.shape)).all(1)
    front = sight.front[cells[inside, 0], cells[inside, 1]]
    return float((there[inside, 2] > front + least).sum() / len(points))
