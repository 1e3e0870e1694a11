"""Alignment to a datum system: the first datum locks what it can, each next one only what is still free."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from juxtum.align.best_fit import free_motion
from juxtum.align.result import AXES, Alignment
from juxtum.associate import fit_cylinder, fit_plane
from juxtum.associate.gauss import inliers
from juxtum.errors import AlignmentError, FitError, InputError
from juxtum.geometry import Cylinder, Plane, RigidTransform
from juxtum.geometry.arrays import Floats, frozen, orthonormal_frame
from juxtum.geometry.mesh import Scan
from juxtum.nominal import Nominal, faces_mask

EDGE_MARGIN = 1.5
"""Points nearer than this to a sharp edge of the nominal do not count for a datum, mm."""

WELL_SEEN = 2 / 3
"""Share of a datum that must have been seen before nothing has to be said."""
PARALLEL = 1e-4
"""Features whose directions differ by less (radians) hold nothing more together than one of them alone."""


@dataclass(frozen=True)
class DatumFeature:
    """A datum: its letter and the nominal faces that make it."""

    letter: str
    faces: tuple[int, ...]


@dataclass(frozen=True, eq=False)
class _Associated:
    letter: str
    nominal: Plane | Cylinder
    measured: Plane | Cylinder
    """In scan coordinates."""
    count: int
    rms: float
    covariance: Floats
    """Of the fitted numbers: a plane's offset and its two tilts, or a cylinder's two offsets and two tilts."""
    note: str
    """What has to be told of it, or ""."""
    across: Floats
    """The two directions (2, 3) of these tilts and offsets, in scan coordinates."""


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
        raise InputError("the datum system has no datums", "datum system", "Pick at least a plane and two more features")
    if len({d.letter for d in datums}) != len(datums):
        raise InputError("two datums have the same letter", "datum system", "Give each its own")
    associated = [_bare(_associate(scan, nominal, start, datum), datum, coat) for datum in datums]
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
    name = "datums " + "|".join(d.letter for d in datums)
    notes = (*(f"the {name} leave the part {words}; that stays as the start had it" for words in last.free), *(a.note for a in associated if a.note))
    used = sum(a.count for a in associated)
    rms = float(np.sqrt(sum(a.count * a.rms**2 for a in associated) / used))
    anchors = frozen(np.array([np.mean([nominal.face(n).centre for n in datum.faces], axis=0) for datum in datums]))
    return Alignment(transform, name, rms, used, frozen(last.covariance), centre, locked, notes, anchors=anchors)


def datum_primitive(nominal: Nominal, datum: DatumFeature) -> Plane | Cylinder:
    """The nominal plane or cylinder of a datum; its faces must lie on one and the same."""
    where = f"datum {datum.letter}"
    if not datum.faces:
        raise InputError("no face is named", where, "Pick one on the nominal")
    faces = [nominal.face(number) for number in datum.faces]
    first = faces[0].primitive
    if first is None:
        what = f"face {faces[0].number} is {faces[0].kind}, which cannot be a datum yet"
        raise InputError(what, where, "Pick a plane or a cylinder")
    for face in faces[1:]:
        if not _same(first, face.primitive):
            raise InputError(f"faces {faces[0].number} and {face.number} do not lie on one {faces[0].kind}", where, "Pick others")
    return first


def _same(a: Plane | Cylinder, b: Plane | Cylinder | None) -> bool:
    if isinstance(a, Plane) and isinstance(b, Plane):
        return bool(a.normal @ b.normal > 1 - 1e-9 and abs(a.distances(b.point[None])[0]) < 1e-4)
    if isinstance(a, Cylinder) and isinstance(b, Cylinder):
        apart = float(np.linalg.norm(a.radial(b.point[None])[0]))
        return bool(abs(a.axis @ b.axis) > 1 - 1e-9 and apart < 1e-4 and abs(a.radius - b.radius) < 1e-4)
    return False


def datum_points(scan: Scan, nominal: Nominal, start: RigidTransform, datum: DatumFeature) -> Floats:
    """Scan points (N, 3) in scan coordinates nearest to the datum's faces, away from sharp edges."""
    points = start.apply(scan.points)
    low, high = nominal.face_mesh(datum.faces).bounds
    close = np.flatnonzero(((points > low - 2) & (points < high + 2)).all(1))
    normals = scan.normals
    directions = None if normals is None else start.turn(normals[close])
    found = nominal.projector.project(points[close], directions, limit=2.0)
    mine = faces_mask(found.faces, datum.faces) & ~found.on_border
    close, feet = close[mine], found.feet[mine]
    close = close[nominal.edge_distances(feet, EDGE_MARGIN) >= EDGE_MARGIN]
    if len(close) < 30:
        what = f"only {len(close)} points of the scan lie on it"
        raise AlignmentError(what, f"datum {datum.letter}", "Choose a datum that the scan shows")
    return scan.points[close]


def _associate(scan: Scan, nominal: Nominal, start: RigidTransform, datum: DatumFeature) -> _Associated:
    primitive = datum_primitive(nominal, datum)
    points = datum_points(scan, nominal, start, datum)
    note = _half_seen(nominal, datum, start.apply(points), scan.spacing)
    back = start.inverse
    try:
        if isinstance(primitive, Plane):
            towards = back.turn(primitive.normal)
            first = fit_plane(points, towards)
            plane = fit_plane(points[inliers(first.plane.distances(points))], towards)
            return _Associated(datum.letter, primitive, plane.plane, plane.count, plane.rms, plane.covariance, note, plane.across)
        guess = Cylinder(back.apply(primitive.point), back.turn(primitive.axis), primitive.radius)
        rough = fit_cylinder(points, guess)
        fit = fit_cylinder(points[inliers(rough.cylinder.distances(points))], rough.cylinder)
        return _Associated(datum.letter, primitive, fit.cylinder, fit.count, fit.rms, fit.covariance[:4, :4], note, fit.across)
    except FitError as problem:
        raise AlignmentError(problem.what, f"datum {datum.letter}", problem.next) from problem


def _half_seen(nominal: Nominal, datum: DatumFeature, places: Floats, spacing: float) -> str:
    """A note when a good part of a datum was not seen: its far end is extended from what was."""
    from scipy.spatial import cKDTree

    samples = nominal.samples
    rows = np.flatnonzero(faces_mask(samples.faces, datum.faces))
    reach = EDGE_MARGIN + 3 * spacing + samples.size
    apart, _ = cKDTree(places).query(samples.centres[rows], distance_upper_bound=reach)
    areas = samples.mesh.triangle_areas[rows]
    seen = float(areas[np.isfinite(apart)].sum() / areas.sum())
    return f"only {100 * seen:.0f} % of datum {datum.letter} was seen; the rest of it is extended from there" if seen < WELL_SEEN else ""


def _bare(found: _Associated, datum: DatumFeature, coat: Floats | None) -> _Associated:
    """A plane without its coat; a cylinder's axis is the same with it."""
    if coat is None or not isinstance(found.measured, Plane):
        return found
    thickness = float(np.mean([coat[number - 1] for number in datum.faces]))
    return replace(found, measured=Plane(found.measured.point - thickness * found.measured.normal, found.measured.normal))


def _rows(datum: _Associated, transform: RigidTransform, centre: Floats) -> tuple[Floats, Floats]:
    """Linearised conditions (K, 6) on shift and turn about `centre`, and what they still miss (K,).

    Turns come first: a datum's direction binds before its place.
    """
    frame = orthonormal_frame(datum.nominal.normal if isinstance(datum.nominal, Plane) else datum.nominal.axis)
    u, v, w = frame
    if isinstance(datum.nominal, Plane) and isinstance(datum.measured, Plane):
        direction, places = transform.turn(datum.measured.normal), [w]
    else:
        assert isinstance(datum.measured, Cylinder)
        direction, places = transform.turn(datum.measured.axis), [u, v]
        direction = direction * np.sign(direction @ w)
    # The point of the measured feature nearest to the nominal one's reference point, so that tilt and place do not mix.
    place = transform.apply(datum.measured.point)
    if len(places) == 1:
        place = datum.nominal.point + direction * ((place - datum.nominal.point) @ direction)
    else:
        place = place + direction * ((datum.nominal.point - place) @ direction)
    turning = [(np.r_[np.zeros(3), np.cross(direction, axis)], -float(direction @ axis)) for axis in (u, v)]
    arm = place - centre
    shifting = [(np.r_[axis, np.cross(arm, axis)], -float((place - datum.nominal.point) @ axis)) for axis in places]
    rows, misses = zip(*turning, *shifting, strict=True)
    return np.array(rows), np.array(misses)


@dataclass(frozen=True, eq=False)
class _Step:
    """A twist (6,), what locks each motion, the covariance of the twist, and what is left free, in words."""

    twist: Floats
    locked: dict[str, str]
    covariance: Floats
    free: tuple[str, ...]


def _noise(datum: _Associated, transform: RigidTransform) -> Floats:
    """Covariance (K, K) of what the conditions of `_rows` miss, from that of the fitted numbers."""
    u, v, w = orthonormal_frame(datum.nominal.normal if isinstance(datum.nominal, Plane) else datum.nominal.axis)
    first, second = transform.turn(datum.across)
    to_nominal = datum.nominal.point - transform.apply(datum.measured.point)
    if isinstance(datum.measured, Plane):
        tilts = np.array([np.zeros(3), first, second])
        along = np.array([1.0, -to_nominal @ first, -to_nominal @ second])
        jacobian = np.stack([tilts @ u, tilts @ v, along])
    else:
        axis = transform.turn(datum.measured.axis)
        sense = np.sign(axis @ w)
        tilts = sense * np.array([np.zeros(3), np.zeros(3), -second, first])
        moved = np.array([first, second, np.zeros(3), np.zeros(3)]) + (to_nominal @ axis) * sense * tilts
        jacobian = np.stack([tilts @ u, tilts @ v, moved @ u, moved @ v])
    return np.asarray(jacobian @ datum.covariance @ jacobian.T)


def _sequential_step(
    datums: list[_Associated], transform: RigidTransform, centre: Floats, size: float
) -> _Step:
    """One step: each condition is met as far as the earlier ones leave it free."""
    scale = np.array([1, 1, 1, 1 / size, 1 / size, 1 / size])
    free = np.eye(6)
    step, covariance = np.zeros(6), np.zeros((6, 6))
    locked: dict[str, str] = {}
    for datum in datums:
        rows, misses = _rows(datum, transform, centre)
        # What this datum's misses bring, and what its conditions make of the errors of those before it.
        own, earlier = np.zeros((6, len(misses))), np.eye(6)
        # Turns count by what they move at the part's ends, so that a part of 25 m is held as one of 25 mm is.
        for group, unit in ((slice(0, 2), size), (slice(2, None), 1.0)):
            scaled = unit * rows[group] * scale
            inside = scaled @ free
            u, values, vt = np.linalg.svd(inside)
            rank = int((values > PARALLEL).sum())
            if rank == 0:
                continue
            solve = unit * free @ vt[:rank].T @ np.diag(1 / values[:rank]) @ u[:, :rank].T
            conditions = rows[group] * scale
            step = step + solve @ (misses[group] - conditions @ step)
            own, earlier = own - solve @ (conditions @ own), earlier - solve @ (conditions @ earlier)
            own[:, group] += solve
            free = free @ vt[rank:].T
        covariance = earlier @ covariance @ earlier.T + own @ _noise(datum, transform) @ own.T
        locked |= {axis: datum.letter for axis in _held(free) if axis not in locked}
    return _Step(step * scale, locked, covariance * np.outer(scale, scale), tuple(free_motion(column * scale, centre) for column in free.T))


def _held(free: Floats) -> list[str]:
    """The motions along and about the part's axes in which no free motion has a share."""
    return [axis for index, axis in enumerate(AXES) if free.shape[1] == 0 or np.abs(free[index]).max() < 1e-4]
