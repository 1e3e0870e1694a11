"""Alignment to a datum system: the first datum locks what it can, each next one only what is still free."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from juxtum.align.best_fit import free_motion
from juxtum.align.result import AXES, Alignment
from juxtum.associate import without_outliers
from juxtum.associate.coaxial import fit_coaxial
from juxtum.associate.fit import inliers
from juxtum.associate.solve import gauss
from juxtum.errors import AlignmentError, FitError, InputError
from juxtum.geometry import Cone, Cylinder, Feature, Plane, RigidTransform
from juxtum.geometry.arrays import Floats, frozen, orthonormal_frame
from juxtum.geometry.features import Line
from juxtum.geometry.mesh import Scan
from juxtum.nominal import Nominal, faces_mask
from juxtum.nominal.clearance import clear_points, edge_margin, or_in_the_middle
from juxtum.nominal.common import common_feature, two_bearings

WELL_SEEN = 2 / 3
"""Share of a datum that must have been seen before nothing has to be said."""
DIFFERENCE = 1e-6
"""Step of a derivative, mm or radians."""
PARALLEL = 1e-4
"""Features whose directions differ by less (radians) hold nothing more together than one of them alone."""


@dataclass(frozen=True)
class DatumFeature:
    """A datum: its letter and the nominal faces that make it."""

    letter: str
    faces: tuple[int, ...]


@dataclass(frozen=True, eq=False)
class AssociatedDatum:
    """A datum as it was drawn and as it was measured."""

    letter: str
    nominal: Feature
    measured: Feature
    """In scan coordinates."""
    count: int
    rms: float
    covariance: Floats
    """Of a step of the measured feature."""
    note: str
    """What has to be told of it, or ""."""


def datum_alignment(
    scan: Scan, nominal: Nominal, start: RigidTransform, datums: tuple[DatumFeature, ...], coat: Floats | None = None
) -> Alignment:
    """Lock the part to its datums in their order (ISO 5459), each associated by least squares.

    Parameters
    ----------
    coat : array (F,), optional
        Thickness of the coat on each nominal face, mm: a coated plane was scanned so far outside of the part.

    Raises
    ------
    InputError
        When a face cannot serve as a datum.
    AlignmentError
        When a datum is not seen.

    Notes
    -----
    What the datums leave free, such as the turn of a shaft about its axis, stays where the start had it and is noted.
    """
    if not datums:
        raise InputError(
            "the datum system has no datums", "datum system", "Pick at least a plane and two more features"
        )
    if len({d.letter for d in datums}) != len(datums):
        raise InputError("two datums have the same letter", "datum system", "Give each its own")
    associated = [_bare(_associate(scan, nominal, start, datum), nominal, datum, coat) for datum in datums]
    anchors = frozen(np.array([np.mean([nominal.face(n).centre for n in datum.faces], axis=0) for datum in datums]))
    return replace(locked_to(associated, nominal, start), anchors=anchors)


def locked_to(associated: Sequence[AssociatedDatum], nominal: Nominal, start: RigidTransform) -> Alignment:
    """Lock a part to datums that are measured already, in their order.

    Parameters
    ----------
    associated : sequence of AssociatedDatum
        What was measured in the frame that `start` leads from.
    """
    size = nominal.diagonal / 2
    centre = nominal.centre
    transform = start
    for _ in range(30):
        twist = _sequential_step(associated, transform, centre, size).twist
        transform = RigidTransform.about(centre, twist) @ transform
        if np.linalg.norm(twist[:3]) + size * np.linalg.norm(twist[3:]) < 1e-9:
            break
    last = _sequential_step(associated, transform, centre, size)
    locked = dict.fromkeys(AXES, "free") | last.locked
    name = "datums " + "|".join(d.letter for d in associated)
    notes = (
        *(f"the {name} leave the part {words}; that stays as the start had it" for words in last.free),
        *(a.note for a in associated if a.note),
    )
    used = sum(a.count for a in associated)
    rms = float(np.sqrt(sum(a.count * a.rms**2 for a in associated) / used))
    return Alignment(transform, name, rms, used, frozen(last.covariance), centre, locked, notes)


def datum_feature(nominal: Nominal, datum: DatumFeature) -> Feature:
    """The nominal feature of a datum: the one on which its faces lie, or the axis of two cylinders about it."""
    bearings = two_bearings(nominal, datum.faces)
    if bearings is None:
        return common_feature(nominal, datum.faces, f"datum {datum.letter}")
    one = common_feature(nominal, bearings[0], f"datum {datum.letter}")
    assert isinstance(one, Cylinder)
    middle = np.mean([nominal.middle_of(faces) for faces in bearings], axis=0)
    return Line(one.anchored(middle).point, one.axis)


def datum_points(scan: Scan, nominal: Nominal, start: RigidTransform, datum: DatumFeature) -> Floats:
    """Scan points (N, 3) in scan coordinates nearest to the datum's faces that count, see `clear_points`."""
    points = start.apply(scan.points)
    margin = edge_margin(scan.spacing, nominal.diagonal)
    low, high = nominal.face_mesh(datum.faces).bounds
    reach = max(2.0, margin)
    close = np.flatnonzero(((points > low - reach) & (points < high + reach)).all(1))
    normals = scan.normals
    directions = None if normals is None else start.turn(normals[close])
    found = nominal.projector.project(points[close], directions, limit=2.0)
    clear = clear_points(scan, nominal, found, close)
    mine = np.flatnonzero(faces_mask(found.faces, datum.faces) & ~found.on_border)
    counts = or_in_the_middle(nominal, clear[mine], found.feet[mine], found.faces[mine], margin)
    close = close[mine[counts]]
    if len(close) < 30:
        what = f"only {len(close)} points of the scan lie on it"
        raise AlignmentError(what, f"datum {datum.letter}", "Choose a datum that the scan shows")
    return scan.points[close]


def _associate(scan: Scan, nominal: Nominal, start: RigidTransform, datum: DatumFeature) -> AssociatedDatum:
    feature = datum_feature(nominal, datum)
    points = datum_points(scan, nominal, start, datum)
    note = _half_seen(nominal, datum, start.apply(points), scan.spacing)
    bearings = two_bearings(nominal, datum.faces)
    try:
        if bearings is not None:
            return _between_bearings(scan, nominal, start, datum, note)
        fit = without_outliers(feature.moved(start.inverse), points)
    except FitError as problem:
        raise AlignmentError(problem.what, f"datum {datum.letter}", problem.next) from problem
    return AssociatedDatum(datum.letter, feature, fit.feature, fit.count, fit.rms, fit.covariance, note)


def _between_bearings(
    scan: Scan, nominal: Nominal, start: RigidTransform, datum: DatumFeature, note: str
) -> AssociatedDatum:
    """The axis of two cylinders together: a shaft turns about both of its bearings."""
    cleaned, drawn = [], datum_feature(nominal, datum)
    for faces in two_bearings(nominal, datum.faces) or ():
        points = datum_points(scan, nominal, start, DatumFeature(datum.letter, faces))
        own = common_feature(nominal, faces, f"datum {datum.letter}").moved(start.inverse)
        found = gauss(own, points).feature
        cleaned.append((found, points[inliers(found.distances(points))]))
    (first, one), (_, two) = cleaned
    assert isinstance(first, Cylinder) and isinstance(drawn, Line)
    fit = fit_coaxial(one, two, first)
    measured = fit.feature.anchored(start.inverse.apply(drawn.point[None])[0])
    if start.turn(measured.axis[None])[0] @ drawn.axis < 0:
        measured = Line(measured.point, -measured.axis)
    return AssociatedDatum(datum.letter, drawn, measured, fit.count, fit.rms, fit.covariance, note)


def _half_seen(nominal: Nominal, datum: DatumFeature, places: Floats, spacing: float) -> str:
    """A note when a good part of a datum was not seen: its far end is extended from what was."""
    from scipy.spatial import cKDTree

    samples = nominal.samples
    rows = np.flatnonzero(faces_mask(samples.faces, datum.faces))
    reach = edge_margin(spacing, nominal.diagonal) + 3 * spacing + samples.size
    apart, _ = cKDTree(places).query(samples.centres[rows], distance_upper_bound=reach)
    areas = samples.mesh.triangle_areas[rows]
    seen = float(areas[np.isfinite(apart)].sum() / areas.sum())
    return (
        f"only {100 * seen:.0f} % of datum {datum.letter} was seen; the rest of it is extended from there"
        if seen < WELL_SEEN
        else ""
    )


def _bare(found: AssociatedDatum, nominal: Nominal, datum: DatumFeature, coat: Floats | None) -> AssociatedDatum:
    """A plane or cone without its coat; what the others hold is the same with it."""
    if coat is None:
        return found
    thickness = float(np.mean([coat[number - 1] for number in datum.faces]))
    measured = found.measured
    if isinstance(measured, Plane):
        return replace(found, measured=Plane(measured.point - thickness * measured.normal, measured.normal))
    if isinstance(measured, Cone):
        thickness *= _sense(found.nominal, nominal, datum.faces[0])
        return replace(
            found, measured=replace(measured, radius=measured.radius - thickness / np.cos(measured.half_angle))
        )
    return found


def _sense(feature: Feature, nominal: Nominal, number: int) -> float:
    """1 where distances from a feature grow out of the material of a face, -1 where they grow into it."""
    row = int(np.flatnonzero(nominal.triangle_faces == number - 1)[0])
    centre, normal = nominal.mesh.corners[row].mean(0), nominal.mesh.triangle_normals[row]
    before, after = feature.distances(np.stack([centre, centre + 0.01 * normal]))
    return float(np.sign(after - before))


def _misses(nominal: Feature, measured: Feature) -> tuple[Floats, Floats, Floats, Floats]:
    """What a measured feature misses its nominal one by in turn and place (K,), and what that is made of.

    Returns
    -------
    misses : array (K,)
        Turns come first: a datum's direction binds before its place.
    axes : array (K, 3)
        Along which each is taken.
    direction, place : array (3,)
        Of the measured feature; the place is the one nearest to the nominal one's, so that tilt and place do not mix.
    """
    held, found = nominal.holds(), measured.holds()
    place = found.brought_to(held.place)
    if held.direction is None or found.direction is None:
        return -held.shifts @ (place - held.place), held.shifts, np.zeros(3), place
    across = orthonormal_frame(held.direction)[:2]
    misses = np.concatenate([-across @ found.direction, -held.shifts @ (place - held.place)])
    return misses, np.concatenate([across, held.shifts]), found.direction, place


def _rows(nominal: Feature, measured: Feature, centre: Floats) -> tuple[Floats, Floats, int]:
    """Linearised conditions (K, 6) on shift and turn about `centre`, what they still miss (K,), and how many are of turns."""
    misses, axes, direction, place = _misses(nominal, measured)
    turns = len(axes) - len(nominal.holds().shifts)
    turning = [np.r_[np.zeros(3), np.cross(direction, axis)] for axis in axes[:turns]]
    shifting = [np.r_[axis, np.cross(place - centre, axis)] for axis in axes[turns:]]
    return np.array([*turning, *shifting]), misses, turns


@dataclass(frozen=True, eq=False)
class _Step:
    """A twist (6,), what locks each motion, the covariance of the twist, and what is left free, in words."""

    twist: Floats
    locked: dict[str, str]
    covariance: Floats
    free: tuple[str, ...]


def _noise(datum: AssociatedDatum, transform: RigidTransform) -> Floats:
    """Covariance (K, K) of what the conditions of `_rows` miss, from that of the fitted numbers, by differences."""
    count = len(datum.covariance)
    at = _misses(datum.nominal, datum.measured.moved(transform))[0]
    stepped = (datum.measured.stepped(row).moved(transform) for row in DIFFERENCE * np.eye(count))
    jacobian = np.stack([(_misses(datum.nominal, feature)[0] - at) / DIFFERENCE for feature in stepped], axis=1)
    return np.asarray(jacobian @ datum.covariance @ jacobian.T)


def _sequential_step(
    datums: Sequence[AssociatedDatum], transform: RigidTransform, centre: Floats, size: float
) -> _Step:
    """One step: each condition is met as far as the earlier ones leave it free.

    What a datum locks is told by the drawing alone: a measured hole is never quite square to a measured plane, and by that
    little it would lock the turn about itself, with whatever its noise says.
    """
    scale = np.array([1, 1, 1, 1 / size, 1 / size, 1 / size])
    free, drawn_free = np.eye(6), np.eye(6)
    step, covariance = np.zeros(6), np.zeros((6, 6))
    locked: dict[str, str] = {}
    for datum in datums:
        rows, misses, turns = _rows(datum.nominal, datum.measured.moved(transform), centre)
        drawn, _, _ = _rows(datum.nominal, datum.nominal, centre)
        # What this datum's misses bring, and what its conditions make of the errors of those before it.
        own, earlier = np.zeros((6, len(misses))), np.eye(6)
        # Turns count by what they move at the part's ends, so that a part of 25 m is held as one of 25 mm is.
        for group, unit in ((slice(0, turns), size), (slice(turns, None), 1.0)):
            _, values, drawn_vt = np.linalg.svd(unit * drawn[group] * scale @ drawn_free)
            rank = int((values > PARALLEL).sum())
            if rank == 0:
                continue
            drawn_free = drawn_free @ drawn_vt[rank:].T
            u, values, vt = np.linalg.svd(unit * rows[group] * scale @ free)
            solve = unit * free @ vt[:rank].T @ np.diag(1 / values[:rank]) @ u[:, :rank].T
            conditions = rows[group] * scale
            step = step + solve @ (misses[group] - conditions @ step)
            own, earlier = own - solve @ (conditions @ own), earlier - solve @ (conditions @ earlier)
            own[:, group] += solve
            free = free @ vt[rank:].T
        covariance = earlier @ covariance @ earlier.T + own @ _noise(datum, transform) @ own.T
        locked |= {axis: datum.letter for axis in _held(drawn_free) if axis not in locked}
    left = tuple(free_motion(column * scale, centre) for column in drawn_free.T)
    return _Step(step * scale, locked, covariance * np.outer(scale, scale), left)


def left_free(features: Sequence[Feature], centre: Floats, size: float) -> Floats:
    """Motions (K, 6) about `centre` that datums leave free as drawn: shifts in mm, turns in radians.

    Parameters
    ----------
    size : float
        Of the part, mm.
    """
    scale = np.array([1, 1, 1, 1 / size, 1 / size, 1 / size])
    rows = np.concatenate([_weighed(feature, centre, size) for feature in features]) * scale
    _, values, vt = np.linalg.svd(rows)
    return np.asarray(vt[int((values > PARALLEL).sum()) :] * scale)


def touched_by(feature: Feature, motions: Floats, centre: Floats) -> bool:
    """Whether one of some motions (K, 6) about `centre` moves or turns a feature as a datum would notice it."""
    return bool(len(motions) and np.abs(_rows(feature, feature, centre)[0] @ motions.T).max() > PARALLEL)


def _weighed(feature: Feature, centre: Floats, size: float) -> Floats:
    rows, _, turns = _rows(feature, feature, centre)
    rows[:turns] *= size
    return rows


def _held(free: Floats) -> list[str]:
    """The motions along and about the part's axes that are locked: no shift is left along it, or no turn about it.

    A turn about a hole moves the middle of the part too, but that is no shift: the hole has locked both.
    """
    if free.shape[1] == 0:
        return list(AXES)
    _, values, vt = np.linalg.svd(free[3:])
    shifts = free[:3] @ vt[int((values > PARALLEL).sum()) :].T
    left = np.concatenate([np.abs(shifts).max(1, initial=0.0), np.abs(free[3:]).max(1)])
    return [axis for axis, share in zip(AXES, left, strict=True) if share < PARALLEL]
