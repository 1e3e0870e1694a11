"""Strays: single points and scraps that stand off from all around them, as reflections and leftovers do."""

from __future__ import annotations

import numpy as np

from juxtum.evaluate.deviation import Deviation
from juxtum.evaluate.places import sorted_into_places
from juxtum.geometry.arrays import Bools, Floats, Ints, frozen

CLEARLY = 8.0
"""Strays stand off by more than this many times the noise."""
LEAST_OFF = 0.1
"""mm; and by more than this."""
FEW = 0.2
"""Strays are at most this share of the points of their place: more of them are a shape."""
PLACE = 4.0
"""Side of a place, in spacings."""


def find_strays(deviation: Deviation) -> Bools:
    """Which points (N,) stand off from the median of their place by far more than the noise, and are few there."""
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
    return frozen(strays, np.bool_)


def point_noise(deviation: Deviation) -> float:
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
