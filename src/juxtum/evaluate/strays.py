"""Strays: single points and scraps that stand off from all around them, as reflections and leftovers do."""

from __future__ import annotations

import numpy as np

from juxtum.evaluate.places import MapPoints, sorted_into_places
from juxtum.geometry.arrays import Bools, Floats, Ints, frozen

CLEARLY = 8.0
"""Strays stand off by more than this many times the noise."""
LEAST_OFF = 0.1
"""mm; and by more than this."""
FEW = 0.2
"""Strays are at most this share of the points of their place: more of them are a shape."""
AROUND = 13
"""A point and so many less one of its neighbours are looked at together."""
PLACE = 4.0
"""Side of a place, in spacings."""


def find_strays(deviation: MapPoints) -> Bools:
    """Which points (N,) stand off from the median of their place, or from the side all around them lies on, and are few there."""
    strays = np.zeros(len(deviation.points), dtype=bool)
    rows = np.flatnonzero(deviation.found)
    if len(rows) < 50:
        return frozen(strays, np.bool_)
    d = deviation.distances[rows]
    order, starts, counts = sorted_into_places(deviation, rows, max(PLACE * deviation.spacing, 1e-6))
    middle = _medians(d[order], starts, counts)
    off = np.abs(d[order] - np.repeat(middle, counts))
    noise = 1.4826 * float(np.median(off))
    beyond = off > max(CLEARLY * noise, LEAST_OFF)
    share = np.add.reduceat(beyond, starts) / counts
    few = np.repeat((share <= FEW) & (counts >= 5), counts)
    strays[rows[order[beyond & few]]] = True
    strays |= _turned(deviation, max(3 * noise, 1e-3))
    return frozen(strays, np.bool_)


def _turned(deviation: MapPoints, limit: float) -> Bools:
    """Which points (N,) are held against another side of the part than most around them, while they lie on that of the others.

    Noise turns the normal of a small triangle over; on a sheet the point then stands against the sheet's other side and
    reads its thickness.

    Parameters
    ----------
    limit : float
        Only points that are off by more are looked at, mm.
    """
    from scipy.spatial import cKDTree

    turned = np.zeros(len(deviation.points), dtype=bool)
    rows = np.flatnonzero(deviation.found)
    far = rows[np.abs(deviation.distances[rows]) > limit]
    if len(far) == 0:
        return turned
    _, near = cKDTree(deviation.points[rows]).query(deviation.points[far], k=AROUND)
    alike = np.einsum("nkj,nj->nk", deviation.normals[rows[near]], deviation.normals[far]) > 0.5
    lone = far[alike[:, 1:].mean(1) < 0.5]
    if len(lone):
        there = np.abs(deviation.nominal.projector.project(deviation.points[lone], limit=limit).distances)
        turned[lone] = there < np.abs(deviation.distances[lone]) / 2
    return turned


def point_noise(deviation: MapPoints) -> float:
    """Standard deviation of single points about those beside them, mm; NaN when there are too few to tell."""
    rows = np.flatnonzero(deviation.clear)
    if len(rows) < 20:
        return float("nan")
    order, starts, counts = sorted_into_places(deviation, rows, max(PLACE * deviation.spacing, 1e-6))
    d = deviation.distances[rows][order]
    several = np.repeat(counts >= 4, counts)
    off = np.abs(d - np.repeat(_medians(d, starts, counts), counts))[several]
    return 1.4826 * float(np.median(off)) if len(off) else float("nan")


def _medians(ordered: Floats, starts: Ints, counts: Ints) -> Floats:
    """Median of each group; values rise within their group."""
    return np.asarray((ordered[starts + (counts - 1) // 2] + ordered[starts + counts // 2]) / 2)
