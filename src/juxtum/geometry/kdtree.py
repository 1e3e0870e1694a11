"""A tree over single points; its library is imported when the first is made, not with the program."""

from __future__ import annotations

from typing import TYPE_CHECKING

from juxtum.geometry.arrays import Floats

if TYPE_CHECKING:
    from scipy.spatial import cKDTree


def kd_tree(points: Floats, *, quickly: bool = False) -> cKDTree:
    """A tree over points (N, D): nearest neighbours, and all within a radius.

    Parameters
    ----------
    quickly : bool
        Made quickly rather than asked quickly, for points that change all the time.

    Examples
    --------
    >>> import numpy as np
    >>> distance, row = kd_tree(np.array([[0.0, 0, 0], [1, 0, 0]])).query([0.9, 0, 0])
    >>> int(row)
    1
    """
    from scipy.spatial import cKDTree

    return cKDTree(points, balanced_tree=not quickly, compact_nodes=not quickly)
