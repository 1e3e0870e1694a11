"""Readings: the deviation at a place, with its uncertainty."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from juxtum.align import Alignment
from juxtum.associate.solve import effective_count
from juxtum.errors import InputError
from juxtum.evaluate.decision import Verdict
from juxtum.evaluate.deviation import Deviation
from juxtum.evaluate.uncertainty import Budget, Chain, Sampling, measured_length
from juxtum.geometry.arrays import Floats, frozen
from juxtum.nominal import Nominal

RADIUS = 1.0
"""A reading is the mean over the points whose feet lie within this of its place, mm."""


@dataclass(frozen=True, eq=False)
class Reading:
    """The deviation at one place of the nominal.

    Parameters
    ----------
    label : str
    place, normal : array (3,)
        On the nominal surface.
    face : int
        Number of the nominal face.
    deviation : float
        mm; NaN when nothing was seen there.
    count : int
        Points behind it.
    budget : Budget
    limits : (float, float), optional
        Lower and upper limit of the face that it lies on, mm; None where no characteristic has any for it.
    """

    label: str
    place: Floats
    normal: Floats
    face: int
    deviation: float
    count: int
    budget: Budget
    limits: tuple[float, float] | None = None

    @property
    def is_seen(self) -> bool:
        """Whether the scan shows the place."""
        return self.count > 0

    @property
    def expanded(self) -> float:
        """Expanded uncertainty, mm."""
        return self.budget.expanded


def standing(reading: Reading) -> Verdict:
    """On which side of its face's limits a reading lies; not decided where its uncertainty reaches over, or one of them is not known."""
    if reading.limits is None or not reading.is_seen or not np.isfinite(reading.expanded):
        return Verdict.NOT_DECIDED
    lower, upper = reading.limits
    room = min(upper - reading.deviation, reading.deviation - lower)
    if abs(room) < reading.expanded:
        return Verdict.NOT_DECIDED
    return Verdict.CONFORMS if room > 0 else Verdict.DOES_NOT_CONFORM


def take_reading(deviation: Deviation, alignment: Alignment, chain: Chain, place: Floats, label: str) -> Reading:
    """Read the map at a place in part coordinates (3,).

    Raises
    ------
    InputError
        When the place is farther than 20 mm from the nominal.
    """
    foot = deviation.nominal.projector.project(np.asarray(place, dtype=np.float64)[None], limit=20.0)
    if foot.faces[0] < 0:
        raise InputError(
            "there is no nominal surface within 20 mm", f"reading at {_text(place)}", "Give a place on the part"
        )
    spot, normal = foot.feet[0], foot.normals[0]
    rows = rows_near(deviation, spot, normal, max(RADIUS, 1.5 * deviation.spacing))
    values = deviation.distances[rows]
    values = values - chain.thickness_on(deviation.faces[rows])
    value, sampling = _mean(values, RADIUS)
    freedom = max(len(values) - 1.0, 1.0)
    if len(values) == 1:
        # One point says nothing of its own noise; the others of the scan do.
        sampling, freedom = deviation.noise, np.inf
    spread = float(alignment.point_uncertainty(spot[None], normal[None])[0])
    length = measured_length(alignment, spot, deviation.nominal.mesh.bounds)
    budget = chain.budget(length, Sampling(sampling, len(rows), freedom), spread, int(foot.faces[0]) + 1)
    return Reading(label, frozen(spot), frozen(normal), int(foot.faces[0]) + 1, value, len(rows), budget)


def _text(place: Floats) -> str:
    return "(" + ", ".join(f"{v:.1f}" for v in np.asarray(place)) + ")"


def rows_near(deviation: Deviation, spot: Floats, normal: Floats, radius: float) -> Floats:
    """Rows of the points whose feet lie near a spot and look the same way."""
    tree, owners = deviation.foot_tree
    if tree is None:
        return np.empty(0, dtype=np.int64)
    rows = owners[np.array(sorted(tree.query_ball_point(spot, radius)), dtype=np.int64)]
    return np.asarray(rows[deviation.normals[rows] @ normal > 0.7])


def _mean(values: Floats, radius: float) -> tuple[float, float]:
    """Mean and its standard uncertainty; neighbouring points share their errors."""
    if len(values) == 0:
        return float("nan"), float("nan")
    if len(values) == 1:
        return float(values[0]), float("nan")
    independent = effective_count(len(values), np.pi * radius**2)
    return float(values.mean()), float(values.std(ddof=1) / np.sqrt(independent))


def grid_places(nominal: Nominal, face: int, spacing: float, margin: float = 2.0) -> Floats:
    """Places (N, 3) about `spacing` mm apart over a nominal face, clear of its edges.

    Raises
    ------
    InputError
        When the spacing would give more than 400 places, or none.
    """
    from scipy.spatial import cKDTree

    if not spacing > 0:
        raise InputError("the spacing of the grid is not positive", f"face {face}", "Give a spacing in mm")
    area = nominal.face(face).area
    if area / spacing**2 > 400:
        raise InputError(
            f"a spacing of {spacing:g} mm gives more than 400 readings", f"face {face}", "Choose a wider one"
        )
    centres = nominal.samples.centres[nominal.samples.faces == face - 1]
    centres = centres[nominal.edge_distances(centres, margin) >= margin]
    if len(centres) == 0:
        raise InputError("the face is too narrow for a grid", f"face {face}", "Pick single readings on it")
    tree = cKDTree(centres)
    free = np.ones(len(centres), dtype=bool)
    chosen = []
    for row in np.lexsort(np.round(centres, 3).T):
        if free[row]:
            chosen.append(row)
            free[tree.query_ball_point(centres[row], spacing)] = False
    return np.asarray(nominal.projector.project(centres[chosen]).feet)
