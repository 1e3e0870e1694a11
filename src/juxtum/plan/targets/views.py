"""From where a part is looked at: patches of its surface and a shell of poses about them."""

from __future__ import annotations

from dataclasses import dataclass, replace
from enum import StrEnum
from functools import cached_property

import numpy as np

from juxtum.errors import InputError
from juxtum.geometry import RigidTransform
from juxtum.geometry.arrays import Bools, Floats, Ints, frozen, orthonormal_frame, unit
from juxtum.geometry.rays import RayCaster
from juxtum.instruments.models import Mode
from juxtum.nominal import Nominal, faces_mask
from juxtum.progress import Progress, silent

TILTS = (0.0, 20.0, 40.0, 60.0)
TURNS = 8
CLEARANCE = 0.3
"""A hit nearer to the surface point than this, mm, is the surface itself."""
LIFT = 0.3
"""Lines of sight start so far above the surface, mm, clear of the tessellation's chord."""
RAYS_AT_ONCE = 400_000
MOST_POSES = 1100


class Stance(StrEnum):
    """How the part stands while it is scanned."""

    TABLE = "on a table, turned over once"
    STANDS = "on stands, free all round"


@dataclass(frozen=True, eq=False)
class Patches:
    """Pieces of the surface to be measured.

    Parameters
    ----------
    places, normals : array (K, 3)
    areas : array (K,)
    faces : array (K,)
        Index (from 0) of the face.
    size : float
        mm.
    samples, owners : array (N,)
        Rows of the nominal's samples that they are made of, and the patch that each belongs to.
    """

    places: Floats
    normals: Floats
    areas: Floats
    faces: Ints
    size: float
    samples: Ints
    owners: Ints


@dataclass(frozen=True, eq=False)
class Views:
    """Poses of an instrument.

    Parameters
    ----------
    eyes, axes, ups : array (P, 3)
        Place, direction of view and upward direction of the field.
    patches : array (P,)
        The patch for which a pose was made.
    setups : array (P,)
        0 as the part stands, 1 turned over.
    turned : tuple of RigidTransform
        From part coordinates to the table, for each set-up; the table is the plane z = 0.
    """

    eyes: Floats
    axes: Floats
    ups: Floats
    patches: Ints
    setups: Ints
    turned: tuple[RigidTransform, ...]
    tangents: tuple[float, float]
    stand_off: tuple[float, float, float]

    def __len__(self) -> int:
        return len(self.eyes)

    def narrower(self, share: float) -> Views:
        """The same poses with a share of their field."""
        return replace(self, tangents=(share * self.tangents[0], share * self.tangents[1]))

    @cached_property
    def looked_at(self) -> Floats:
        """The place in the middle of each field at the best stand-off (P, 3)."""
        return frozen(self.eyes + self.axes * self.stand_off[1])


def make_patches(nominal: Nominal, faces: tuple[int, ...], size: float) -> Patches:
    """Group the nominal's samples on some faces into patches of about `size` mm."""
    samples = nominal.samples
    rows = np.flatnonzero(faces_mask(samples.faces, faces))
    if len(rows) == 0:
        raise InputError("there is no surface to measure", "plan", "Name faces that exist")
    centres, areas = samples.centres[rows], samples.mesh.triangle_areas[rows]
    normals = samples.mesh.triangle_normals[rows]
    # Faces that turn by more than a right angle must not share a patch: the octant of the normal tells them apart.
    octant = ((normals > 0.35).astype(np.int64) - (normals < -0.35)) + 1
    cells = np.floor(centres / size).astype(np.int64)
    cells -= cells.min(0)
    keys = row_keys(np.column_stack([samples.faces[rows], cells, octant]))
    _, inverse = np.unique(keys, return_inverse=True)
    total = np.bincount(inverse, areas)
    means = np.stack([np.bincount(inverse, areas * centres[:, k]) / total for k in range(3)], 1)
    distance = np.linalg.norm(centres - means[inverse], axis=1)
    order = np.lexsort([distance, inverse])
    chosen = order[np.searchsorted(inverse[order], np.arange(len(total)))]
    places, facing = on_surface(nominal, centres[chosen], normals[chosen])
    faces_of = frozen(samples.faces[rows][chosen], np.int32)
    return Patches(
        frozen(places), frozen(facing), frozen(total), faces_of, size, frozen(rows, np.int64), frozen(inverse, np.int64)
    )


def faces_of_patches(patches: Patches, numbers: tuple[int, ...]) -> Bools:
    """Which patches (K,) lie on faces of these numbers."""
    return np.isin(patches.faces, np.array(numbers, dtype=np.int64) - 1)


def on_surface(nominal: Nominal, points: Floats, normals: Floats) -> tuple[Floats, Floats]:
    """Points and normals brought from the coarse samples onto the surface itself, where that is near."""
    found = nominal.projector.project(points, normals, limit=max(2e-3 * nominal.diagonal, 1.0))
    good = found.found & (np.einsum("ij,ij->i", found.normals, normals) > 0.5)
    return np.where(good[:, None], found.feet, points), np.where(good[:, None], found.normals, normals)


def patch_size(nominal: Nominal, mode: Mode) -> float:
    """A size of patches that suits the part and the field of view, mm."""
    return float(np.clip(nominal.diagonal / 12, 0.06 * min(mode.field[0], 280), 0.25 * min(mode.field[0], 280)))


@dataclass(frozen=True, eq=False)
class Shell:
    """Poses about a part, before and after they were thinned out.

    Parameters
    ----------
    views : Views
        Few enough poses to plan with.
    own : array (K, 3)
        Direction from each patch to the pose that was made for it; zero where none is clear.
    """

    views: Views
    own: Floats

    @property
    def reached(self) -> Bools:
        """Patches (K,) that some pose sees."""
        return np.asarray(np.abs(self.own).sum(1) > 0)


def make_views(
    patches: Patches, nominal: Nominal, caster: RayCaster, mode: Mode, stance: Stance, progress: Progress | None = None
) -> Shell:
    """Poses over every patch: along its normal or tilted until nothing is in the way, and two oblique ones.

    Patches that no pose sees have none; they are what scanning will not give.
    """
    progress = progress or silent()
    progress.phase("placing poses about the part")
    turned = standing(nominal, stance)
    own = np.zeros_like(patches.places)
    oblique: list[tuple[Floats, Ints]] = []
    for tilt in TILTS:
        if tilt > mode.incidence - 5:
            break
        for turn in range(TURNS if tilt else 1):
            progress.check()
            direction = _tilted(patches.normals, tilt, 360 * turn / TURNS)
            free = _free(patches, direction, caster, mode, nominal, turned)
            new = free & (np.abs(own).sum(1) == 0)
            own[new] = direction[new]
            if tilt == 40 and turn in (1, 5):
                oblique.append((direction[free], np.flatnonzero(free)))
    first = np.flatnonzero(np.abs(own).sum(1) > 0)
    if len(first) == 0:
        raise InputError(
            "no pose of the instrument sees the surface to be measured", mode.name, "Choose another mode or stance"
        )
    directions = np.concatenate([own[first], *(d for d, _ in oblique)])
    rows = np.concatenate([first, *(r for _, r in oblique)]).astype(np.int64)
    order = _thinned(patches.places[rows] + directions * mode.stand_off[1], directions, mode)
    return Shell(views_of(patches, rows[order], directions[order], nominal, mode, turned), own)


def views_of(
    patches: Patches, rows: Ints, directions: Floats, nominal: Nominal, mode: Mode, turned: tuple[RigidTransform, ...]
) -> Views:
    """Poses that look at some patches from directions (N, 3) at the best stand-off."""
    eyes = patches.places[rows] + directions * mode.stand_off[1]
    tangents = (mode.field[0] / 2 / mode.stand_off[1], mode.field[1] / 2 / mode.stand_off[1])
    return Views(
        frozen(eyes), frozen(-directions), frozen(_ups(-directions, nominal)), frozen(rows, np.int32),
        frozen(_setups(directions, eyes, turned), np.int8), turned, tangents, mode.stand_off,
    )  # fmt: skip


def joined(a: Views, b: Views) -> Views:
    """Both sets of poses."""
    return Views(
        frozen(np.concatenate([a.eyes, b.eyes])), frozen(np.concatenate([a.axes, b.axes])), frozen(np.concatenate([a.ups, b.ups])),
        frozen(np.concatenate([a.patches, b.patches]), np.int32), frozen(np.concatenate([a.setups, b.setups]), np.int8),
        a.turned, a.tangents, a.stand_off,
    )  # fmt: skip


def standing(nominal: Nominal, stance: Stance) -> tuple[RigidTransform, ...]:
    """How the part lies on the table in each set-up (part coordinates to table)."""
    low, high = nominal.mesh.bounds
    upright = RigidTransform.translation([0, 0, -low[2]])
    if stance is Stance.STANDS:
        return (upright,)
    over = RigidTransform.from_parts(np.diag([1.0, -1.0, -1.0]), [0, 0, high[2]])
    return upright, over


def _tilted(normals: Floats, tilt: float, turn: float) -> Floats:
    """Normals leaned by `tilt` towards an azimuth, both in degrees."""
    if tilt == 0:
        return normals
    helper = np.where(np.abs(normals[:, 2:3]) < 0.9, [[0.0, 0, 1]], [[1.0, 0, 0]])
    u = unit(np.cross(helper, normals))
    v = np.cross(normals, u)
    a, b = np.radians(tilt), np.radians(turn)
    return np.asarray(np.cos(a) * normals + np.sin(a) * (np.cos(b) * u + np.sin(b) * v))


def _free(
    patches: Patches,
    directions: Floats,
    caster: RayCaster,
    mode: Mode,
    nominal: Nominal,
    turned: tuple[RigidTransform, ...],
) -> Bools:
    """Where the way from a patch to the instrument is clear and above the table in some set-up."""
    reach = np.full(len(directions), mode.stand_off[1] - CLEARANCE)
    starts = patches.places + patches.normals * LIFT + directions * CLEARANCE
    clear = ~caster.blocked(starts, directions, reach)
    if len(turned) > 1:
        eyes = patches.places + directions * mode.stand_off[1]
        clear &= np.any([_above(t, eyes, directions) for t in turned], axis=0)
    return clear


def _above(turned: RigidTransform, eyes: Floats, directions: Floats) -> Bools:
    return np.asarray((turned.apply(eyes)[:, 2] > 60) & (turned.turn(directions)[:, 2] > 0.05))


def _setups(directions: Floats, eyes: Floats, turned: tuple[RigidTransform, ...]) -> Ints:
    if len(turned) == 1:
        return np.zeros(len(eyes), dtype=np.int8)
    return np.where(_above(turned[0], eyes, directions), 0, 1).astype(np.int8)


def _thinned(eyes: Floats, directions: Floats, mode: Mode) -> Ints:
    """Rows kept after poses that nearly repeat another one are dropped, earlier ones first, until they are few enough."""
    step, angle = 0.18 * mode.stand_off[1], 0.4
    while True:
        keys = row_keys(np.column_stack([np.round(eyes / step), np.round(directions / angle)]).astype(np.int64))
        first = np.unique(keys, return_index=True)[1]
        if len(first) <= MOST_POSES:
            return np.sort(first)
        step, angle = 1.15 * step, min(1.1 * angle, 0.7)


def row_keys(rows: Ints) -> Ints:
    """One number for each row (N, K) of integers, equal for equal rows."""
    shifted = rows - rows.min(0)
    keys = np.zeros(len(rows), dtype=np.int64)
    for column in shifted.T:
        keys = keys * (int(column.max()) + 1) + column
    return keys


def _ups(axes: Floats, nominal: Nominal) -> Floats:
    """The long side of the field lies along the long side of the part."""
    spans = np.ptp(nominal.mesh.bounds, axis=0)
    along = np.eye(3)[int(np.argmax(spans))]
    across = unit(along - (axes @ along)[:, None] * axes)
    flat = np.abs(axes @ along) > 0.98
    ups = np.cross(axes, across)
    if flat.any():
        ups[flat] = np.array([orthonormal_frame(axis)[0] for axis in axes[flat]])
    return ups


@dataclass(frozen=True, eq=False)
class Spots:
    """Places that views may see, with their normals; one set of places for each set-up.

    Parameters
    ----------
    places, normals : array (S, C, 3)
        Part coordinates; the same in every set-up for what sits on the part.
    """

    places: Floats
    normals: Floats

    @classmethod
    def on_part(cls, places: Floats, normals: Floats, setups: int) -> Spots:
        """Spots that move with the part."""
        return cls(np.broadcast_to(places, (setups, *places.shape)), np.broadcast_to(normals, (setups, *normals.shape)))

    @classmethod
    def on_table(cls, places: Floats, turned: tuple[RigidTransform, ...]) -> Spots:
        """Spots on the table (table coordinates), facing up."""
        up = np.broadcast_to([0.0, 0.0, 1.0], places.shape)
        back = [t.inverse for t in turned]
        return cls(np.stack([t.apply(places) for t in back]), np.stack([t.turn(up) for t in back]))

    def with_more(self, other: Spots) -> Spots:
        """Both together."""
        return Spots(np.concatenate([self.places, other.places], 1), np.concatenate([self.normals, other.normals], 1))

    def rows(self, rows: Ints) -> Spots:
        """Some of them."""
        return Spots(self.places[:, rows], self.normals[:, rows])


def seen_from(
    views: Views, spots: Spots, caster: RayCaster, incidence: float, progress: Progress | None = None
) -> Bools:
    """Which views see which spots (P, C): in the field and stand-off range, not too oblique, nothing in the way.

    Parameters
    ----------
    incidence : float
        Largest angle between the line of sight and the normal, degrees.
    """
    progress = progress or silent()
    count = spots.places.shape[1]
    result = np.zeros((len(views), count), dtype=bool)
    chunk = max(1, RAYS_AT_ONCE // max(count, 1))
    for start in range(0, len(views), chunk):
        progress.phase("casting rays", start / len(views))
        rows = np.arange(start, min(start + chunk, len(views)))
        result[rows] = _seen_rows(views, rows, spots, caster, float(np.cos(np.radians(incidence))))
    return result


def _seen_rows(views: Views, rows: Ints, spots: Spots, caster: RayCaster, cosine: float) -> Bools:
    places, normals = spots.places[views.setups[rows]], spots.normals[views.setups[rows]]
    sight = places - views.eyes[rows, None]
    depth = np.einsum("pcd,pd->pc", sight, views.axes[rows])
    high = np.einsum("pcd,pd->pc", sight, views.ups[rows])
    wide = np.einsum("pcd,pd->pc", sight, np.cross(views.axes[rows], views.ups[rows]))
    distance = np.linalg.norm(sight, axis=2)
    facing = -np.einsum("pcd,pcd->pc", sight, normals) / np.maximum(distance, 1e-9)
    near, _, far = views.stand_off
    inside = (depth > near) & (depth < far) & (facing > cosine)
    inside &= (np.abs(wide) < depth * views.tangents[0]) & (np.abs(high) < depth * views.tangents[1])
    p, c = np.nonzero(inside)
    towards = -sight[p, c] / distance[p, c][:, None]
    starts = places[p, c] + normals[p, c] * LIFT + towards * CLEARANCE
    blocked = caster.blocked(starts, towards, distance[p, c] - CLEARANCE)
    inside[p[blocked], c[blocked]] = False
    return np.asarray(inside)
