"""Loose pieces of a scan."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from juxtum.geometry.arrays import Floats, Ints, frozen
from juxtum.geometry.mesh import Scan, TriangleMesh
from juxtum.geometry.topology import piece_labels

REACH = 3.0
"""Points of a list belong together when they are nearer than about this many spacings."""


@dataclass(frozen=True, eq=False)
class Fragments:
    """The connected pieces of a scan, largest first.

    Parameters
    ----------
    labels : array (M,)
        Rank of the piece of each triangle (of each point in a point list); 0 is the largest by area.
    areas : array (K,)
        mm2, falling; of a point list the number of points times the square of its spacing.
    """

    labels: Ints
    areas: Floats


def find_fragments(scan: Scan) -> Fragments:
    """Number the connected pieces of a scan by falling area."""
    if isinstance(scan, TriangleMesh):
        raw = piece_labels(scan)
        areas = np.asarray(np.bincount(raw, scan.triangle_areas), dtype=np.float64)
    else:
        # The nearest neighbour of a scattered point is much nearer than the next one over.
        raw = cloud_labels(scan.points, 2 * scan.spacing)
        areas = np.asarray(np.bincount(raw) * scan.spacing**2, dtype=np.float64)
    order = np.argsort(-areas, kind="stable")
    rank = np.empty(len(order), dtype=np.int32)
    rank[order] = np.arange(len(order))
    present = areas[order] > 0
    return Fragments(frozen(rank[raw], np.int32), frozen(areas[order][present]))


def cloud_labels(points: Floats, spacing: float) -> Ints:
    """Piece of each point (N, 3): points in cubes of three spacings that touch belong together."""
    from scipy.sparse import coo_matrix
    from scipy.sparse.csgraph import connected_components
    from scipy.spatial import cKDTree

    size = max(REACH * spacing, 1e-9)
    cells = np.floor((points - points.min(0)) / size).astype(np.int64)
    span = cells.max(0) + 1
    _, first, owner = np.unique((cells[:, 0] * span[1] + cells[:, 1]) * span[2] + cells[:, 2], return_index=True, return_inverse=True)
    # 1.75 reaches the 26 cubes round each cube and nothing beyond.
    pairs = cKDTree(cells[first]).query_pairs(1.75, output_type="ndarray")
    count = len(first)
    graph = coo_matrix((np.ones(len(pairs), np.int8), (pairs[:, 0], pairs[:, 1])), shape=(count, count))
    _, labels = connected_components(graph, directed=False)
    return np.asarray(labels[owner], dtype=np.int32)


def drop_fragments(scan: Scan, smallest: float | None, share: float | None = None) -> Scan:
    """Drop pieces smaller than `smallest` mm2 or than a `share` of the largest; all but the largest when both are None."""
    fragments = find_fragments(scan)
    if share is not None:
        smallest = max(smallest or 0.0, share * float(fragments.areas[0]))
    kept = 1 if smallest is None else max(int((fragments.areas >= smallest).sum()), 1)
    keep = fragments.labels < kept
    return scan.kept_triangles(keep) if isinstance(scan, TriangleMesh) else scan.kept(keep)
