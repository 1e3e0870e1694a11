"""Single points that lie beside the surface: alone in the air, or sticking out of their neighbours."""

from __future__ import annotations

import numpy as np

from juxtum.errors import InputError
from juxtum.geometry import PointCloud
from juxtum.geometry.arrays import Bools, Floats
from juxtum.geometry.mesh import Scan, TriangleMesh
from juxtum.geometry.topology import border_points

NEIGHBOURS = 16
ALONE = 4
"""A point with fewer others within three reaches is alone."""
OUT = 6.0
"""A point that sticks out so many times as far as is usual is a spike."""
FAR = 2.0
"""What is alone or sticks out is so many times as far from the next points as those are from each other."""
TIP = 150.0
"""Where the triangles round a corner make fewer degrees together, it is the tip of a spike: the corner of a cube has 270."""


def strays(scan: Scan) -> Bools:
    """Which points (N,) of a scan are alone, or stick out of their neighbours by some distances between points.

    A point of a mesh is never alone: what hangs loose of one is a fragment.
    """
    return _tips(scan) if isinstance(scan, TriangleMesh) else _apart(scan)


def _tips(mesh: TriangleMesh) -> Bools:
    """Corners round which the triangles make too small an angle together; borders have no such angle."""
    angles = np.zeros(len(mesh.points))
    places = mesh.corners
    for corner in range(3):
        here = places[:, corner]
        one, two = places[:, (corner + 1) % 3] - here, places[:, (corner + 2) % 3] - here
        across = np.linalg.norm(np.cross(one, two), axis=1)
        angle = np.arctan2(across, np.einsum("md,md->m", one, two))
        angles += np.bincount(mesh.triangles[:, corner], angle, len(angles))
    return np.asarray((angles < np.radians(TIP)) & ~border_points(mesh))


def _apart(cloud: PointCloud) -> Bools:
    from scipy.spatial import cKDTree

    points = cloud.points
    count, reach = min(NEIGHBOURS + 1, len(points)), 3 * cloud.reach
    tree = cKDTree(points)
    heights, usual, lonely = (np.zeros(len(points)) for _ in range(3))
    alone = np.zeros(len(points), dtype=bool)
    for start in range(0, len(points), 200_000):
        rows = np.arange(start, min(start + 200_000, len(points)))
        distances, others = tree.query(points[rows], k=count, distance_upper_bound=reach, workers=-1)
        found = np.isfinite(distances[:, 1:])
        alone[rows] = found.sum(1) < ALONE
        near = points[np.where(found, others[:, 1:], rows[:, None])]
        heights[rows], usual[rows] = _sticking_out(points[rows], near)
        lonely[rows] = np.where(found[:, 1], distances[:, 2], reach)
    calm = max(float(np.median(usual[~alone])) if (~alone).any() else 0.0, 1e-12)
    out: Bools = alone | (np.abs(heights) > OUT * np.maximum(usual, calm))
    rows = np.flatnonzero(out)
    # At an edge of the part points stand out of the plane of their neighbours too, but no farther than those from each other.
    _, others = tree.query(points[rows], k=count, workers=-1)
    out[rows] = lonely[rows] > FAR * np.quantile(lonely[others[:, 1:]], 0.75, axis=1)
    return out


def _sticking_out(points: Floats, near: Floats) -> tuple[Floats, Floats]:
    """Height of each point (N,) over its neighbours (N, K, 3), and how far those spread themselves.

    Over the median of the neighbours, along the direction in which they spread least: a spike among them tilts neither.
    """
    middle = np.median(near, axis=1, keepdims=True)
    arms = near - middle
    _, vectors = np.linalg.eigh(np.einsum("nki,nkj->nij", arms, arms))
    axis = vectors[:, :, 0]
    spread = 1.4826 * np.median(np.abs(np.einsum("nkd,nd->nk", arms, axis)), axis=1)
    return np.einsum("nd,nd->n", points - middle[:, 0], axis), spread


def without_strays(scan: Scan) -> Scan:
    """The scan without them.

    Raises
    ------
    InputError
        When nothing would be left.
    """
    keep = ~strays(scan)
    if not keep.any():
        raise InputError("all points lie apart from each other", "stray points", "See whether the unit is right")
    return scan if keep.all() else scan.kept(keep)
