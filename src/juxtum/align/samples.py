"""Even samples of a scan, so that dense places do not outweigh sparse ones."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np

from juxtum.geometry.arrays import Bools, Floats, value_at_share
from juxtum.geometry.mesh import PointCloud, Scan, TriangleMesh
from juxtum.geometry.transform import RigidTransform

BLURRED = 0.05
"""Neighbours that spread more than this across the surface, of their variance along it, do not tell its normal."""
EVEN = 0.8
"""Where fewer points than this share have an equal part of the area each, they are not spread evenly."""


@dataclass(frozen=True, eq=False)
class ScanSample:
    """Points of a scan with their normals and the area each stands for, mm2."""

    points: Floats
    normals: Floats | None
    """None where a cloud has none."""
    area: float
    axes: Floats | None = None
    """For a cloud without normals: the direction in which its neighbours spread least, of either sign."""
    clear: Bools | None = None
    """Which of these axes can be trusted; beside edges they cannot."""

    @cached_property
    def trusted(self) -> ScanSample:
        """Only the points whose axes can be trusted; all where none are needed, or where next to none can be."""
        if self.clear is None or self.axes is None or self.clear.mean() < 0.3:
            return self
        return ScanSample(self.points[self.clear], None, self.area / float(self.clear.mean()), self.axes[self.clear])

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
    if isinstance(scan, TriangleMesh) and len(chosen) < EVEN * count:
        # Its corners lie in clusters, with wide triangles between them.
        return _on_triangles(scan, count)
    normals, points = scan.normals, scan.points[chosen]
    area = total / max(len(chosen), 1)
    if isinstance(scan, PointCloud) and normals is None:
        axes, blur = scan.axes_at(points)
        return ScanSample(points, None, area, axes, blur < BLURRED)
    return ScanSample(points, None if normals is None else normals[chosen], area)


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


def nearest_of_each_facing(apart: Floats, normals: Floats, share: float) -> Bools:
    """The nearest share of points (N,), counted for each way in which the surface faces on its own.

    Otherwise the narrow sides of a plate, which alone hold it along its plane, would be the first to be left out.

    Parameters
    ----------
    apart : array (N,)
        How far each point lies from its foot, mm, no sign.
    normals : array (N, 3)
        Of the surface at the feet.
    """
    along = np.abs(normals).argmax(1)
    facing = 2 * along + (normals[np.arange(len(normals)), along] < 0)
    keep = np.zeros(len(apart), dtype=bool)
    for way in range(6):
        rows = facing == way
        if rows.any():
            keep[rows] = apart[rows] <= value_at_share(apart[rows], share)
    return keep


def pulls(points: Floats, feet: Floats, normals: Floats) -> tuple[Floats, Floats]:
    """Along which direction (N, 3) each point is pulled to its foot, and how far it is off along it (N,), mm.

    Along the surface's normal, which lets it slide; but where the foot lies on a border, beyond which the point is,
    straight to it: a plate that is seen from above is held along its plane by nothing but its outline and its holes.
    """
    away = points - feet
    apart = np.linalg.norm(away, axis=1)
    heights = np.einsum("ij,ij->i", away, normals)
    beyond = np.abs(heights) < 0.8 * apart
    straight = away / np.maximum(apart, 1e-12)[:, None]
    return np.where(beyond[:, None], straight, normals), np.where(beyond, apart, heights)
