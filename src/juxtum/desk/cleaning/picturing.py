"""Some points of a scan as a surface of their own."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from juxtum.geometry import PointCloud, TriangleMesh
from juxtum.geometry.arrays import Bools
from juxtum.geometry.mesh import Scan
from juxtum.scene.drawables import Surface, plain_cloud, plain_surface

MOST = 60_000
"""Points of a cloud that are drawn."""


def picture_of(scan: Scan, chosen: Bools) -> Surface | None:
    """Some points of a scan as a surface of their own, to be drawn."""
    if isinstance(scan, TriangleMesh):
        inside = np.asarray(chosen[scan.triangles].all(1))
        return plain_surface(scan.kept_triangles(inside)) if inside.any() else None
    rows = np.flatnonzero(chosen)
    if len(rows) == 0:
        return None
    some = rows[:: max(1, len(rows) // MOST)]
    normals = np.tile([0.0, 0.0, 1.0], (len(some), 1)) if scan.normals is None else scan.normals[some]
    return plain_cloud(scan.points[some], normals)


def together(parts: Sequence[tuple[Scan, Bools]]) -> tuple[Scan, Bools]:
    """Several scans in the same coordinates as one, with what is chosen of each; points alone where one has no triangles."""
    chosen = np.concatenate([points for _, points in parts])
    scans = [scan for scan, _ in parts]
    if len(scans) == 1:
        return scans[0], chosen
    meshes = [scan for scan in scans if isinstance(scan, TriangleMesh)]
    points = np.concatenate([scan.points for scan in scans])
    if len(meshes) < len(scans):
        return PointCloud(points), chosen
    first = np.cumsum([0, *(len(mesh.points) for mesh in meshes)])
    triangles = np.concatenate([mesh.triangles + start for mesh, start in zip(meshes, first, strict=False)])
    return TriangleMesh(points, triangles), chosen
