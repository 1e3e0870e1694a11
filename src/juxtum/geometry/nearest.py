"""Nearest points on a triangle mesh by a bounding-volume tree, exact in float64."""

from __future__ import annotations

import threading
from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt

from juxtum.geometry.arrays import Bools, Floats, Ints, cross, unit

AT_A_TIME = 1 << 15
"""So many points at once: whoever points at one place meanwhile does not wait for a whole scan."""
KERNEL_LOCK = threading.Lock()
"""The default threading layer of the compiler cannot be entered twice, so parallel kernels take turns."""


@dataclass(frozen=True, eq=False)
class Nearest:
    """Answers of a nearest-point search.

    Parameters
    ----------
    distances : array (N,)
        Unsigned, mm; the search limit where nothing was found.
    triangles : array (N,)
        Index of the nearest triangle, -1 where nothing was found.
    weights : array (N, 3)
        Barycentric weights of the nearest point.
    regions : array (N,)
        0 inside, 1-3 at corner 0-2, 4 on edge 01, 5 on edge 12, 6 on edge 20.
    """

    distances: Floats
    triangles: Ints
    weights: Floats
    regions: npt.NDArray[np.int8]

    @property
    def found(self) -> Bools:
        """Where something was found (N,)."""
        return self.triangles >= 0


class NearestTree:
    """A median-split tree of boxes over the triangles of a mesh.

    Parameters
    ----------
    points : array (N, 3)
    triangles : array (M, 3)

    Examples
    --------
    >>> tree = NearestTree(np.eye(3), np.array([[0, 1, 2]]))
    >>> round(float(tree.query(np.zeros((1, 3))).distances[0]), 6)
    0.57735
    """

    def __init__(self, points: Floats, triangles: Ints) -> None:
        from juxtum.geometry import _tree_kernels as kernels

        # Corner by corner: reductions along the short axis of (M, 3, 3) take three times as long.
        a, b, c = (points[triangles[:, k]] for k in range(3))
        lows, highs = np.minimum(np.minimum(a, b), c), np.maximum(np.maximum(a, b), c)
        order, *self._nodes = kernels.build((a + b + c) / 3, lows, highs)
        self._order = order
        a, b, c = a[order], b[order], c[order]
        self._rows = np.concatenate([a, b - a, c - a], 1)
        self._normals = unit(cross(b - a, c - a))
        self._facing = kernels.facings(self._normals, *self._nodes[1:])

    def query(
        self,
        points: Floats,
        directions: Floats | None = None,
        *,
        limit: float = np.inf,
        angle: float = 60.0,
        either_side: bool = False,
    ) -> Nearest:
        """Nearest points of the mesh.

        Parameters
        ----------
        points : array (N, 3)
        directions : array (N, 3), optional
            When given, only triangles whose normal lies within `angle` degrees of the direction count.
        limit : float
            Nothing farther than this is found, mm.
        angle : float
            Degrees.
        either_side : bool
            Whether a direction means its opposite as well.
        """
        used = np.empty((0, 3)) if directions is None else directions
        how = np.cos(np.radians(angle)), either_side, float(min(limit, 1e150))
        pieces = [slice(k, k + AT_A_TIME) for k in range(0, max(len(points), 1), AT_A_TIME)]
        made = [self._some(points[piece], used[piece], how) for piece in pieces]
        squared, triangles, weights, regions = (np.concatenate(parts) for parts in zip(*made, strict=True))
        full = np.column_stack([1 - weights.sum(1), weights])
        return Nearest(np.sqrt(squared), triangles, full, regions)

    def _some(self, points: Floats, directions: Floats, how: tuple[float, bool, float]) -> tuple[Any, ...]:
        """Squared distances, triangles, weights and regions of a few points; no directions are an empty array."""
        from juxtum.geometry import _tree_kernels as kernels

        places, ways = (np.ascontiguousarray(part, dtype=np.float64) for part in (points, directions))
        with KERNEL_LOCK:
            found: tuple[Any, ...] = kernels.nearest(
                places, ways, *how, self._rows, self._normals, self._facing, self._order, *self._nodes
            )
        return found

    def first_hit(self, origin: Floats, direction: Floats) -> tuple[int, Floats] | None:
        """Triangle and place (3,) where a ray first meets the mesh from either side, or None."""
        from juxtum.geometry import _tree_kernels as kernels

        start, along = np.asarray(origin, dtype=np.float64), np.asarray(direction, dtype=np.float64)
        triangle, distance = kernels.first_hit(start, along, self._rows, self._order, *self._nodes)
        return None if triangle < 0 else (int(triangle), np.asarray(start + distance * along))
