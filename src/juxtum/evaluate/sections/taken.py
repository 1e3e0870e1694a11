"""A section of a scan that is laid in part coordinates: curves, deviations in the plane, lines and arcs."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Literal

import numpy as np

from juxtum.align import Alignment
from juxtum.errors import FitError
from juxtum.evaluate.deviation import Deviation, SearchRule
from juxtum.evaluate.sections._section_kernels import nearest_pieces, pieces_along
from juxtum.evaluate.sections.compound import DrawnSlot, corners, drawn_slots, measured_slot, rows_of
from juxtum.evaluate.sections.cutting import Curve, SectionPlane, cut
from juxtum.evaluate.sections.drawn import DrawnCurves, drawn_curves
from juxtum.evaluate.sections.pieces import (
    FEWEST,
    SectionFeature,
    Stretch,
    measured_piece,
    sampling_of,
    stretches,
    turn_of,
)
from juxtum.evaluate.uncertainty import Budget, Chain, Sampling, measured_length
from juxtum.geometry.arrays import Bools, Floats, Ints, cross, frozen
from juxtum.geometry.mesh import Scan
from juxtum.nominal.clearance import edge_margin

Along = Literal["surface", "right", "up"]
FLATTEST, STEEP = 0.17, 0.5
"""A surface whose normal leans into the plane by less than this sine is not held against the drawing; nor is a cloud slid on it."""
LEAST_SEEN = 2 / 3
"""Of a line or an arc, before it is given without a doubt."""


@dataclass(frozen=True, eq=False)
class Section:
    """What a plane shows of a part and of its scan.

    Parameters
    ----------
    plane : SectionPlane
    drawn : DrawnCurves
    measured : tuple of Curve
        Of a mesh; single points, each a curve of its own kind, of a cloud: see `points`.
    points : array (N, 2)
        All measured points, mm.
    runs : tuple of array
        Rows of those points that a curve joins, in order; empty for a cloud.
    feet : array (N, 2)
        Their nearest places on the drawn curves; NaN without one.
    deviations : array (N,)
        In the plane, + proud, - shy, mm; NaN without a nominal within the search limits.
    pieces, faces : array (N,)
        Drawn piece of each foot and its nominal face, by index from 0; -1 without one.
    seen : float
        Share of the drawn length that has measured points.
    features : tuple of SectionFeature
    """

    plane: SectionPlane
    drawn: DrawnCurves
    measured: tuple[Curve, ...]
    points: Floats
    runs: tuple[Ints, ...]
    feet: Floats
    deviations: Floats
    pieces: Ints
    faces: Ints
    seen: float
    features: tuple[SectionFeature, ...]
    is_cloud: bool = False

    @cached_property
    def found(self) -> Floats:
        """The deviations that there are (K,), mm."""
        return frozen(self.deviations[np.isfinite(self.deviations)])

    @cached_property
    def is_square(self) -> Bools:
        """Points (N,) that lie at a right angle over their foot; others are nearest to a corner or an end."""
        starts, ends, _ = self.drawn.pieces
        square = np.zeros(len(self.points), dtype=bool)
        rows = np.flatnonzero(self.pieces >= 0)
        way = (ends - starts)[self.pieces[rows]]
        way /= np.maximum(np.linalg.norm(way, axis=1), 1e-12)[:, None]
        off = self.points[rows] - self.feet[rows]
        aside = np.abs((off * way).sum(1))
        square[rows] = aside <= 0.3 * np.linalg.norm(off, axis=1) + 1e-3
        return square

    @property
    def measured_area(self) -> float | None:
        """Of the measured material, mm2; None where a measured curve is open."""
        is_whole = bool(self.measured) and all(curve.is_closed for curve in self.measured)
        return sum(curve.area for curve in self.measured) if is_whole else None

    @property
    def measured_length(self) -> float | None:
        """Of the measured curves, mm; None of single points."""
        return None if self.is_cloud else sum(curve.length for curve in self.measured)


@dataclass(frozen=True)
class SectionRule:
    """How a section is measured.

    Parameters
    ----------
    search : SearchRule
    along : "surface", "right" or "up"
        Deviations at a right angle to the drawn curve, or along one direction of the plane only.
    """

    search: SearchRule = field(default_factory=SearchRule)
    along: Along = "surface"


def take_section(
    deviation: Deviation,
    scan: Scan,
    laid: tuple[Alignment, Chain],
    plane: SectionPlane,
    rule: SectionRule | None = None,
) -> Section:
    """Cut nominal and scan with a plane, and hold one against the other in it.

    Parameters
    ----------
    deviation : Deviation
        Of the whole scan, in the alignment in force.
    scan : TriangleMesh or PointCloud
        The same scan; only its triangles are read.
    """
    rule = rule or SectionRule()
    drawn = drawn_curves(deviation.nominal, plane)
    triangles = scan.triangles
    pitch = _pitch(deviation)
    if len(triangles):
        keep = ~deviation.strays[triangles].any(1)
        curves = cut(deviation.points, triangles[keep], plane)
        points, outwards, leans, runs = _points_of(curves, _leans(deviation.points, triangles[keep], plane), pitch / 2)
    else:
        curves, runs = (), ()
        points, outwards, leans = _on_their_face(_points_near(deviation, plane, pitch), drawn, rule)
    feet, values, pieces = _held_against(points, outwards, drawn, rule)
    # Where the surface lies nearly in the plane, where it is cut is next to chance.
    values, pieces = np.where(leans < FLATTEST, np.nan, values), np.where(leans < FLATTEST, -1, pieces)
    owners = np.append(drawn.pieces[2], -1)
    faces = owners[pieces]
    values = values - laid[1].thickness_on(faces)
    lengths = _seen_pieces(drawn, points, outwards, max(2.5 * pitch, 0.05), rule)
    total = drawn.length
    made = _Made(deviation, laid[0], laid[1], plane, points, pieces, lengths)
    features = _features(made, feet, stretches(drawn))
    return Section(
        plane, drawn, curves, frozen(points), runs, frozen(feet), frozen(values), frozen(pieces, np.int64),
        frozen(faces, np.int64),
        float(lengths.sum() / total) if total > 0 else 0.0, features, not len(triangles),
    )  # fmt: skip


def _pitch(deviation: Deviation) -> float:
    """How far points are apart, mm; of a cloud with dense and sparse places what the sparse ones have."""
    even = float(np.sqrt(deviation.weights.sum() / max(len(deviation.weights), 1)))
    return max(deviation.spacing, even, 1e-6)


def _leans(points: Floats, triangles: Ints, plane: SectionPlane) -> Floats:
    """Of each triangle (M,) the share of its normal that lies in the plane: 0 of one that lies in it."""
    a, b, c = (points[triangles[:, k]] for k in range(3))
    normals = cross(b - a, c - a)
    return np.asarray(np.linalg.norm(plane.turn(normals), axis=1) / np.maximum(np.linalg.norm(normals, axis=1), 1e-300))


def _points_of(
    curves: tuple[Curve, ...], leans: Floats, stride: float
) -> tuple[Floats, Floats, Floats, tuple[Ints, ...]]:
    """Points of curves (N, 2), which ways are out of the material before and behind each (N, 4), how the surface leans there, and their rows.

    Directions are those of chords of a stride in mm: single pieces may be shorter than the noise and point anywhere.
    """
    points, outwards, leaning, runs, first = [], [], [], [], 0
    for curve in curves:
        lean = leans[curve.triangles]
        whole = lean if curve.is_closed else np.append(lean, lean[-1])
        points.append(curve.points)
        outwards.append(_outwards(curve, stride))
        leaning.append(np.maximum(whole, np.roll(lean, 1) if curve.is_closed else np.append(lean[0], lean)))
        rows = first + np.arange(len(curve.points))
        runs.append(np.append(rows, first) if curve.is_closed else rows)
        first += len(curve.points)
    if not points:
        return np.zeros((0, 2)), np.zeros((0, 4)), np.zeros(0), ()
    return np.concatenate(points), np.concatenate(outwards), np.concatenate(leaning), tuple(runs)


def _outwards(curve: Curve, stride: float) -> Floats:
    """Out of the material by the chord before and by that behind each point (N, 4); at an open end both are the one there is."""
    count = len(curve.points)
    along = np.concatenate([curve.points] * 3) if curve.is_closed else curve.points
    lengths = np.r_[0.0, np.cumsum(np.linalg.norm(np.diff(along, axis=0), axis=1))]
    rows = np.arange(count) + (count if curve.is_closed else 0)
    early = np.minimum(np.searchsorted(lengths, lengths[rows] - stride, side="right") - 1, rows - 1).clip(0)
    late = np.maximum(np.searchsorted(lengths, lengths[rows] + stride), rows + 1).clip(0, len(along) - 1)
    ways = [along[rows] - along[early], along[late] - along[rows]]
    outs = [np.column_stack([w[:, 1], -w[:, 0]]) / np.maximum(np.linalg.norm(w, axis=1), 1e-12)[:, None] for w in ways]
    if not curve.is_closed:
        outs[0][0], outs[1][-1] = outs[1][0], outs[0][-1]
    return np.hstack(outs)


def _points_near(deviation: Deviation, plane: SectionPlane, pitch: float) -> tuple[Floats, Floats, Ints]:
    """Points of a cloud within its spacing of the plane, slid along the surface into it; clear of edges, where no surface is to slide on."""
    heights = plane.heights(deviation.points)
    near = (np.abs(heights) < pitch) & deviation.found & deviation.inner & ~deviation.strays
    normals = deviation.normals[near]
    across = normals @ plane.normal
    along = plane.normal - across[:, None] * normals
    steep = 1 - across**2 > STEEP**2
    moved = deviation.points[near][steep] - (heights[near][steep] / (1 - across[steep] ** 2))[:, None] * along[steep]
    outwards = plane.turn(normals[steep])
    outwards /= np.maximum(np.linalg.norm(outwards, axis=1), 1e-12)[:, None]
    return plane.flat(moved), np.hstack([outwards, outwards]), deviation.faces[near][steep]


def _on_their_face(
    given: tuple[Floats, Floats, Ints], drawn: DrawnCurves, rule: SectionRule
) -> tuple[Floats, Floats, Floats]:
    """Of the points of a cloud those that lie over a drawn piece of their own face: others were slid past its border."""
    points, outwards, own = given
    feet, _, pieces = _held_against(points, outwards, drawn, SectionRule(rule.search))
    keep = (pieces >= 0) & (np.append(drawn.pieces[2], -1)[pieces] == own)
    starts, ends, _ = drawn.pieces
    way = (ends - starts)[np.maximum(pieces, 0)]
    way = way / np.maximum(np.linalg.norm(way, axis=1), 1e-12)[:, None]
    off = points - feet
    keep &= np.abs((off * way).sum(1)) <= 0.3 * np.linalg.norm(off, axis=1) + 1e-3
    return points[keep], outwards[keep], np.ones(int(keep.sum()))


def _held_against(
    points: Floats, outwards: Floats, drawn: DrawnCurves, rule: SectionRule
) -> tuple[Floats, Floats, Ints]:
    """Feet (N, 2), signed distances (N,) and the drawn pieces (N,), -1 where there is none."""
    starts, ends, _ = drawn.pieces
    limit, cosine = rule.search.limit, float(np.cos(np.radians(rule.search.angle)))
    given = (np.ascontiguousarray(points), np.ascontiguousarray(outwards), (starts, ends), limit, cosine)
    if rule.along == "surface":
        rows, feet, signed = nearest_pieces(*given)
    else:
        rows, feet, signed = pieces_along(*given, np.array([1.0, 0.0] if rule.along == "right" else [0.0, 1.0]))
    return feet, signed, rows


def _seen_pieces(drawn: DrawnCurves, points: Floats, outwards: Floats, reach: float, rule: SectionRule) -> Floats:
    """Of each drawn piece the length (M,) that has a measured point over it, mm."""
    starts, ends, _ = drawn.pieces
    if len(starts) == 0 or len(points) == 0:
        return np.zeros(len(starts))
    from scipy.spatial import cKDTree

    way = ends - starts
    lengths = np.linalg.norm(way, axis=1)
    parts = np.maximum(np.ceil(lengths / reach).astype(np.int64), 1)
    owner = np.repeat(np.arange(len(parts)), parts)
    share = (np.arange(parts.sum()) - np.repeat(np.cumsum(parts) - parts, parts) + 0.5) / parts[owner]
    middles = starts[owner] + share[:, None] * way[owner]
    outs = np.column_stack([way[:, 1], -way[:, 0]])[owner] / np.maximum(lengths, 1e-12)[owner, None]
    # Within the search limit across the curve, and beside it no farther than the data are apart.
    seen = np.zeros(len(middles), dtype=bool)
    tree = cKDTree(points)
    distances, near = tree.query(
        middles, k=min(12, len(points)), distance_upper_bound=float(np.hypot(rule.search.limit, reach))
    )
    distances, near = np.atleast_2d(distances.T).T, np.atleast_2d(near.T).T
    for column in range(near.shape[1]):
        there = np.isfinite(distances[:, column])
        rows = np.where(there, near[:, column], 0)
        offset = points[rows] - middles
        beside = np.abs(offset[:, 0] * -outs[:, 1] + offset[:, 1] * outs[:, 0])
        ways = outwards[rows]
        alike = np.maximum((ways[:, :2] * outs).sum(1), (ways[:, 2:] * outs).sum(1)) > np.cos(
            np.radians(rule.search.angle)
        )
        seen |= there & alike & (beside < reach)
    counted = np.bincount(owner, weights=seen, minlength=len(parts))
    return np.asarray(lengths * counted / parts)


@dataclass(frozen=True, eq=False)
class _Made:
    deviation: Deviation
    alignment: Alignment
    chain: Chain
    plane: SectionPlane
    points: Floats
    pieces: Ints
    lengths: Floats


def _features(made: _Made, feet: Floats, pieces: list[Stretch]) -> tuple[SectionFeature, ...]:
    """Lines and arcs in their order, then the slots and the corners that they make."""
    found = [_feature(made, stretch, number, feet) for number, stretch in enumerate(pieces, start=1)]
    slots = [
        _slot(made, slot, found, (len(pieces) + number, pieces))
        for number, slot in enumerate(drawn_slots(pieces), start=1)
    ]
    return (*found, *slots, *corners(pieces, found, len(found) + len(slots) + 1))


def _slot(
    made: _Made, slot: DrawnSlot, found: list[SectionFeature], given: tuple[int, list[Stretch]]
) -> SectionFeature:
    number, pieces = given
    walls = rows_of(slot, pieces)
    rows = np.flatnonzero(np.isin(made.pieces, walls))
    seen = float(made.lengths[walls].sum() / max(sum(pieces[k].length for k in slot.members), 1e-12))
    half = slot.drawn.length / 2 * slot.drawn.direction
    ends = frozen(np.stack([slot.drawn.point - half, slot.drawn.point + half]))
    reason = f"only {100 * seen:.0f} % of it was seen" if seen < LEAST_SEEN else ""
    bare = SectionFeature(
        f"slot {number}", "slot", found[slot.members[0]].face, slot.drawn, None, ends, len(rows), np.nan, seen, np.nan,
        None, reason,
    )  # fmt: skip
    if any(found[k].measured is None for k in slot.members):
        return replace(bare, reason="not all of its sides and ends are measured")
    return measured_slot(slot, bare, made.points[rows], made.chain)


def _feature(made: _Made, stretch: Stretch, number: int, feet: Floats) -> SectionFeature:
    total = max(stretch.length, 1e-12)
    seen = float(made.lengths[stretch.rows].sum() / total)
    rows = np.flatnonzero(_belongs(made, stretch, feet))
    ends = frozen(stretch.points[[0, -1]])
    name = f"{stretch.shape} {number}"
    bare = SectionFeature(
        name, stretch.shape, stretch.face + 1, stretch.drawn, None, ends, len(rows), np.nan, seen, np.nan, None
    )
    if len(rows) < FEWEST:
        return replace(bare, reason="the scan shows too little of it")
    try:
        fitted = measured_piece(stretch, made.points[rows])
    except FitError as problem:
        return replace(bare, reason=problem.what)
    # A coat lies outwards of every point alike, so it comes off the deviation as it comes off the points.
    coat = float(made.chain.thickness_on(np.array([stretch.face]))[0])
    budget = _budget(made, stretch, sampling_of(fitted.gain, fitted.spread, total))
    reason = f"only {100 * seen:.0f} % of it was seen" if seen < LEAST_SEEN else ""
    whole = replace(
        bare, measured=fitted.piece, form=fitted.form, deviation=fitted.deviation - coat, budget=budget, reason=reason,
        place=fitted.place(total),
    )  # fmt: skip
    if stretch.shape != "line":
        return whole
    turn, counted = turn_of(stretch, fitted.piece, made.points[rows])
    # What the instrument may be off by from one end of the line to the other turns it.
    ends_apart = made.chain.form_budget(total, Sampling(0.0, len(rows)), stretch.face + 1)
    data = sampling_of(counted, fitted.spread, total).standard
    return replace(whole, turn=turn, turn_expanded=2.0 * float(np.hypot(data, np.degrees(ends_apart.standard / total))))


def _budget(made: _Made, stretch: Stretch, sampling: Sampling) -> Budget:
    """Of a line's offset the alignment is a part; a radius does not know where the part lies."""
    face = stretch.face + 1
    if stretch.shape != "line":
        return made.chain.budget(2 * abs(stretch.drawn.radius), sampling, 0.0, face)
    place = made.plane.space(stretch.drawn.point[None])[0]
    outward = np.array([stretch.drawn.direction[1], -stretch.drawn.direction[0]]) @ made.plane.axes
    spread = float(made.alignment.point_uncertainty(place[None], outward[None])[0])
    length = measured_length(made.alignment, place, made.deviation.nominal.mesh.bounds)
    return made.chain.budget(length, sampling, spread, face)


def _belongs(made: _Made, stretch: Stretch, feet: Floats) -> Bools:
    """Measured points over a drawn stretch, clear of its ends."""
    mine = np.isin(made.pieces, stretch.rows)
    if stretch.shape == "circle":
        return np.asarray(mine)
    margin = min(edge_margin(made.deviation.spacing, made.deviation.nominal.diagonal), stretch.length / 4)
    far = np.minimum(*(np.linalg.norm(feet - end, axis=1) for end in stretch.points[[0, -1]]))
    return np.asarray(mine & (far > margin))
