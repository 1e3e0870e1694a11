"""What a deviation cannot say: scan surface where the nominal has none, and nominal surface that the scan passes by."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from juxtum.assemble.fragments import cloud_labels
from juxtum.geometry.arrays import Bools, Floats, Ints, frozen
from juxtum.geometry.mesh import Scan, TriangleMesh
from juxtum.geometry.topology import border_points
from juxtum.nominal import Nominal

LEAST_AREA = 1.0
"""Patches smaller than this are strays, mm2; on coarse scans smaller than four squares of the spacing."""
LEAST_POINTS = 4
LEAST_OF_CLOUD = 12
"""A list of points has no triangles to vouch for a patch, so it takes more of them."""
OPEN_RIM = 0.25
"""A patch of whose rim more than this share is open border stands by itself; the rest grows out of the part."""


@dataclass(frozen=True, eq=False)
class ForeignPatch:
    """Connected scan surface where the nominal has none within the search limits.

    Parameters
    ----------
    area : float
        mm2.
    place : array (3,)
        Of the point farthest from the nominal, part coordinates.
    nearest, farthest : float
        Distance of its points from the nominal, mm.
    rows : array (K,)
        Its points.
    faces : tuple of int
        Numbers of the nominal faces nearest to it.
    is_grown : bool
        Whether scan surface goes on all round it, as round a bump or a dent.
    """

    area: float
    place: Floats
    nearest: float
    farthest: float
    rows: Ints
    faces: tuple[int, ...]
    is_grown: bool

    @property
    def sentence(self) -> str:
        """What is there, how large, where and how far off."""
        return f"foreign surface, {_area(self.area)} at {_place(self.place)}, {_far(self.nearest, self.farthest)} from the nominal"


@dataclass(frozen=True, eq=False)
class PassedPatch:
    """Connected nominal surface without data although the scan goes on around it.

    Parameters
    ----------
    area : float
        mm2.
    place : array (3,)
    samples : array (K,)
        Rows of the nominal's samples.
    faces : tuple of int
        Numbers of the nominal faces it lies on.
    """

    area: float
    place: Floats
    samples: Ints
    faces: tuple[int, ...]

    @property
    def sentence(self) -> str:
        """What is missing, how large and where."""
        return (
            f"missing surface, {_area(self.area)} at {_place(self.place)}: the scan goes on around it without an edge"
        )


def _area(area: float) -> str:
    return f"{area:.0f} mm\u00b2" if area >= 10 else f"{area:.1f} mm\u00b2"


def _far(nearest: float, farthest: float) -> str:
    return f"{nearest:.1f} mm" if farthest - nearest < 0.15 else f"{nearest:.1f} to {farthest:.1f} mm"


def _place(place: Floats) -> str:
    return "(" + ", ".join(f"{v:.1f}" for v in place) + ")"


def find_foreign(scan: Scan, points: Floats, strange: Bools, nominal: Nominal) -> tuple[ForeignPatch, ...]:
    """Connected patches of strange points, largest first.

    Parameters
    ----------
    points : array (N, 3)
        Of the scan in part coordinates, mm.
    strange : array (N,)
        Points that no nominal surface explains.
    """
    rows = np.flatnonzero(strange)
    if len(rows) == 0:
        return ()
    labels, areas, is_open = _patches(scan, rows, strange)
    counts, sizes = np.bincount(labels), np.bincount(labels, areas)
    enough = LEAST_POINTS if len(scan.triangles) else LEAST_OF_CLOUD
    large = np.flatnonzero((counts >= enough) & (sizes >= max(LEAST_AREA, 4 * scan.spacing**2)))
    found = []
    for label in large[np.argsort(-sizes[large], kind="stable")]:
        mine = rows[labels == label]
        near = nominal.projector.project(points[mine])
        away = np.abs(near.distances)
        numbers = tuple(int(n) + 1 for n in np.unique(near.faces[near.faces >= 0]))
        spot = frozen(points[mine[int(np.argmax(away))]])
        grown = bool(is_open[labels == label].mean() <= OPEN_RIM) if len(scan.triangles) else False
        found.append(
            ForeignPatch(
                float(sizes[label]), spot, float(away.min()), float(away.max()), frozen(mine, np.int64), numbers, grown
            )
        )
    return tuple(found)


def _patches(scan: Scan, rows: npt.NDArray[np.int64], strange: Bools) -> tuple[npt.NDArray[np.int64], Floats, Floats]:
    """Patch of each strange point, the area it stands for, and whether it lies on the open border (NaN away from the rim)."""
    if not isinstance(scan, TriangleMesh):
        labels = cloud_labels(scan.points[rows], scan.spacing)
        return labels.astype(np.int64), np.full(len(rows), scan.spacing**2), np.zeros(len(rows))
    from scipy.sparse import coo_matrix
    from scipy.sparse.csgraph import connected_components

    touching = scan.triangles[strange[scan.triangles].any(1)]
    first, second = touching.ravel(), np.roll(touching, -1, axis=1).ravel()
    number = np.full(len(scan.points), -1)
    number[rows] = np.arange(len(rows))
    both = strange[first] & strange[second]
    n = len(rows)
    graph = coo_matrix((np.ones(int(both.sum()), np.int8), (number[first[both]], number[second[both]])), shape=(n, n))
    _, labels = connected_components(graph, directed=False)
    border = border_points(scan)[rows]
    rim = border.copy()
    one = strange[first] ^ strange[second]
    rim[number[np.where(strange[first[one]], first[one], second[one])]] = True
    # A patch without any rim floats by itself: all of it counts as open.
    rims, opens = np.bincount(labels, rim), np.bincount(labels, border & rim)
    share = np.where(rims > 0, opens / np.maximum(rims, 1), 1.0)
    return labels.astype(np.int64), scan.point_areas[rows], share[labels]


def find_passed(scan: Scan, points: Floats, seen: Bools, nominal: Nominal) -> tuple[PassedPatch, ...]:
    """Nominal surface without data that no border of the scan explains, largest first.

    A scan that ends shows a border there; a hole that was never drilled, or a boss that is not there, leaves none.
    Lists of points have no borders, so nothing is said of them.
    """
    from scipy.spatial import cKDTree

    if not isinstance(scan, TriangleMesh) or seen.all() or not seen.any():
        return ()
    samples = nominal.samples
    blind = np.flatnonzero(~seen)
    depth = max(3 * scan.spacing, 1.5)
    tree = cKDTree(points, balanced_tree=False, compact_nodes=False)
    away, _ = tree.query(samples.centres[blind], distance_upper_bound=depth, workers=2)
    core = ~np.isfinite(away)
    if not core.any():
        return ()
    labels = _neighbours(samples.centres[blind], 1.6 * samples.size)
    rim = _Rim(scan, points, seen, nominal)
    areas = samples.mesh.triangle_areas[blind]
    found = []
    for label in np.unique(labels[core]):
        mine = labels == label
        if areas[mine & core].sum() < max(2 * LEAST_AREA, 6 * scan.spacing**2) or not rim.is_passed(blind[mine]):
            continue
        rows = blind[mine]
        middle = np.average(samples.centres[rows], axis=0, weights=areas[mine])
        spot = samples.centres[rows[int(np.argmin(np.linalg.norm(samples.centres[rows] - middle, axis=1)))]]
        numbers = tuple(int(n) + 1 for n in np.unique(samples.faces[blind[mine & core]]))
        found.append(PassedPatch(float(areas[mine].sum()), frozen(spot), frozen(rows, np.int64), numbers))
    return tuple(sorted(found, key=lambda p: -p.area))


def _neighbours(centres: Floats, reach: float) -> npt.NDArray[np.int64]:
    """Patch of each place (N,): places nearer to each other than about `reach` belong together."""
    return cloud_labels(centres, reach / 6).astype(np.int64)


class _Rim:
    """Where seen samples lie beside unseen ones, and whether the scan ends there.

    Places are compared together with their normals, so that the far side of a thin wall is no neighbour.
    """

    def __init__(self, scan: TriangleMesh, points: Floats, seen: Bools, nominal: Nominal) -> None:
        from scipy.spatial import cKDTree

        samples = nominal.samples
        self._size = samples.size
        self._features = np.concatenate([samples.centres, samples.size * samples.mesh.triangle_normals], axis=1)
        self._tree = cKDTree(self._features[seen], balanced_tree=False, compact_nodes=False)
        places = samples.centres[seen]
        ends = points[border_points(scan)]
        self._ends = np.zeros(len(places), dtype=bool)
        if len(ends):
            away, _ = cKDTree(ends).query(
                places, distance_upper_bound=max(3 * scan.spacing, 2.4 * samples.size), workers=2
            )
            self._ends = np.isfinite(away)

    def is_passed(self, rows: Ints) -> bool:
        """Whether the scan goes on along more than half of the rim of a patch of samples (K,)."""
        # Beside a corner the normals differ by 90 degrees, through a wall by 180.
        near, found = self._tree.query(self._features[rows], distance_upper_bound=1.8 * self._size, workers=2)
        rim = np.unique(found[np.isfinite(near)])
        return len(rim) > 0 and bool(self._ends[rim].mean() < 0.5)
