"""The rigid motion between two sets of partner points, in closed form; everything that registers points uses it."""

from __future__ import annotations

import numpy as np

from juxtum.geometry.arrays import Floats
from juxtum.geometry.transform import RigidTransform


def rigid_from_pairs(measured: Floats, target: Floats, weights: Floats | None = None) -> RigidTransform:
    """The rigid transform that brings points (N, 3) nearest to their partners (Kabsch 1976, without scale).

    Parameters
    ----------
    weights : array (N,), optional
        Of the squared distances; all alike when not given.

    Examples
    --------
    >>> corners = np.array([[0.0, 0, 0], [1, 0, 0], [0, 1, 0]])
    >>> rigid_from_pairs(corners, corners + [1, 2, 3]).offset.round(9).tolist()
    [1.0, 2.0, 3.0]
    """
    w = np.ones(len(measured)) if weights is None else weights
    total = float(w.sum())
    a, b = w @ measured / total, w @ target / total
    u, _, vt = np.linalg.svd(((target - b) * w[:, None]).T @ (measured - a))
    rotation = u @ np.diag([1, 1, np.sign(np.linalg.det(u @ vt))]) @ vt
    return RigidTransform.from_parts(rotation, b - rotation @ a)
