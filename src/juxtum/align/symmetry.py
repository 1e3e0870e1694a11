"""Near-symmetries of a part: turns that lay it almost onto itself. A scan may lie in each of them."""

from __future__ import annotations

import weakref
from itertools import product

import numpy as np

from juxtum.geometry import RigidTransform
from juxtum.geometry.arrays import Floats, orthonormal_frame, value_at_share
from juxtum.geometry.rays import RayCaster
from juxtum.geometry.registration import Pulls, Rounds, register
from juxtum.geometry.transform import rotation_from_vector
from juxtum.nominal import Nominal

SAMPLE = 250
SAME = 0.8
"""A turn is a near-symmetry when so much of the part comes to lie on the part."""
FEW = 40
MAY_BE = 0.5
"""Where no more than this share of a few places comes to lie on the part, four fifths of all do not either."""
STEPS = (180.0, 120.0, 90.0, 72.0, 60.0, 45.0, 36.0, 30.0)
"""Turns about each axis of the part that drawn parts have, degrees, with their multiples."""
LEAST_TURNS = 14
"""A part onto which so many of these turns about one axis lay it is nearly round."""
ROUND_STEP = 2.0
RINGS, ANGLES, FINEST = 24, 720, 120
"""Rings across a part, steps of angle, and the most waves all round, when a part is looked through for what repeats."""
LEAST_ANGLE = 5.0
"""Degrees; nearer to where it was a part looks like itself whatever it is."""
PEAK = 0.5
"""Of what a part has in common with itself as it is, so much it has when turned by what repeats."""
OPPOSITE, WALL, WALLS, SAME_WALL = 0.98, 0.06, 6, 0.03
"""The sides of a wall face away from each other by this cosine; a wall is so much of the part, at least; so many are
looked at, each of shifts that differ by no more than this share."""
_KNOWN: weakref.WeakKeyDictionary[Nominal, tuple[RigidTransform, ...]] = weakref.WeakKeyDictionary()
_MIRRORS: weakref.WeakKeyDictionary[Nominal, tuple[RigidTransform, ...]] = weakref.WeakKeyDictionary()


def principal_frame(points: Floats) -> Floats:
    """Rows are the principal axes from the shortest to the longest, right-handed."""
    _, vectors = np.linalg.eigh(np.cov((points - points.mean(0)).T))
    frame = vectors.T
    return np.asarray(frame * np.array([1, 1, np.linalg.det(frame)])[:, None])


def near_symmetries(nominal: Nominal) -> tuple[RigidTransform, ...]:
    """Turns (without the one by nothing) that lay the part almost onto itself, about its middle."""
    if nominal not in _KNOWN:
        rows = nominal.samples.even_rows(SAMPLE)
        points, normals = nominal.samples.centres[rows], nominal.samples.mesh.triangle_normals[rows]
        _KNOWN[nominal] = tuple(turn for turn in _found(nominal, _turns(nominal), points, normals) if turn.angle > 2)
    return _KNOWN[nominal]


def mirror_of(nominal: Nominal) -> Floats:
    """The reflection (4, 4) at the plane across X through the part's middle."""
    mirror = np.diag([-1.0, 1, 1, 1])
    mirror[0, 3] = 2 * nominal.centre[0]
    return mirror


def near_mirrors(nominal: Nominal) -> tuple[RigidTransform, ...]:
    """Motions that lay the mirror image (`mirror_of`) of the part almost onto the part; none where it has no such symmetry."""
    if nominal not in _MIRRORS:
        rows = nominal.samples.even_rows(SAMPLE)
        points, normals = nominal.samples.centres[rows], nominal.samples.mesh.triangle_normals[rows]
        mirror = mirror_of(nominal)
        mirrored = points @ mirror[:3, :3].T + mirror[:3, 3]
        first = _found(nominal, _reflections(nominal, mirror), mirrored, normals @ mirror[:3, :3].T)
        turns = (*near_symmetries(nominal), *all_round(nominal))
        _MIRRORS[nominal] = (*first, *(turn @ kept for kept in first[:1] for turn in turns))
    return _MIRRORS[nominal]


def _reflections(nominal: Nominal, mirror: Floats) -> list[RigidTransform]:
    """Reflections across the part's axes, also turned about the same axis, as motions of the mirror image."""
    middle, frame = _moments(nominal)
    angles = (0.0, *sorted({round(step * k, 3) for step in STEPS for k in range(1, int(360 / step))}))
    made = []
    for about, axis, angle in product((middle, nominal.centre), [*frame, *np.eye(3)], angles):
        across = np.eye(3) - 2 * np.outer(axis, axis)
        whole = np.eye(4)
        whole[:3, :3] = rotation_from_vector(np.asarray(axis) * np.radians(angle)) @ across
        whole[:3, 3] = about - whole[:3, :3] @ about
        motion = whole @ mirror
        made.append(RigidTransform.from_parts(motion[:3, :3], motion[:3, 3]))
    return made


def all_round(nominal: Nominal) -> tuple[RigidTransform, ...]:
    """Turns by every few degrees about the axis about which the part is nearly round; none where there is no such axis."""
    by_axis: dict[tuple[float, ...], list[RigidTransform]] = {}
    for turn in near_symmetries(nominal):
        axis = turn.axis * (1 if turn.axis[int(np.argmax(np.abs(turn.axis)))] > 0 else -1)
        by_axis.setdefault(tuple(np.round(axis, 2)), []).append(turn)
    most = max(by_axis.values(), key=len, default=[])
    if len(most) < LEAST_TURNS:
        return ()
    turn = most[0]
    foot = _fixed_point(turn, nominal)
    made = []
    for angle in np.arange(ROUND_STEP, 360.0, ROUND_STEP):
        rotation = rotation_from_vector(turn.axis * np.radians(angle))
        made.append(RigidTransform.from_parts(rotation, foot - rotation @ foot))
    return tuple(made)


def through_walls(nominal: Nominal) -> tuple[RigidTransform, ...]:
    """Shifts that lay one side of a wall of the part onto its other side, those of its largest walls.

    A cloud without normals does not say which of the two it shows: a plate seen from above may be its underside.
    """
    rows = nominal.samples.even_rows(SAMPLE)
    places, out = nominal.samples.centres[rows], nominal.samples.mesh.triangle_normals[rows]
    mesh = nominal.mesh
    begin = places - 1e-6 * nominal.diagonal * out
    hit = RayCaster(mesh).first_triangles(begin, -out)
    facing = np.where((hit >= 0)[:, None], mesh.triangle_normals[hit], 0.0)
    across = np.einsum("nd,nd->n", facing, -out)
    there = across > OPPOSITE
    thick = np.einsum("nd,nd->n", mesh.corners[hit[there], 0] - places[there], facing[there]) / across[there]
    shifts = -out[there] * thick[:, None]
    kept: list[RigidTransform] = []
    while len(shifts) >= WALL * len(rows) and len(kept) < WALLS:
        alike = np.linalg.norm(shifts[:, None] - shifts, axis=2) < SAME_WALL * np.linalg.norm(shifts, axis=1)
        most = alike[:, np.argmax(alike.sum(0))]
        if most.sum() < WALL * len(rows):
            break
        kept.append(RigidTransform.translation(np.asarray(shifts[most].mean(0))))
        shifts = shifts[~most]
    return tuple(kept)


def half_turns(points: Floats, frame: Floats) -> list[RigidTransform]:
    """Half a turn about each axis of a frame, through the middle of the extents of some points (N, 3): what is seen of a part may lie so, too."""
    laid = points @ frame.T
    middle = frame.T @ ((laid.min(0) + laid.max(0)) / 2)
    turns = [2 * np.outer(axis, axis) - np.eye(3) for axis in frame]
    return [RigidTransform.from_parts(turn, middle - turn @ middle) for turn in turns]


def _fixed_point(turn: RigidTransform, nominal: Nominal) -> Floats:
    """A point that a turn leaves where it is, near the part's middle."""
    offset = turn.offset - (turn.offset @ turn.axis) * turn.axis
    point = np.linalg.lstsq(np.eye(3) - turn.rotation, offset, rcond=1e-6)[0]
    return np.asarray(point + ((nominal.centre - point) @ turn.axis) * turn.axis)


def _found(
    nominal: Nominal, turns: list[RigidTransform], points: Floats, normals: Floats
) -> tuple[RigidTransform, ...]:
    """Those of some motions that lay places (N, 3) almost onto the part, each once and settled."""
    near = nominal.diagonal / 60
    kept: list[RigidTransform] = []
    for turn in _likely(nominal, turns, points, normals):
        found = nominal.mesh.tree.query(turn.apply(points), turn.turn(normals), limit=near, angle=45.0)
        if found.found.mean() > SAME:
            turn = _settled(turn, points, normals, nominal)
            if all((turn.inverse @ other).angle > 2 for other in kept):
                kept.append(turn)
    return tuple(kept)


def _likely(nominal: Nominal, turns: list[RigidTransform], points: Floats, normals: Floats) -> list[RigidTransform]:
    """Those of some motions that lay enough of a few places on the part; all are asked at once."""
    step = max(1, len(points) // FEW)
    some, facing = points[::step], normals[::step]
    places = np.concatenate([turn.apply(some) for turn in turns])
    ways = np.concatenate([turn.turn(facing) for turn in turns])
    found = nominal.mesh.tree.query(places, ways, limit=nominal.diagonal / 60, angle=45.0).found
    shares = found.reshape(len(turns), len(some)).mean(1)
    return [turn for turn, share in zip(turns, shares, strict=True) if share > MAY_BE]


def _settled(turn: RigidTransform, points: Floats, normals: Floats, nominal: Nominal) -> RigidTransform:
    """The turn nearby that lays the part onto itself best: the middle of an area is not quite the middle of a pattern."""
    mesh, limit = nominal.mesh, nominal.diagonal / 60

    def pulls_at(turn: RigidTransform, _: int) -> Pulls:
        places = turn.apply(points)
        near = mesh.tree.query(places, turn.turn(normals), limit=limit, angle=45.0)
        rows = np.flatnonzero(near.found)
        rows = rows[near.distances[rows] <= value_at_share(near.distances[rows], 0.8)]
        n = mesh.triangle_normals[near.triangles[rows]]
        feet = np.einsum("ij,ijk->ik", near.weights[rows], mesh.corners[near.triangles[rows]])
        return Pulls(places[rows], n, np.einsum("ij,ij->i", places[rows] - feet, n))

    # What the part leaves free, such as a turn of a round one, stays as it is.
    return register(pulls_at, turn, Rounds(8, 0.0, limit, free=1e-4, largest_turn=np.inf)) or turn


def _moments(nominal: Nominal) -> tuple[Floats, Floats]:
    """Middle (3,) and principal axes (3, 3) of the area, from the triangles and without sampling."""
    corners, areas = nominal.mesh.corners, nominal.mesh.triangle_areas
    middle = np.average(corners.mean(1), axis=0, weights=areas)
    local = corners - middle
    sums = local.sum(1)
    # Second moments of a triangle: (sum of the corners' squares + the square of their sum) / 12, times its area.
    second = np.einsum("t,tki,tkj->ij", areas, local, local) + np.einsum("t,ti,tj->ij", areas, sums, sums)
    return middle, np.linalg.eigh(second)[1].T


def _turns(nominal: Nominal) -> list[RigidTransform]:
    """All candidate turns about the middle of the area and the middle of the bounds."""
    angles = sorted({round(step * k, 3) for step in STEPS for k in range(1, int(360 / step))})
    made = []
    for middle, axis in _lines(nominal):
        for angle in (*angles, *repeats(nominal, middle, np.asarray(axis))):
            rotation = rotation_from_vector(np.asarray(axis) * np.radians(angle))
            made.append(RigidTransform.from_parts(rotation, middle - rotation @ middle))
    return made


def _lines(nominal: Nominal) -> list[tuple[Floats, Floats]]:
    """Lines that parts are symmetric about: through the middle of the area or of the bounds, along their axes; each once."""
    middle, frame = _moments(nominal)
    lines: list[tuple[Floats, Floats]] = []
    for point, axis in product((nominal.centre, middle), [*np.eye(3), *frame]):
        off = [np.linalg.norm(np.cross(point - other, axis)) for other, along in lines if abs(along @ axis) > 1 - 1e-7]
        if min(off, default=np.inf) > 1e-4 * nominal.diagonal:
            lines.append((point, axis))
    return lines


def repeats(nominal: Nominal, middle: Floats, axis: Floats) -> tuple[float, ...]:
    """Angles, degrees, by which a part turns about an axis to look more like itself than just before and after, as by one tooth of a gear.

    The area is counted in rings about the axis, by height and angle, and each ring is held against itself turned.
    """
    across, up = orthonormal_frame(axis)[:2]
    places = nominal.samples.centres - middle
    x, y, height = places @ across, places @ up, places @ axis
    radius = np.hypot(x, y)
    cell = max(nominal.diagonal / RINGS, 1e-9)
    ring = np.round(radius / cell).astype(np.int64) * (2 * RINGS + 1) + np.round(height / cell).astype(np.int64) + RINGS
    rings, ring = np.unique(ring, return_inverse=True)
    turn = np.round((np.arctan2(y, x) / (2 * np.pi)) * ANGLES).astype(np.int64) % ANGLES
    counts = np.bincount(ring * ANGLES + turn, nominal.samples.mesh.triangle_areas, len(rings) * ANGLES)
    spectrum = (np.abs(np.fft.rfft(counts.reshape(len(rings), ANGLES), axis=1)) ** 2).sum(0)
    # Finer waves than of some degrees are the samples' own grain.
    spectrum[FINEST:] = 0
    spectrum[0] = 0
    alike = np.fft.irfft(spectrum, ANGLES)
    peaks = (alike > np.roll(alike, 1)) & (alike >= np.roll(alike, -1)) & (alike > PEAK * alike[0])
    angles = np.flatnonzero(peaks) * 360 / ANGLES
    return tuple(float(v) for v in angles if LEAST_ANGLE < v < 360 - LEAST_ANGLE)
