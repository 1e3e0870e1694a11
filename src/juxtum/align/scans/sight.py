"""From where a scan was seen, and what would have hidden it: a scan laid wrongly stands in the other's light."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from juxtum.align.scans.edges import Edges
from juxtum.align.scans.sheet import Sheet
from juxtum.geometry.arrays import Bools, Floats, Ints, even_directions, frozen, orthonormal_frame
from juxtum.geometry.kdtree import kd_tree

DIRECTIONS = 400
FACING, FACED = -0.12, 0.35
"""A scan was seen from one side when all but a few of its points turn no farther away from it than the first cosine; what
faces it by the second is seen."""
FEW = 0.03
PIXELS = 150
ROUNDED = 0.5
"""An end that looks away from the scanner by more than this cosine says may be none of the part."""
THINNED, AROUND, SAME, TURNS = 1500, 24, 0.8, 0.015
"""So many points of a scan, those next to an end, those that face as it does, and by how much more they look to the scanner
where what ends is round."""
STEEP = 0.1
"""A scanner sees little of what turns farther away than this cosine."""
TRIED, SIGHTS = 40, 5
"""Directions that are looked at, and that are kept."""
CLEAR, DEEP = 0.01, 6.0
"""So much more of a scan may lie hidden behind itself than from the best direction; hidden is what lies so many pixels behind."""


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
    bare : array (P, Q)
        Where neither a pixel nor any of its neighbours is filled.
    """

    frame: Floats
    front: Floats
    corner: Floats
    pixel: float
    bare: Bools


def sights_of(sheet: Sheet) -> tuple[Sight, ...]:
    """From where a scan may have been seen; none where it was seen from all round, as by a hand that goes about the part.

    A flat face says little of where it was seen from: then several directions are kept, as far apart as they come, all
    of those from which nothing of the scan would have hidden another part of it.
    """
    normals = sheet.normals[~sheet.border][:: max(1, len(sheet.normals) // 6000)]
    if len(normals) == 0:
        return ()
    directions = even_directions(DIRECTIONS)
    least = np.quantile(normals @ directions.T, FEW, axis=0)
    if least.max() < FACING:
        return ()
    able = np.flatnonzero(least >= min(STEEP, float(least.max())))
    able = able[:: max(1, len(able) // TRIED)]
    points = sheet.points[sheet.some(4000)]
    made = [_seen(sheet, directions[k]) for k in able]
    buried = np.array([_buried(points, sight) for sight in made])
    clear = np.flatnonzero(buried <= buried.min() + CLEAR)
    return tuple(made[k] for k in _far_apart(directions[able], clear))


def outlined(sheet: Sheet, sights: tuple[Sight, ...]) -> Edges:
    """Edges of a scan, without the ends where what is round turned out of sight: from elsewhere it goes on there."""
    edges, few = sheet.edges, sheet.some(THINNED)
    if not sights or len(sheet.points) < AROUND:
        return edges
    near = kd_tree(sheet.points[few]).query(edges.points, k=AROUND, workers=-1)[1]
    looks = sheet.normals[few][near]
    alike = np.einsum("nkd,nd->nk", looks, edges.out) > SAME
    # Of a flat face that is seen steeply the end is an edge of the part; what is round looks to the scanner more a little farther in.
    inside = np.einsum("nk,nkd->nd", alike, looks) / np.maximum(alike.sum(1), 1)[:, None]
    round_ends = np.zeros(len(edges.points), dtype=bool)
    for sight in sights:
        steep, deeper = edges.out @ sight.frame[2], inside @ sight.frame[2]
        round_ends |= (steep < ROUNDED) & (deeper > steep + TURNS)
    return edges.with_mild(np.asarray(edges.is_end & round_ends))


def _seen(sheet: Sheet, towards: Floats) -> Sight:
    frame = np.vstack([orthonormal_frame(towards)[:2], towards])
    return Sight(frozen(frame), *_front(sheet.points @ frame.T, sheet.spacing))


def _buried(points: Floats, sight: Sight) -> float:
    """Share of a scan's own points (N, 3) that lie deep behind its foremost ones: from there it was not seen."""
    there = points @ sight.frame.T
    cells = np.floor((there[:, :2] - sight.corner) / sight.pixel).astype(np.int64)
    front = sight.front[cells[:, 0], cells[:, 1]]
    return float((there[:, 2] < front - DEEP * sight.pixel).sum() / len(points))


def _far_apart(directions: Floats, rows: Ints) -> list[int]:
    """The middle one of some rows of directions, and those farthest from it and from each other."""
    mean = directions[rows].sum(0)
    kept = [int(rows[np.argmax(directions[rows] @ mean)])]
    while len(kept) < min(SIGHTS, len(rows)):
        nearest = (directions[rows] @ directions[kept].T).max(1)
        if nearest.min() > 0.97:
            break
        kept.append(int(rows[np.argmin(nearest)]))
    return kept


def _front(points: Floats, spacing: float) -> tuple[Floats, Floats, float, Bools]:
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
    bare = ~np.isfinite(front)
    front[~np.isfinite(np.min(around, axis=0))] = np.nan
    return frozen(front), frozen(corner), pixel, frozen(bare, bool)


def least_missed(points: Floats, normals: Floats, sights: tuple[Sight, ...]) -> tuple[int, int]:
    """Of points (N, 3) with directions (N, 3) those that a scan should have seen and has not, and those it should have seen.

    From the direction from which it misses least. A scan whose field of view was smaller than the part misses much,
    wherever it is laid.
    """
    found = [_missed(points, normals, sight) for sight in sights]
    return min(found, key=lambda pair: pair[0] / max(pair[1], 1), default=(0, 0))


def _missed(points: Floats, normals: Floats, sight: Sight) -> tuple[int, int]:
    there = points @ sight.frame.T
    facing = normals @ sight.frame[2] > FACED
    coarse = 4 * sight.pixel
    cells = np.floor((there[:, :2] - there[:, :2].min(0)) / coarse).astype(np.int64)
    keys = cells[:, 0] * (cells[:, 1].max() + 1) + cells[:, 1]
    front = np.full(int(keys.max()) + 1, -np.inf)
    np.maximum.at(front, keys, there[:, 2])
    # What lies behind other points of its own scan was hidden by them.
    able = facing & (there[:, 2] > front[keys] - 2 * coarse)
    cells = np.floor((there[:, :2] - sight.corner) / sight.pixel).astype(np.int64)
    inside = np.asarray(((cells >= 0) & (cells < sight.bare.shape)).all(1))
    cells = np.where(inside[:, None], cells, 0)
    empty = ~inside | sight.bare[cells[:, 0], cells[:, 1]]
    behind = inside & (there[:, 2] < np.nan_to_num(sight.front[cells[:, 0], cells[:, 1]], nan=-np.inf) - coarse)
    able &= ~behind
    return int((able & empty).sum()), int(able.sum())


def least_hidden(points: Floats, sights: tuple[Sight, ...]) -> float:
    """Share of points (N, 3) that would have hidden a scan from each of the directions it may have been seen from."""
    return min((hides(points, sight, 1.5 * sight.pixel) for sight in sights), default=0.0)


def hides(points: Floats, sight: Sight, least: float) -> float:
    """Share of points (N, 3), in the frame of the scan that is seen, which stand before it by more than `least` mm."""
    there = points @ sight.frame.T
    cells = np.floor((there[:, :2] - sight.corner) / sight.pixel).astype(np.int64)
    inside = ((cells >= 0) & (cells < sight.front.shape)).all(1)
    front = sight.front[cells[inside, 0], cells[inside, 1]]
    return float((there[inside, 2] > front + least).sum() / len(points))
