"""Loose pieces of a scan."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from juxtum.geometry.arrays import Floats, Ints, frozen
from juxtum.geometry.mesh import PointCloud, Scan, TriangleMesh
from juxtum.geometry.topology import piece_labels


@dataclass(frozen=True, eq=False)
class Fragments:
    """The connected pieces of a mesh, largest first.

    Parameters
    ----------
    labels : array (M,)
        Rank of each triangle's piece; 0 is the largest by area.
    areas : array (K,)
        mm2, falling.
    """

    labels: Ints
    areas: Floats


def find_fragments(mesh: TriangleMesh) -> Fragments:
    """Number the connected pieces of a mesh by falling area."""
    raw = piece_labels(mesh)
    areas = np.bincount(raw, mesh.triangle_areas)
    order = np.argsort(-areas, kind="stable")
    rank = np.empty(len(order), dtype=np.int32)
    rank[order] = np.arange(len(order))
    present = areas[order] > 0
    return Fragments(frozen(rank[raw], np.int32), frozen(areas[order][present]))


def drop_fragments(scan: Scan, smallest: float | None, share: float | None = None) -> Scan:
    """Drop pieces smaller than `smallest` mm2 or than a `share` of the largest; all but the largest when both are None.

    A point list has no pieces; its points more than eight spacings from their neighbours are dropped instead.
    """
    if isinstance(scan, PointCloud):
        return _without_strays(scan)
    fragments = find_fragments(scan)
    if share is not None:
        smallest = max(smallest or 0.0, share * float(fragments.areas[0]))
    if smallest is None:
        return scan.kept_triangles(fragments.labels == 0)
    big = np.flatnonzero(fragments.areas >= smallest)
    return scan.kept_triangles(fragments.labels < max(len(big), 1))


def _without_strays(cloud: PointCloud) -> PointCloud:
    from scipy.spatial import cKDTree

    reach = 8 * cloud.spacing
    distances, _ = cKDTree(cloud.points).query(cloud.points, k=min(7, len(cloud.points)), distance_upper_bound=reach, workers=2)
    return cloud.kept(np.isfinite(distances[:, -1]))
