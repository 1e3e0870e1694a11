"""What stands before a device: the made part with its faults, its finishes, its targets, and the table it stands on."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

import numpy as np

from juxtum.geometry import RigidTransform, TriangleMesh
from juxtum.geometry.arrays import Bools, Floats, Ints, frozen, orthonormal_frame
from juxtum.geometry.rays import RayCaster
from juxtum.nominal import Nominal
from juxtum.plan.blind import Finish
from juxtum.plan.holes import Hole, find_holes
from juxtum.plan.targets.gear import Gear
from juxtum.plan.targets.targets import Target
from juxtum.plan.targets.views import Stance, standing

TABLE = 0
"""Number of the face that every point of the table has."""
TABLE_MARGIN = 60.0
GEAR_HANDLES = 10_000
"""Handles of the equipment's targets begin here, at the double when the part is turned over: a scanner takes them for others then."""
DISC = 0.12
"""Thickness of a reference target, mm."""

Relief = Callable[[Floats], Floats]
"""How far the surface stands proud at places (N, 3) of it, mm (N,)."""


@dataclass(frozen=True, eq=False)
class Coating:
    """A coat on some faces: thickness in mm there, and how much is left of it at a time in minutes."""

    faces: frozenset[int]
    thickness: float
    lasts: float
    rubbed: Floats = field(default_factory=lambda: np.empty((0, 4)))
    """Places and radii (N, 4) where fingers took it off."""


@dataclass(frozen=True, eq=False)
class Body:
    """A part as it was made, in part coordinates.

    Parameters
    ----------
    mesh : TriangleMesh
        Fine enough that its chords do not matter.
    faces : array (M,)
        Number of the nominal face of each triangle, from 1.
    turned : tuple of RigidTransform
        From part coordinates to the table in each position.
    finishes : dict
        Faces that are not matt.
    targets : tuple of Target
        Reference targets as they are really stuck.
    relief : callable, optional
        What stands proud of the mesh.
    """

    mesh: TriangleMesh
    faces: Ints
    turned: tuple[RigidTransform, ...]
    finishes: dict[int, Finish] = field(default_factory=dict)
    targets: tuple[Target, ...] = ()
    target_diameter: float = 6.0
    relief: Relief | None = None
    holes: tuple[Hole, ...] = ()
    coating: Coating | None = None
    gear: Gear | None = None
    """Equipment as the part was really put down on it."""
    expansion: float = 11.0
    """Coefficient of expansion, 1e-6 per kelvin."""

    @classmethod
    def of(
        cls,
        nominal: Nominal,
        stance: Stance,
        targets: tuple[Target, ...] = (),
        finishes: dict[int, Finish] | None = None,
    ) -> Body:
        """A part made exactly as drawn."""
        holes = find_holes(nominal) if nominal.is_exact else ()
        return cls(
            nominal.mesh, nominal.triangle_faces + 1, standing(nominal, stance), finishes or {}, targets, holes=holes
        )

    @cached_property
    def centre(self) -> Floats:
        """Middle of the part (3,)."""
        return frozen(self.mesh.bounds.mean(0))

    @cached_property
    def caster(self) -> RayCaster:
        """Rays against the part alone."""
        return RayCaster(self.mesh)

    @cached_property
    def scenes(self) -> tuple[Scene, ...]:
        """Part and table, one for each position; on stands there is no table."""
        stands_on_table = len(self.turned) > 1
        return tuple(Scene.of(self, position, with_table=stands_on_table) for position in range(len(self.turned)))

    @cached_property
    def target_places(self) -> Floats:
        """Where the targets are (T, 3)."""
        return frozen(np.array([t.place for t in self.targets]).reshape(-1, 3))

    @cached_property
    def target_normals(self) -> Floats:
        """Which way they face (T, 3)."""
        return frozen(np.array([t.normal for t in self.targets]).reshape(-1, 3))

    @cached_property
    def target_tree(self) -> Any:
        """For asking which target is near a place."""
        from scipy.spatial import cKDTree

        return cKDTree(self.target_places)

    @cached_property
    def hole_mouths(self) -> tuple[tuple[tuple[float, float], ...], ...]:
        """For each hole its open ends: where along its axis, mm, and the direction (1 or -1) that leads out there."""
        found = []
        for hole in self.holes:
            along = (
                self.mesh.corners[np.isin(self.faces, hole.faces)].reshape(-1, 3) - hole.axis.point
            ) @ hole.axis.axis
            middle = (hole.axis.point + 0.5 * (along.min() + along.max()) * hole.axis.axis)[None]
            ends = ((float(along.max()), 1.0), (float(along.min()), -1.0))
            length = np.array([np.ptp(along) / 2 + 1.0])
            found.append(
                tuple(
                    end for end in ends if not self.caster.blocked(middle, (end[1] * hole.axis.axis)[None], length)[0]
                )
            )
        return tuple(found)

    @cached_property
    def spoilt(self) -> Floats:
        """Radius (T,) about each target within which nothing of the surface is had: the disc, or more of it near an edge."""
        clear = np.array([t.edge >= 1.5 * self.target_diameter for t in self.targets], dtype=bool)
        return frozen(np.where(clear, 0.5 * self.target_diameter + 0.3, 1.5 * self.target_diameter))


@dataclass(frozen=True, eq=False)
class Scene:
    """Part and table in one position, part coordinates.

    Parameters
    ----------
    corners, normals : array (M, 3, 3), array (M, 3)
        Of all triangles.
    faces : array (M,)
        Face numbers; `TABLE` for the table.
    """

    caster: RayCaster
    corners: Floats
    normals: Floats
    faces: Ints
    gear_places: Floats
    gear_normals: Floats
    """Targets of the equipment in this position (G, 3)."""
    gear_handles: Ints

    @classmethod
    def of(cls, body: Body, position: int, *, with_table: bool) -> Scene:
        """Join part and table."""
        turned = body.turned[position]
        points, triangles, faces = body.mesh.points, body.mesh.triangles, np.asarray(body.faces)
        if with_table:
            low, high = turned.apply(points).min(0) - TABLE_MARGIN, turned.apply(points).max(0) + TABLE_MARGIN
            square = np.array(
                [[low[0], low[1], 0], [high[0], low[1], 0], [high[0], high[1], 0], [low[0], high[1], 0.0]]
            )
            points = np.concatenate([points, turned.inverse.apply(square)])
            n = len(body.mesh.points)
            triangles = np.concatenate([triangles, [[n, n + 1, n + 2], [n, n + 2, n + 3]]])
            faces = np.concatenate([faces, [TABLE, TABLE]])
        mesh = TriangleMesh(points, triangles)
        places, normals = np.empty((0, 3)), np.empty((0, 3))
        if body.gear is not None:
            places, normals = body.gear.spots.places[position], body.gear.spots.normals[position]
        handles = GEAR_HANDLES * (position + 1) + np.arange(len(places))
        return cls(
            RayCaster(mesh), mesh.corners, mesh.triangle_normals, frozen(faces, np.int32),
            frozen(places), frozen(normals), frozen(handles, np.int64),
        )  # fmt: skip

    def hits(self, origins: Floats, directions: Floats) -> tuple[Ints, Floats]:
        """Triangles (N,) that rays meet first, -1 for none, and how far away (N,), exact on the triangle's plane."""
        found = self.caster.first_triangles(origins, directions)
        distances = np.full(len(found), np.inf)
        rows = np.flatnonzero(found >= 0)
        t = found[rows]
        slope = np.einsum("ij,ij->i", directions[rows], self.normals[t])
        height = np.einsum("ij,ij->i", self.corners[t, 0] - origins[rows], self.normals[t])
        steep = np.abs(slope) > 1e-6
        distances[rows[steep]] = height[steep] / slope[steep]
        return found, distances


@dataclass(frozen=True, eq=False)
class Pose:
    """How a device is held, part coordinates.

    Parameters
    ----------
    eye, axis, up : array (3,)
        Place, direction of view, upward direction of the field.
    """

    eye: Floats
    axis: Floats
    up: Floats

    @classmethod
    def looking(cls, eye: Floats, axis: Floats, up: Floats) -> Pose:
        """With directions made orthonormal."""
        forward = np.asarray(axis, dtype=np.float64) / np.linalg.norm(axis)
        upward = np.asarray(up, dtype=np.float64) - (np.asarray(up) @ forward) * forward
        length = float(np.linalg.norm(upward))
        upward = orthonormal_frame(forward)[0] if length < 1e-6 else upward / length
        return cls(frozen(eye), frozen(forward), frozen(upward))

    @cached_property
    def right(self) -> Floats:
        """Direction to the right of the field (3,)."""
        return frozen(np.cross(self.axis, self.up))

    @cached_property
    def to_part(self) -> RigidTransform:
        """From the device's own coordinates (x right, y up, z towards the device) to the part's."""
        return RigidTransform.from_parts(np.stack([self.right, self.up, -self.axis], axis=1), self.eye)


def in_sight(
    scene: Scene, pose: Pose, places: Floats, normals: Floats, limits: tuple[float, float, float, float, float]
) -> Bools:
    """Which places (N, 3) a device sees: in the field and range, not too oblique, nothing in the way.

    Parameters
    ----------
    limits : (float, float, float, float, float)
        Tangents of half the field across and upright, nearest, farthest in mm, cosine of the largest incidence.
    """
    wide, high, near, far, cosine = limits
    sight = places - pose.eye
    depth = sight @ pose.axis
    distance = np.linalg.norm(sight, axis=1)
    inside = (
        (depth > near)
        & (depth < far)
        & (np.abs(sight @ pose.right) < depth * wide)
        & (np.abs(sight @ pose.up) < depth * high)
    )
    inside &= -np.einsum("ij,ij->i", sight, normals) > cosine * distance
    rows = np.flatnonzero(inside)
    if len(rows):
        towards = -sight[rows] / distance[rows, None]
        starts = places[rows] + 0.3 * normals[rows] + 0.3 * towards
        inside[rows] = ~scene.caster.blocked(starts, towards, distance[rows] - 0.6)
    return np.asarray(inside)
