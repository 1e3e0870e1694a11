"""Which triangles of those that cross have to go: as few as can be, the narrowest first."""

from __future__ import annotations

import heapq

import numpy as np

from juxtum.geometry.arrays import Bools, Floats, Ints, areas_of
from juxtum.geometry.nearest import KERNEL_LOCK

MOST = 6
"""Of so many that a triangle passes through at once they are told; where there are more, what is left is looked at again."""


def to_go(points: Floats, triangles: Ints) -> Bools:
    """Triangles (M,) without which none of the others crosses another.

    A fold is gone with the one triangle that passes through those about it: taking them all leaves a hole as large as the fold
    and its neighbours. So the one that crosses most goes first, the narrowest of as many, until none is left that crosses.

    Parameters
    ----------
    points : array (N, 3)
    triangles : array (M, 3)
    """
    from juxtum.assemble.finishing import _finishing_kernels as kernels
    from juxtum.geometry import _tree_kernels as trees

    left = np.arange(len(triangles))
    while len(left):
        corners = points[triangles[left]]
        tree = trees.build(corners.mean(1), corners.min(1), corners.max(1))
        with KERNEL_LOCK:
            others, numbers = kernels.crossed(points, triangles[left].astype(np.int64), *tree, MOST)
        rows, columns = np.nonzero(others >= 0)
        pairs = np.unique(np.sort(np.column_stack([rows, others[rows, columns]]), axis=1), axis=0)
        left = np.delete(left, _cover(pairs, _widths(points, triangles[left])))
        if (numbers <= MOST).all():
            break
    gone = np.ones(len(triangles), dtype=bool)
    gone[left] = False
    return gone


def _widths(points: Floats, triangles: Ints) -> Floats:
    """Smallest height of each triangle (M,), mm."""
    longest = np.linalg.norm(points[triangles] - points[np.roll(triangles, -1, axis=1)], axis=2).max(1)
    return np.asarray(2 * areas_of(points, triangles) / np.maximum(longest, 1e-300))


def _cover(pairs: Ints, widths: Floats) -> list[int]:
    """Of each pair (K, 2) one at least: whoever is in most pairs goes first, the narrowest of as many."""
    others: dict[int, set[int]] = {}
    for one, other in pairs.tolist():
        others.setdefault(one, set()).add(other)
        others.setdefault(other, set()).add(one)
    waiting = [(-len(with_whom), float(widths[row]), row) for row, with_whom in others.items()]
    heapq.heapify(waiting)
    gone: list[int] = []
    while waiting:
        count, width, row = heapq.heappop(waiting)
        left = len(others[row])
        if left == 0:
            continue
        if left != -count:
            heapq.heappush(waiting, (-left, width, row))
            continue
        gone.append(row)
        for other in others.pop(row):
            others[other].discard(row)
        others[row] = set()
    return gone
