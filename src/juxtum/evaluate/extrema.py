"""Where the map is highest and lowest: one place a bump or dent, the worst first."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from juxtum.evaluate.characteristics import counting_rows
from juxtum.evaluate.deviation import Deviation
from juxtum.evaluate.tiles import Tiles, make_tiles
from juxtum.geometry.arrays import Floats, Ints

MOST = 60
APART = 3.0
"""Tiles within so many of their sides of each other lie beside each other."""
OUT_OF_NOISE = 8.0
"""A place stands out when its mean rises over its surroundings by so many times the noise of a tile."""
SHARE = 0.2
"""And by this share of itself."""


@dataclass(frozen=True, eq=False)
class Peak:
    """A place at which the map is higher, or lower, than all round it.

    Parameters
    ----------
    value : float
        Mean deviation over a tile, mm.
    place, normal : array (3,)
        The foot on the nominal, and its normal.
    face : int
        Its number.
    row : int
        Of the deviation.
    excess : float
        How far beyond the limits of the map, in halves of their width; negative within them.
    """

    value: float
    place: Floats
    normal: Floats
    face: int
    row: int
    excess: float


def find_peaks(deviation: Deviation, lower: float, upper: float) -> tuple[Peak, ...]:
    """Local extremes of the means over tiles, the worst first.

    Means, because the highest of single points is the noisiest one; only places that count, so neither edges nor strays.

    Parameters
    ----------
    lower, upper : float
        Limits of the map, mm: a value counts by how far it is on its way to the nearer of them.

    Examples
    --------
    >>> find_peaks(deviation, -0.2, 0.2)[0].value  # doctest: +SKIP
    0.456
    """
    rows = counting_rows(deviation, ())
    if len(rows) == 0:
        return ()
    tiles = make_tiles(deviation, rows, deviation.distances[rows])
    if len(tiles.means) == 0:
        return ()
    excess, chosen = _excess(tiles.means, lower, upper), _stand_out(deviation, tiles, (lower + upper) / 2)
    least = OUT_OF_NOISE * float(np.median(tiles.noise))
    chosen = sorted((k for k in chosen if abs(tiles.means[k]) >= least or excess[k] > 0), key=lambda k: -excess[k])[
        :MOST
    ]
    if not chosen:
        return ()
    rows = tiles.rows[chosen]
    normals = deviation.nominal.projector.project(deviation.feet[rows], limit=1.0).normals
    faces = deviation.faces[rows] + 1
    return tuple(
        Peak(float(tiles.means[k]), deviation.feet[row], normal, int(face), int(row), float(excess[k]))
        for k, row, normal, face in zip(chosen, rows, normals, faces, strict=True)
    )


def _stand_out(deviation: Deviation, tiles: Tiles, middle: float) -> list[int]:
    """Rows of the tiles that are higher, or lower, than all round them, seen from the middle of the limits."""
    places, least = deviation.feet[tiles.rows], OUT_OF_NOISE * float(np.median(tiles.noise))
    reach, chosen = APART * deviation.tile, []
    for sign in (1.0, -1.0):
        heights = sign * (tiles.means - middle)
        mine = np.flatnonzero(heights > 0)
        if len(mine):
            chosen += [int(k) for k in mine[prominent(places[mine], heights[mine], reach, least)]]
    return chosen


def _excess(means: Floats, lower: float, upper: float) -> Floats:
    """Share of the way from the middle of the limits to the nearer one, less one."""
    half = max((upper - lower) / 2, 1e-9)
    return np.asarray(np.abs(means - (upper + lower) / 2) / half - 1.0)


def prominent(places: Floats, heights: Floats, reach: float, least: float) -> list[int]:
    """Rows of the places that stand out of their surroundings: from each one has to go down before one can go higher.

    Places are taken from the highest down; where two hills meet, the lower one ends, and counts when it rose over that
    saddle by enough (persistence of superlevel sets, Edelsbrunner 2002).

    Parameters
    ----------
    heights : array (K,)
        Of one sign.
    least : float
        Rise over the saddle that counts, mm.
    """
    order = np.argsort(-heights, kind="stable")
    rank = np.empty(len(order), dtype=np.int64)
    rank[order] = np.arange(len(order))
    higher = _higher_beside(places, rank, reach)
    hill, chosen = list(range(len(places))), []

    def top(k: int) -> int:
        while hill[k] != k:
            hill[k] = hill[hill[k]]
            k = hill[k]
        return k

    values = heights.tolist()
    for k in order.tolist():
        tops = {top(other) for other in higher(k)}
        if not tops:
            continue
        highest = min(tops, key=lambda t: rank[t])
        hill[k] = highest
        for other in tops - {highest}:
            hill[other] = highest
            if values[other] - values[k] >= max(least, SHARE * values[other]):
                chosen.append(other)
    chosen += [k for k in range(len(places)) if hill[k] == k]
    return chosen


def _higher_beside(places: Floats, rank: Ints, reach: float) -> Callable[[int], list[int]]:
    """Gives for each place the rows of those within its reach that come before it."""
    from scipy.spatial import cKDTree

    pairs = cKDTree(places).query_pairs(reach, output_type="ndarray")
    later = np.where(rank[pairs[:, 0]] > rank[pairs[:, 1]], 0, 1)
    lower, higher = pairs[np.arange(len(pairs)), later], pairs[np.arange(len(pairs)), 1 - later]
    by_lower = np.argsort(lower, kind="stable")
    starts = np.searchsorted(lower[by_lower], np.arange(len(places) + 1)).tolist()
    ends = higher[by_lower].tolist()
    return lambda k: ends[starts[k] : starts[k + 1]]
