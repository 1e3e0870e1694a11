"""Projection of measured points onto the nominal part."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, Protocol

import numpy as np

from juxtum.exchange.solid import CadArrays
from juxtum.geometry.arrays import Bools, Floats, Ints, unit
from juxtum.geometry.mesh import TriangleMesh
from juxtum.geometry.nearest import AT_A_TIME, KERNEL_LOCK, Nearest, NearestTree
from juxtum.geometry.topology import edge_keys
from juxtum.nominal.borders import borders
from juxtum.nominal.tessellation import node_feet, surface_tables


@dataclass(frozen=True, eq=False)
class Projection:
    """Feet of measured points on the nominal surface.

    Parameters
    ----------
    distances : array (N,)
        Signed along the outward nominal normal, mm; NaN where nothing was found.
    feet : array (N, 3)
    normals : array (N, 3)
        Outward nominal normals at the feet.
    faces : array (N,)
        Face of each foot, -1 where nothing was found.
    on_border : array (N,)
        Feet that lie on an edge or a corner.
    """

    distances: Floats
    feet: Floats
    normals: Floats
    faces: Ints
    on_border: Bools

    @property
    def found(self) -> Bools:
        """Where a foot was found (N,)."""
        return self.faces >= 0

    @classmethod
    def joined(cls, parts: list[Projection]) -> Projection:
        """One projection of parts that follow each other."""
        names = ("distances", "feet", "normals", "faces", "on_border")
        return (
            parts[0]
            if len(parts) == 1
            else cls(*(np.concatenate([getattr(part, name) for part in parts]) for name in names))
        )


class Projector(Protocol):
    """Whatever can drop points onto a nominal surface."""

    def project(
        self, points: Floats, directions: Floats | None = None, *, limit: float = np.inf, angle: float = 60.0
    ) -> Projection:
        """Feet of points; with directions only on surface that faces the same way within `angle` degrees."""


DEEP = 50.0
"""Chords from the surface beyond which the triangles are as good as the exact faces."""


class MeshProjector:
    """Projection onto a mesh nominal; the mesh is the surface."""

    def __init__(self, mesh: TriangleMesh, faces: Ints) -> None:
        self._mesh = mesh
        self._faces = faces
        self._sharp = sharp_edges(mesh)
        self._edge_normals = _edge_pseudonormals(mesh)

    def project(
        self, points: Floats, directions: Floats | None = None, *, limit: float = np.inf, angle: float = 60.0
    ) -> Projection:
        """See `Projector`."""
        near = self._mesh.tree.query(points, directions, limit=limit, angle=angle)
        found = near.found
        safe = np.where(found, near.triangles, 0)
        corners = self._mesh.triangles[safe]
        feet = np.einsum("ij,ijk->ik", near.weights, self._mesh.points[corners])
        normals = self._mesh.triangle_normals[safe].copy()
        signing = normals.copy()
        for k in range(3):
            at = near.regions == k + 1
            signing[at] = self._mesh.normals[corners[at, k]]
            on = near.regions == k + 4
            signing[on] = self._edge_normals[safe[on], k]
        side = np.einsum("ij,ij->i", points - feet, signing)
        distances = np.where(side >= 0, near.distances, -near.distances)
        distances[~found] = np.nan
        sharp = np.zeros(len(points), dtype=bool)
        for k in range(3):
            sharp |= (near.regions == k + 4) & self._sharp[safe, k]
            sharp |= (near.regions == k + 1) & (self._sharp[safe, k] | self._sharp[safe, (k + 2) % 3])
        faces = np.where(found, self._faces[safe], -1).astype(np.int32)
        return Projection(distances, feet, normals, faces, sharp & found)


def _edge_pseudonormals(mesh: TriangleMesh) -> Floats:
    """Sum of the two triangles' normals at each of the three edges of every triangle (M, 3, 3)."""
    keys = edge_keys(mesh.triangles, len(mesh.points)).ravel()
    _, inverse = np.unique(keys, return_inverse=True)
    repeated = np.repeat(mesh.triangle_normals, 3, axis=0)
    sums = np.stack([np.bincount(inverse, repeated[:, k]) for k in range(3)], axis=1)
    return np.asarray(sums[inverse].reshape(-1, 3, 3), dtype=np.float64)


def sharp_edges(mesh: TriangleMesh, degrees: float = 25.0) -> Bools:
    """Which edges 01, 12, 20 of each triangle (M, 3) bend more than `degrees` or are open."""
    sums = np.linalg.norm(_edge_pseudonormals(mesh), axis=2)
    return np.asarray(sums < 2 * np.cos(np.radians(degrees) / 2))


class ExactProjector:
    """Projection onto exact, trimmed CAD faces, seeded by their tessellation."""

    def __init__(self, arrays: CadArrays) -> None:
        t = arrays
        self._t = t
        self._surfaces = surface_tables(t)
        self._border = borders(t)
        self._node_normals = node_feet(t)[1]
        self._tree = NearestTree(t.nodes, t.triangles)

    @property
    def border_pieces(self) -> Floats:
        """Start, end and end tangents (K, 12) of the pieces of all borders."""
        return self._border.pieces

    @property
    def sharp_pieces(self) -> Bools:
        """Which border pieces (K,) have faces that meet at an angle, not smoothly."""
        return self._border.sharp

    def project(
        self, points: Floats, directions: Floats | None = None, *, limit: float = np.inf, angle: float = 60.0
    ) -> Projection:
        """See `Projector`."""
        pieces = []
        for start in range(0, max(len(points), 1), AT_A_TIME):
            part = slice(start, start + AT_A_TIME)
            pieces.append(
                self._project_some(points[part], None if directions is None else directions[part], limit, angle)
            )
        return Projection.joined(pieces)

    def _project_some(self, points: Floats, directions: Floats | None, limit: float, angle: float) -> Projection:
        points = np.ascontiguousarray(points, dtype=np.float64)
        rule = self._t.rule
        # The tessellation is off by the chord error in place and by the angular rule in direction.
        near = self._tree.query(points, directions, limit=limit + 2 * rule.chord, angle=min(angle + 12, 179.0))
        result, signs = self._first_pass(points, near)
        self._second_pass(points, directions, near, result, signs, angle)
        self._without_astray(points, near, result, signs)
        return self._finished(points, directions, result, signs, limit, angle)

    def _without_astray(self, points: Floats, near: Nearest, result: dict[str, Any], signs: Floats) -> None:
        """Where no exact foot was found, a far border must not stand in for it.

        Deep inside, where the triangles are off by next to nothing of the distance, theirs does; elsewhere none.
        """
        t = self._t
        away = np.linalg.norm(points - result["feet"], axis=1)
        astray = (away > near.distances + 5 * t.rule.chord + 0.02 * near.distances) | (result["normals"] == 0).all(1)
        rows = np.flatnonzero(astray & near.found)
        if len(rows) == 0:
            return
        result["faces"][rows] = -1
        rows = rows[near.distances[rows] > DEEP * t.rule.chord]
        corners = t.nodes[t.triangles[near.triangles[rows]]]
        normals = unit(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]))
        result["feet"][rows] = np.einsum("ij,ijk->ik", near.weights[rows], corners)
        result["normals"][rows], result["faces"][rows] = normals, t.triangle_faces[near.triangles[rows]]
        result["on_border"][rows] = False
        signs[rows] = np.where(np.einsum("ij,ij->i", points[rows] - result["feet"][rows], normals) >= 0, 1.0, -1.0)

    def _first_pass(self, points: Floats, near: Nearest) -> tuple[dict[str, Any], Floats]:
        from juxtum.nominal import _foot_kernels as kernels

        n = len(points)
        result: dict[str, Any] = {
            "feet": np.zeros((n, 3)),
            "normals": np.zeros((n, 3)),
            "faces": np.empty(n, np.int32),
            "unsure": np.zeros(n, np.bool_),
            "on_border": np.zeros(n, np.bool_),
        }
        t, b = self._t, self._border
        with KERNEL_LOCK:
            kernels.project_inner(
                points,
                near.triangles,
                near.weights,
                np.array([t.rule.chord, t.rule.angle * 1.5]),
                self._surfaces,
                (t.triangles, t.triangle_faces, t.parameters, t.nodes),
                b.trees,
                result["feet"],
                result["normals"],
                result["faces"],
                result["unsure"],
            )
        side = np.einsum("ij,ij->i", points - result["feet"], result["normals"])
        return result, np.where(side >= 0, 1.0, -1.0)

    def _second_pass(
        self,
        points: Floats,
        directions: Floats | None,
        near: Nearest,
        result: dict[str, Any],
        signs: Floats,
        angle: float,
    ) -> None:
        from juxtum.nominal import _foot_kernels as kernels

        rows = np.flatnonzero(result["unsure"])
        if len(rows) == 0:
            return
        t, b = self._t, self._border
        feet, normals, faces = result["feet"][rows], result["normals"][rows], result["faces"][rows]
        some, kinds = signs[rows], np.zeros(len(rows), np.int8)
        used = np.empty((0, 3)) if directions is None else np.ascontiguousarray(directions[rows])
        with KERNEL_LOCK:
            kernels.project_border(
                points[rows],
                used,
                np.cos(np.radians(angle)),
                near.triangles[rows],
                np.maximum(near.distances[rows] - 4 * t.rule.chord, 0.0) ** 2,
                self._surfaces,
                (t.triangles, t.parameters, t.triangle_faces, t.nodes, self._node_normals),
                (b.trees, b.neighbours, b.ends, b.corner_starts, b.corner_entries, b.welded),
                feet,
                normals,
                faces,
                some,
                kinds,
            )
        result["feet"][rows], result["normals"][rows], result["faces"][rows] = feet, normals, faces
        result["on_border"][rows] = kinds == 1
        signs[rows] = some

    @staticmethod
    def _finished(
        points: Floats, directions: Floats | None, result: dict[str, Any], signs: Floats, limit: float, angle: float
    ) -> Projection:
        feet, normals, faces = result["feet"], result["normals"], result["faces"]
        distances = np.linalg.norm(points - feet, axis=1)
        lost = (faces < 0) | (distances > limit)
        if directions is not None:
            agree = np.einsum("ij,ij->i", normals, directions)
            lost |= (agree < np.cos(np.radians(angle))) & ~result["on_border"]
        signed = np.where(lost, np.nan, signs * distances)
        return Projection(
            signed, feet, normals, np.where(lost, -1, faces).astype(np.int32), result["on_border"] & ~lost
        )
