"""Straight lines against meshes: who sees what."""

from __future__ import annotations

import numpy as np

from juxtum.geometry.arrays import Bools, Floats, Ints
from juxtum.geometry.mesh import TriangleMesh


class RayCaster:
    """Rays against one mesh; the accelerator works in float32, so places are computed again in float64."""

    def __init__(self, mesh: TriangleMesh) -> None:
        from embreex import rtcore_scene
        from embreex.mesh_construction import TriangleMesh as EmbreeMesh

        self._mesh = mesh
        self._centre = mesh.bounds.mean(0)
        self._scene = rtcore_scene.EmbreeScene()
        EmbreeMesh(self._scene, (mesh.points - self._centre).astype(np.float32)[mesh.triangles])

    def first_triangles(self, origins: Floats, directions: Floats) -> Ints:
        """Index of the first triangle that each ray (N, 3) meets, -1 for none."""
        starts = (origins - self._centre).astype(np.float32)
        return np.asarray(self._scene.run(starts, directions.astype(np.float32)), dtype=np.int32)

    def first_hit(self, origin: Floats, direction: Floats) -> tuple[int, Floats] | None:
        """Triangle and place (3,) where a ray first meets the mesh, or None."""
        triangle = int(self.first_triangles(origin[None], direction[None])[0])
        if triangle < 0:
            return None
        a, b, c = self._mesh.points[self._mesh.triangles[triangle]]
        normal = np.cross(b - a, c - a)
        slope = float(normal @ direction)
        if slope == 0.0:
            return triangle, np.asarray((a + b + c) / 3)
        return triangle, np.asarray(origin + direction * (float(normal @ (a - origin)) / slope))

    def sees(self, viewpoint: Floats, points: Floats, clearance: float) -> Bools:
        """Which points (N, 3) a viewpoint (3,) sees; hits nearer to the point than `clearance` mm do not count."""
        towards = viewpoint - points
        reach = np.linalg.norm(towards, axis=1, keepdims=True)
        direction = towards / np.maximum(reach, 1e-12)
        starts = points + direction * clearance
        blocked = self.first_triangles(starts, direction) >= 0
        return ~blocked
