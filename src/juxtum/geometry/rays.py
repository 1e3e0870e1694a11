"""Straight lines against meshes: who sees what."""

from __future__ import annotations

import numpy as np

from juxtum.geometry.arrays import Bools, Floats, Ints
from juxtum.geometry.mesh import TriangleMesh


class RayCaster:
    """Rays against one mesh; the accelerator works in float32, so hits serve visibility, not measuring."""

    def __init__(self, mesh: TriangleMesh) -> None:
        from embreex import rtcore_scene
        from embreex.mesh_construction import TriangleMesh as EmbreeMesh

        self._centre = mesh.bounds.mean(0)
        self._scene = rtcore_scene.EmbreeScene()
        EmbreeMesh(self._scene, (mesh.points - self._centre).astype(np.float32)[mesh.triangles])

    def first_triangles(self, origins: Floats, directions: Floats) -> Ints:
        """Index of the first triangle that each ray (N, 3) meets, -1 for none."""
        starts = (origins - self._centre).astype(np.float32)
        return np.asarray(self._scene.run(starts, directions.astype(np.float32)), dtype=np.int32)

    def sees(self, viewpoint: Floats, points: Floats, clearance: float) -> Bools:
        """Which points (N, 3) a viewpoint (3,) sees; hits nearer to the point than `clearance` mm do not count."""
        towards = viewpoint - points
        reach = np.linalg.norm(towards, axis=1, keepdims=True)
        direction = towards / np.maximum(reach, 1e-12)
        starts = points + direction * clearance
        return ~self.blocked(starts, direction, reach[:, 0] - clearance)

    def blocked(self, origins: Floats, directions: Floats, reach: Floats) -> Bools:
        """Which rays (N, 3) meet the mesh within their reach (N,), mm."""
        starts = (origins - self._centre).astype(np.float32)
        ends = np.maximum(reach, 0).astype(np.float32)
        hit = self._scene.run(starts, directions.astype(np.float32), dists=ends, query="OCCLUDED")
        return np.asarray(np.asarray(hit) >= 0)
