"""Loose pieces of a scan."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from juxtum.geometry.arrays import Bools, Floats, Ints, frozen
from juxtum.geometry.mesh import AROUND, Scan, TriangleMesh
from juxtum.geometry.topology import piece_labels

REACH = 3.0
"""Points of a list belong together when they are nearer than about this many spacings."""

SIZEABLE = 4.0
"""Area, in squares of the distance between points, from which a piece is more than a few stray points."""
BESIDE = 5.0
"""Distances between points within which a piece lies beside another."""


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
        # The nearest neighbour of a scattered point is much nearer than the next one over, and along the lines of a
        # scanner points lie much closer than from line to line.
        raw = cloud_labels(scan.points, max(2 * scan.spacing, scan.surroundings(AROUND) / 2.5))
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
    _, first, owner = np.unique(
        (cells[:, 0] * span[1] + cells[:, 1]) * span[2] + cells[:, 2], return_index=True, return_inverse=True
    )
    # 1.75 reaches the 26 cubes round each cube and nothing beyond.
    pairs = cKDTree(cells[first]).query_pairs(1.75, output_type="ndarray")
    count = len(first)
    graph = coo_matrix((np.ones(len(pairs), np.int8), (pairs[:, 0], pairs[:, 1])), shape=(count, count))
    _, labels = connected_components(graph, directed=False)
    return np.asarray(labels[owner], dtype=np.int32)


def drop_fragments(scan: Scan, smallest: float | None, share: float | None = None) -> Scan:
    """Drop pieces smaller than `smallest` mm2 or than a `share` of the largest; all but the largest when both are None.

    A piece below the share that lies close beside a larger one is none that floats in the air (the wall of a hole, seen
    past its rim): it stays.
    """
    fragments = find_fragments(scan)
    limit = smallest
    if share is not None:
        limit = max(smallest or 0.0, share * float(fragments.areas[0]))
    kept = 1 if limit is None else max(int((fragments.areas >= limit).sum()), 1)
    keep = fragments.labels < kept
    if share is not None:
        keep |= _beside(scan, fragments, kept, smallest or 0.0)
    return scan.kept_triangles(keep) if isinstance(scan, TriangleMesh) else scan.kept(keep)


def keep_pieces(scan: Scan, count: int | None = None, apart: float | None = None) -> Scan:
    """Keep so many of the largest pieces, and of the lesser ones none that hangs far from the largest.

    Parameters
    ----------
    count : int, optional
        How many pieces stay at most.
    apart : float, optional
        Pieces farther from the largest than so many spacings go.
    """
    fragments = find_fragments(scan)
    keep = np.ones(len(fragments.labels), dtype=bool) if count is None else fragments.labels < count
    if apart is not None:
        keep &= ~_far(scan, fragments, apart)
    return scan.kept_triangles(keep) if isinstance(scan, TriangleMesh) else scan.kept(keep)


def _far(scan: Scan, fragments: Fragments, apart: float) -> Bools:
    """Triangles or points (N,) of pieces of which no place lies within so many spacings of the largest piece."""
    from scipy.spatial import cKDTree

    if isinstance(scan, TriangleMesh):
        owner = np.zeros(len(scan.points), dtype=np.int64)
        owner[scan.triangles] = fragments.labels[:, None]
    else:
        owner = np.asarray(fragments.labels, dtype=np.int64)
    others = np.flatnonzero(owner > 0)
    if len(others) == 0:
        return np.zeros(len(fragments.labels), dtype=bool)
    limit = apart * _step(scan)
    near, _ = cKDTree(scan.points[owner == 0]).query(scan.points[others], distance_upper_bound=limit, workers=-1)
    beside = np.zeros(int(fragments.labels.max()) + 1, dtype=bool)
    beside[0] = True
    beside[np.unique(owner[others[np.isfinite(near)]])] = True
    return np.asarray(~beside[fragments.labels])


def _beside(scan: Scan, fragments: Fragments, kept: int, smallest: float) -> Bools:
    """Triangles or points (N,) of the lesser pieces that have some size and lie close beside those that are kept."""
    from scipy.spatial import cKDTree

    places = scan.corners.mean(1) if isinstance(scan, TriangleMesh) else scan.points
    step = _step(scan)
    sizeable = int((fragments.areas >= max(smallest, SIZEABLE * step**2)).sum())
    rows = np.flatnonzero((fragments.labels >= kept) & (fragments.labels < sizeable))
    beside = np.zeros(len(places), dtype=bool)
    if len(rows) == 0:
        return beside
    apart, _ = cKDTree(places[fragments.labels < kept]).query(places[rows], distance_upper_bound=BESIDE * step)
    nearest = np.full(sizeable, np.inf)
    np.minimum.at(nearest, fragments.labels[rows], apart)
    beside[rows] = np.isfinite(nearest[fragments.labels[rows]])
    return beside


def _step(scan: Scan) -> float:
    """How far neighbouring points are apart, mm."""
    if isinstance(scan, TriangleMesh):
        some = scan.corners[:: max(1, len(scan.triangles) // 20_000)]
        return float(np.median(np.linalg.norm(some - np.roll(some, 1, axis=1), axis=2)))
    return scan.spacing
