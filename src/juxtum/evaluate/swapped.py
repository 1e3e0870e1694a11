"""Whether scan and nominal seem to have changed places: two meshes do not say which of them was drawn."""

from __future__ import annotations

import numpy as np

from juxtum.geometry import TriangleMesh
from juxtum.geometry.topology import edge_keys

SWAPPED = "scan and nominal may have changed places: the nominal looks measured and the scan looks drawn; then every sign is turned"
FLAT = 1e-3
"""Neighbouring triangles of a drawing that bend less than this lie in one plane, radians; noise bends them more."""
DRAWN, MEASURED = 0.25, 0.05
"""Share of edges between triangles of one plane: more in a drawing, less in what was measured."""
SAMPLE = 200_000


def flat_share(mesh: TriangleMesh) -> float:
    """Share of the inner edges (0 to 1) whose two triangles lie in one plane."""
    some = mesh if len(mesh.triangles) <= SAMPLE else mesh.kept_triangles(np.arange(len(mesh.triangles)) < SAMPLE)
    keys = edge_keys(some.triangles, len(some.points)).ravel()
    order = np.argsort(keys, kind="stable")
    same = keys[order[1:]] == keys[order[:-1]]
    first, second = order[:-1][same] // 3, order[1:][same] // 3
    if len(first) == 0:
        return 0.0
    normals = some.triangle_normals
    bend = np.linalg.norm(normals[first] - normals[second], axis=1)
    return float((bend < FLAT).mean())


def look_swapped(nominal: TriangleMesh, scan: TriangleMesh) -> bool:
    """Whether the nominal looks measured while the scan looks drawn."""
    return flat_share(nominal) < MEASURED and flat_share(scan) > DRAWN
