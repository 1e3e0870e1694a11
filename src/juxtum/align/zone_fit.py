"""Fits that look at the worst places: as far inside the tolerance as can be, and stock left everywhere."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from juxtum.align.best_fit import BestFitOptions, drawn_points, is_about, motion_notes
from juxtum.align.result import AXES, Alignment
from juxtum.align.samples import ScanSample, scan_sample
from juxtum.associate.solve import CORRELATION_LENGTH
from juxtum.errors import AlignmentError, InputError
from juxtum.geometry import RigidTransform
from juxtum.geometry.arrays import Floats, frozen
from juxtum.geometry.mesh import Scan
from juxtum.geometry.registration import Pulls
from juxtum.nominal import Nominal
from juxtum.progress import Progress, silent

CELLS = 40
"""A part's diagonal holds so many cells; in each the deviations of one face are averaged."""
FEWEST = 4
ROUNDS = 25
SETTLED = 1e-5
PRICE = 1e-3
"""A motion is made only if the worst cell gains so much of it."""


@dataclass(frozen=True, eq=False)
class Zone:
    """What deviations may be.

    Parameters
    ----------
    lower, upper : float
        mm; one of them may be infinite: with a lower limit alone the least deviation is made as large as can be, as stock
        for machining asks.
    """

    lower: float
    upper: float

    def __post_init__(self) -> None:
        if not self.lower < self.upper or (np.isinf(self.lower) and np.isinf(self.upper)):
            raise InputError("the lower limit is not below the upper limit", "fit into a zone", "Swap them")


def zone_fit(
    scan: Scan,
    nominal: Nominal,
    start: RigidTransform,
    zone: Zone,
    options: BestFitOptions | None = None,
    progress: Progress | None = None,
) -> Alignment:
    """Lay a scan so that its worst excess over a zone is as small as can be, or the stock that is left as large.

    Deviations are averaged over cells of each face, so that single points do not decide, and the excess is minimised by a
    sequence of linear programs on them (each step within a shrinking bound), beginning from `start`.

    Raises
    ------
    AlignmentError
        When too little of the scan lies near the nominal.
    """
    options, progress = options or BestFitOptions(), progress or silent()
    sample = scan_sample(scan, options.count)
    size, found, bound = nominal.diagonal / 2, start, nominal.diagonal / 100
    best = _excess(_cells(sample, nominal, found, options), zone)
    for index in range(ROUNDS):
        progress.phase("fitting into the zone", index / ROUNDS)
        cells = _cells(sample, nominal, found, options)
        step = _program(cells, zone, options, (size, bound))
        tried = RigidTransform.about(cells.centre, step) @ found
        excess = _excess(_cells(sample, nominal, tried, options), zone)
        moved = float(np.linalg.norm(step[:3]) + size * np.linalg.norm(step[3:]))
        if excess < best - 1e-9:
            found, best = tried, excess
        else:
            bound = min(bound, moved) / 3
        if bound < SETTLED or moved < SETTLED:
            break
    return _reported(_cells(sample, nominal, found, options), found, zone, options, size)


def _excess(cells: Pulls, zone: Zone) -> float:
    """By how much the worst cell lies outside, mm; negative where all lie inside."""
    return float(np.maximum(cells.distances - zone.upper, zone.lower - cells.distances).max())


@dataclass(frozen=True, eq=False)
class _Cells(Pulls):
    """Pulls that stand for many points each, and how sure their distances are."""

    standards: Floats = field(default_factory=lambda: np.zeros(0))


def _cells(sample: ScanSample, nominal: Nominal, transform: RigidTransform, options: BestFitOptions) -> _Cells:
    """Mean places, normals and deviations of the cells of each face."""
    drawn = drawn_points(sample, nominal, transform, options)
    edge = nominal.diagonal / CELLS
    grid = np.floor((drawn.pulls.points - nominal.mesh.bounds[0]) / edge).astype(np.int64)
    _, owner, count = np.unique(
        np.concatenate([grid, drawn.faces[:, None]], axis=1), axis=0, return_inverse=True, return_counts=True
    )
    owner = owner.reshape(-1)

    def means(values: Floats) -> Floats:
        return np.stack([np.bincount(owner, weights=column) for column in values.T], axis=1) / count[:, None]

    full = count >= FEWEST
    if full.sum() < 6:
        raise AlignmentError(
            "too little of the scan lies near the nominal", "fit into a zone", "Fit it by least squares first"
        )
    normals, mean = means(drawn.pulls.normals)[full], means(drawn.pulls.distances[:, None])[:, 0]
    squares = means(((drawn.pulls.distances - mean[owner]) ** 2)[:, None])[:, 0]
    independent = np.maximum(np.minimum(count, count * sample.area / CORRELATION_LENGTH**2), 1.0)
    return _Cells(
        means(drawn.pulls.points)[full], normals / np.linalg.norm(normals, axis=1)[:, None], mean[full],
        standards=np.sqrt(squares / independent)[full],
    )  # fmt: skip


def _program(cells: Pulls, zone: Zone, options: BestFitOptions, scale: tuple[float, float]) -> Floats:
    """The step (6,) after which the worst cell lies outside by the least, as far as cells move in proportion to it."""
    from scipy.optimize import linprog

    size, bound = scale
    rows = cells.rows(size)
    moves = np.array([axis in options.motions or not options.motions for axis in AXES])
    ones = np.ones((len(rows), 1))
    above = np.hstack([rows, -ones]), zone.upper - cells.distances
    below = np.hstack([-rows, -ones]), cells.distances - zone.lower
    sides = [side for side in (above, below) if np.isfinite(side[1]).all()]
    # Each motion forth and back by itself, at a small price: what no cell needs is not moved.
    matrix = np.vstack([np.hstack([a[:, :6], -a[:, :6], a[:, 6:]]) for a, _ in sides])
    limits = 2 * [(0.0, bound if free else 0.0) for free in moves] + [(None, None)]
    price = np.r_[np.full(12, PRICE), 1.0]
    made = linprog(price, matrix, np.concatenate([b for _, b in sides]), bounds=limits, method="highs")
    if not made.success:
        return np.zeros(6)
    return np.asarray((made.x[:6] - made.x[6:12]) * np.repeat([1, 1 / size], 3))


def _reported(cells: _Cells, found: RigidTransform, zone: Zone, options: BestFitOptions, size: float) -> Alignment:
    excess = _excess(cells, zone)
    if np.isinf(zone.upper):
        least = zone.lower - excess
        words = (
            f"at least {least:.3f} mm of stock are left everywhere that was seen" if least >= 0
            else f"material is missing: in the best pose still {-least:.3f} mm at the worst place"
        )  # fmt: skip
    elif np.isinf(zone.lower):
        words = f"at most {zone.upper + excess:+.3f} mm stand proud anywhere that was seen"
    elif excess <= 0:
        words = f"all cells lie inside the zone, by {-excess:.3f} mm and more"
    else:
        words = f"no pose brings all cells inside the zone: the worst lie {excess:.3f} mm outside"
    free = motion_notes(cells, size, options.motions)
    covariance = _covariance(cells, zone, size)
    locked = dict.fromkeys(AXES, "zone") | {axis: "free" for axis in AXES if any(is_about(axis, w) for w in free)}
    locked |= {axis: "start" for axis in AXES if options.motions and axis not in options.motions}
    return Alignment(
        found, "fit into a zone", float(np.sqrt(np.mean(cells.distances**2))), len(cells.distances),
        frozen(covariance), frozen(cells.centre), locked, (words, *free),
    )  # fmt: skip


def _covariance(cells: _Cells, zone: Zone, size: float) -> Floats:
    """Only the cells that touch the zone decide where the scan lies; what they leave open is as it was."""
    off = np.maximum(cells.distances - zone.upper, zone.lower - cells.distances)
    rows = np.flatnonzero(off >= off.max() - max(3 * float(np.median(cells.standards)), 1e-6))
    gain = np.linalg.pinv(cells.rows(size)[rows], rcond=1e-3)
    scale = np.repeat([1, 1 / size], 3)
    return np.asarray((gain * cells.standards[rows] ** 2) @ gain.T * np.outer(scale, scale))
