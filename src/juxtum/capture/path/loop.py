"""A loop round the part: how far round it went, and whether its end lies on its beginning."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from juxtum.capture.live.points import normals_of, places_of
from juxtum.capture.live.session import CaptureSession
from juxtum.geometry.arrays import Floats, Ints

SECTORS = 12
SHARE = 0.15
"""Of all points, the first and the last so many are its beginning and its end."""
LEAST_IN_CELL = 4
LEAST_CELLS = 12
LOOKED_AT = 60_000


@dataclass(frozen=True)
class Loop:
    """What a capture is as a loop.

    Parameters
    ----------
    sectors : int
        Of `SECTORS` round the part, those in which something was captured.
    gap : float, optional
        How far the end lies off the beginning where they meet, mm RMS along the normals; None where they do not meet.
    """

    sectors: int
    gap: float | None

    @property
    def is_round(self) -> bool:
        """Whether it went all the way round and came back."""
        return self.sectors == SECTORS and self.gap is not None


def loop_of(session: CaptureSession) -> Loop:
    """Look at the points of a capture in the order in which they came."""
    if session.map.to_part is None or not session.good:
        return Loop(0, None)
    taken = np.concatenate([p.store.all() for p in session.good])
    count = max(int(SHARE * len(taken)), 1)
    first, last = taken[:count], taken[-count:]
    places, rows = _in_cells(session, taken)
    seen = rows >= 0
    if not seen.any():
        return Loop(0, None)
    middle = session.planner.nominal.mesh.bounds.mean(0)
    about = places[seen] - middle
    angles = np.floor((np.arctan2(about[:, 1], about[:, 0]) + np.pi) / (2 * np.pi) * SECTORS).astype(np.int64)
    here = np.bincount(np.clip(angles, 0, SECTORS - 1), minlength=SECTORS)
    return Loop(int((here > 0.1 * here.mean()).sum()), _gap(session, first, last))


def _gap(session: CaptureSession, first: np.ndarray, last: np.ndarray) -> float | None:
    heights = []
    for points in (first, last):
        places, rows = _in_cells(session, points)
        known = rows >= 0
        cells = session.cells
        height = np.einsum("ij,ij->i", places[known] - cells.places[rows[known]], cells.normals[rows[known]])
        counts = np.bincount(rows[known], minlength=len(cells.areas))
        sums = np.bincount(rows[known], height, minlength=len(cells.areas))
        heights.append(np.where(counts >= LEAST_IN_CELL, sums / np.maximum(counts, 1), np.nan))
    apart = heights[1] - heights[0]
    apart = apart[np.isfinite(apart)]
    return float(np.sqrt(np.mean(apart**2))) if len(apart) >= LEAST_CELLS else None


def _in_cells(session: CaptureSession, points: np.ndarray) -> tuple[Floats, Ints]:
    """Places (N, 3) of some of the points in part coordinates, and their cells (N,)."""
    assert session.map.to_part is not None
    some = points[:: max(1, len(points) // LOOKED_AT)]
    places = session.map.to_part.apply(places_of(some))
    return places, session.coverage.rows_of(places, session.map.to_part.turn(normals_of(some)))
