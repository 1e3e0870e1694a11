"""Even samples of a scan, so that dense places do not outweigh sparse ones."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from juxtum.geometry.arrays import Floats
from juxtum.geometry.mesh import PointCloud, Scan, TriangleMesh
from juxtum.geometry.transform import RigidTransform


@dataclass(frozen=True, eq=False)
class ScanSample:
    """Points of a scan with their normals and the area each stands for, mm2."""

    points: Floats
    normals: Floats | None
    """None where a cloud has none."""
    area: float
    axes: Floats | None = None
    """For a cloud without normals: the direction in which its neighbours spread least, of either sign."""

    def directions(self, transform: RigidTransform) -> tuple[Floats | None, bool]:
        """Normals or axes as they lie in a pose, and whether either sign is meant."""
        if self.normals is not None:
            return transform.turn(self.normals), False
        return (None, False) if self.axes is None else (transform.turn(self.axes), True)


def scan_sample(scan: Scan, count: int) -> ScanSample:
    """About `count` points spread evenly over the area of a scan.

    Points are taken at equal steps of the running sum of area in the scan's own order, so that the choice does not
    depend on the pose and needs no random numbers. A thinned mesh has large triangles between few corners, so its
    sample lies on the triangles.
    """
    if isinstance(scan, TriangleMesh) and len(scan.points) < count:
        return _on_triangles(scan, count)
    areas = scan.point_areas
    total = float(areas.sum())
    count = min(count, len(scan.points))
    steps = (np.arange(count) + 0.5) * total / count
    chosen = np.unique(np.searchsorted(np.cumsum(areas), steps).clip(0, len(areas) - 1))
    normals, points = scan.normals, scan.points[chosen]
    axes = scan.axes_at(points) if isinstance(scan, PointCloud) and normals is None else None
    return ScanSample(points, None if normals is None else normals[chosen], total / max(len(chosen), 1), axes)


def _on_triangles(mesh: TriangleMesh, count: int) -> ScanSample:
    """Places within the triangles, by area; inside each of them along a sequence that fills it evenly (Roberts 2018)."""
    running = np.cumsum(mesh.triangle_areas)
    owner = np.searchsorted(running, (np.arange(count) + 0.5) * running[-1] / count).clip(0, len(running) - 1)
    u, v = (np.arange(count)[:, None] * np.array([0.7548776662466927, 0.5698402909980532]) % 1.0).T
    over = u + v > 1
    u, v = np.where(over, 1 - u, u), np.where(over, 1 - v, v)
    a, b, c = np.moveaxis(mesh.points[mesh.triangles[owner]], 1, 0)
    points = a + u[:, None] * (b - a) + v[:, None] * (c - a)
    return ScanSample(points, mesh.triangle_normals[owner], float(running[-1]) / count)
