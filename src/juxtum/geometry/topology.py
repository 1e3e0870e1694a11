"""How triangles hang together: welding, pieces, borders, defects."""

from __future__ import annotations

from dataclasses import dataclass
from weakref import WeakKeyDictionary

import numpy as np
import numpy.typing as npt

from juxtum.geometry.arrays import Bools, Floats, Ints, areas_of, frozen
from juxtum.geometry.mesh import TriangleMesh


def weld(corners: Floats, tolerance: float = 0.0) -> tuple[Floats, Ints]:
    """Shared points (N, 3) and triangles (M, 3) from loose corners (3M, 3).

    Points are joined when all coordinates agree after rounding to `tolerance` (exactly, when it is 0).
    """
    keys = corners if tolerance <= 0 else np.round(corners / tolerance)
    rows = np.ascontiguousarray(keys + 0.0).view(np.dtype((np.void, keys.dtype.itemsize * 3))).ravel()
    _, first, inverse = np.unique(rows, return_index=True, return_inverse=True)
    return corners[first], inverse.reshape(-1, 3).astype(np.int32)


def sound_triangles(points: Floats, triangles: Ints) -> Bools:
    """Which triangles (M,) have three different corners, some area, and are not a repeat of another."""
    a, b, c = triangles.T
    distinct = (a != b) & (b != c) & (a != c)
    distinct &= areas_of(points, triangles) > 0
    keys = np.sort(triangles, axis=1)
    order = np.lexsort(keys.T)
    repeat = np.zeros(len(triangles), dtype=bool)
    repeat[order[1:]] = (keys[order[1:]] == keys[order[:-1]]).all(1)
    return np.asarray(distinct & ~repeat)


def piece_labels(mesh: TriangleMesh) -> Ints:
    """Number of the connected piece of each triangle (M,), pieces joined through shared points."""
    from scipy.sparse import coo_matrix
    from scipy.sparse.csgraph import connected_components

    t = mesh.triangles
    n = len(mesh.points)
    rows, columns = np.concatenate([t[:, 0], t[:, 1]]), np.concatenate([t[:, 1], t[:, 2]])
    graph = coo_matrix((np.ones(len(rows), np.int8), (rows, columns)), shape=(n, n))
    _, labels = connected_components(graph, directed=False)
    return np.asarray(labels[t[:, 0]], dtype=np.int32)


def components(count: int, first: Ints, second: Ints) -> Ints:
    """Number (from 0) of the connected group of each of `count` things, of which pairs are joined.

    Every group takes the lowest number in it, by hooking and jumping (Shiloach and Vishkin 1982); the packages that do
    the same take longer to load than most meshes to read.
    """
    lowest = np.arange(count)
    while True:
        here, there = lowest[first], lowest[second]
        apart = here != there
        if not apart.any():
            return np.unique(lowest, return_inverse=True)[1].astype(np.int32)
        first, second = first[apart], second[apart]
        np.minimum.at(lowest, np.maximum(here, there)[apart], np.minimum(here, there)[apart])
        while (lowest[lowest] != lowest).any():
            lowest = lowest[lowest]


def edge_keys(triangles: Ints, count: int) -> npt.NDArray[np.int64]:
    """One number per undirected edge (M, 3) for edges 01, 12 and 20."""
    first = triangles.astype(np.int64)
    second = np.roll(first, -1, axis=1)
    return np.minimum(first, second) * count + np.maximum(first, second)


def beside(triangles: Ints, count: int) -> tuple[Ints, Bools]:
    """The triangle (M, 3) beyond each edge 01, 12, 20, -1 where there is none or not one alone; whether both are wound alike."""
    from juxtum.geometry import _mesh_kernels as kernels

    found: tuple[Ints, Bools] = kernels.beside(np.asarray(triangles, dtype=np.int64), count)
    return found


@dataclass(frozen=True)
class Closure:
    """Whether a mesh is closed and consistently wound."""

    border_edges: int
    crowded_edges: int
    reversed_edges: int

    @property
    def is_watertight(self) -> bool:
        """Every edge has exactly two triangles that run along it in opposite directions."""
        return self.border_edges == self.crowded_edges == self.reversed_edges == 0


def closure(mesh: TriangleMesh) -> Closure:
    """Count the edges that keep a mesh from being watertight."""
    keys = edge_keys(mesh.triangles, len(mesh.points)).ravel()
    forward = (mesh.triangles < np.roll(mesh.triangles, -1, axis=1)).ravel()
    _, inverse, counts = np.unique(keys, return_inverse=True, return_counts=True)
    ahead = np.bincount(inverse, forward, len(counts))
    return Closure(
        border_edges=int((counts == 1).sum()),
        crowded_edges=int((counts > 2).sum()),
        reversed_edges=int(((counts == 2) & (ahead != 1)).sum()),
    )


_KNOWN_BORDERS: WeakKeyDictionary[TriangleMesh, Bools] = WeakKeyDictionary()
"""Of meshes that are still about: a map, its foreign surface and every datum ask for the same one."""


def border_points(mesh: TriangleMesh) -> Bools:
    """Which points (N,) lie on an open border; worked out once for each mesh."""
    found = _KNOWN_BORDERS.get(mesh)
    if found is None:
        found = _KNOWN_BORDERS[mesh] = frozen(_on_border(mesh), np.bool_)
    return found


def _on_border(mesh: TriangleMesh) -> Bools:
    keys = edge_keys(mesh.triangles, len(mesh.points)).ravel()
    order = np.argsort(keys, kind="stable")
    ordered = keys[order]
    alone = np.ones(len(ordered), dtype=bool)
    same = ordered[1:] == ordered[:-1]
    alone[1:] &= ~same
    alone[:-1] &= ~same
    edges = order[alone]
    starts = mesh.triangles.ravel()[edges]
    ends = np.roll(mesh.triangles, -1, axis=1).ravel()[edges]
    mask = np.zeros(len(mesh.points), dtype=bool)
    mask[starts] = mask[ends] = True
    return mask
