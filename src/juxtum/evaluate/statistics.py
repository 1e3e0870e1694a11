"""Area-weighted statistics of deviations."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from juxtum.evaluate.deviation import Deviation
from juxtum.geometry.arrays import Bools, Floats, frozen

SHARES = (0.5, 2.5, 50.0, 97.5, 99.5)


@dataclass(frozen=True)
class DeviationStatistics:
    """Numbers of a deviation map; lengths in mm, shares from 0 to 1, all weighted by area.

    Parameters
    ----------
    points : int
        With a deviation.
    beyond_search : int
        Without one: no nominal within the search limits.
    outliers : int
        Strays, and what hangs over edges or grows out of the part beyond the search limit: counted here, and left out
        of mean, SD, RMS, percentiles, extremes and shares.
    """

    points: int
    area_seen: float
    mean: float
    sd: float
    rms: float
    min: float
    max: float
    percentiles: dict[str, float]
    within_tolerance: float
    beyond_search: int
    outliers: int = 0


def statistics(deviation: Deviation, lower: float, upper: float, faces: tuple[int, ...] = ()) -> DeviationStatistics:
    """Statistics of the whole map, or of some faces by their numbers.

    Parameters
    ----------
    lower, upper : float
        Tolerance limits, mm.
    """
    rows = chosen_rows(deviation, faces)
    odd = left_out(deviation)[rows]
    outliers, rows = int(odd.sum()), rows[~odd]
    d, w = deviation.distances[rows], deviation.weights[rows]
    beyond = 0 if faces else int((~deviation.found).sum())
    seen = deviation.area_seen_of(faces)
    if len(d) == 0 or w.sum() <= 0:
        nothing = float("nan")
        empty = {f"{share:g}": nothing for share in SHARES}
        return DeviationStatistics(0, seen, nothing, nothing, nothing, nothing, nothing, empty, 0.0, beyond, outliers)
    w = w / w.sum()
    mean = float(w @ d)
    percentiles = weighted_percentiles(d, w, SHARES)
    inside = float(w[(d >= lower) & (d <= upper)].sum())
    return DeviationStatistics(
        points=len(d),
        area_seen=seen,
        mean=mean,
        sd=float(np.sqrt(w @ (d - mean) ** 2)),
        rms=float(np.sqrt(w @ d**2)),
        min=float(d.min()),
        max=float(d.max()),
        percentiles={f"{share:g}": float(value) for share, value in zip(SHARES, percentiles, strict=True)},
        within_tolerance=min(inside, 1.0),
        beyond_search=beyond,
        outliers=outliers,
    )


def within(deviation: Deviation, lower: float, upper: float) -> float:
    """Share of the area, by points that count, with deviations inside limits, 0 to 1."""
    rows = chosen_rows(deviation, ())
    rows = rows[~left_out(deviation)[rows]]
    d, w = deviation.distances[rows], deviation.weights[rows]
    total = float(w.sum())
    return min(float(w[(d >= lower) & (d <= upper)].sum()) / total, 1.0) if total > 0 else 0.0


def left_out(deviation: Deviation) -> Bools:
    """Points (N,) that no statistic counts: strays and foreign surface, both told on their own."""
    mask = np.array(deviation.strays)
    for patch in deviation.foreign:
        mask[patch.rows] = True
    return mask


def chosen_rows(deviation: Deviation, faces: tuple[int, ...]) -> npt.NDArray[np.int64]:
    """Rows with a deviation, of some faces by their numbers or of all."""
    mask: Bools = deviation.found
    if faces:
        mask = mask & np.isin(deviation.faces, np.array(faces) - 1)
    return np.flatnonzero(mask)


def weighted_percentiles(values: Floats, weights: Floats, shares: tuple[float, ...]) -> Floats:
    """Percentiles of a weighted sample: where the running share of weight (to the middle of each) reaches them.

    Examples
    --------
    >>> weighted_percentiles(np.array([1.0, 2, 3]), np.ones(3), (50.0,))
    array([2.])
    """
    order = np.argsort(values, kind="stable")
    running = np.cumsum(weights[order])
    middles = (running - weights[order] / 2) / running[-1]
    return np.asarray(np.interp(np.array(shares) / 100, middles, values[order]))


@dataclass(frozen=True, eq=False)
class Histogram:
    """Share of area in bins of deviation: edges (B+1,) in mm, shares (B,) that sum to at most 1."""

    edges: Floats
    shares: Floats


def histogram(deviation: Deviation, low: float, high: float, bins: int = 120) -> Histogram:
    """How much area has which deviation, between two limits in mm."""
    values, running = deviation.ranked
    edges = np.linspace(low, high, bins + 1)
    ends = np.r_[np.searchsorted(values, edges[:-1], "left"), np.searchsorted(values, high, "right")]
    return Histogram(frozen(edges), frozen(np.diff(running[ends]) / max(float(running[-1]), 1e-12)))
