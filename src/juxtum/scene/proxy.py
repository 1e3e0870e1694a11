"""A light stand-in for a large mesh, shown while the view moves."""

from __future__ import annotations

import numpy as np

from juxtum.geometry.arrays import Floats, Ints, unit


def clustered(
    points: Floats, triangles: Ints, normals: Floats, scalars: Floats, divisions: int = 110
) -> tuple[Floats, Ints, Floats, Floats]:
    """Points, triangles, normals and scalars of a mesh whose points were merged in cubes.

    Parameters
    ----------
    divisions : int
        Cubes along the longest side.
    """
    low = points.min(0)
    cell = max(float(np.ptp(points, axis=0).max()) / divisions, 1e-9)
    grid = ((points - low) / cell).astype(np.int64)
    keys = (grid[:, 0] * 4096 + grid[:, 1]) * 4096 + grid[:, 2]
    _, owner, count = np.unique(keys, return_inverse=True, return_counts=True)
    size = len(count)

    def summed(rows: Floats) -> Floats:
        return np.stack([np.bincount(owner, rows[:, k], size) for k in range(3)], axis=-1)

    new_points = summed(points) / count[:, None]
    new_normals = unit(summed(normals))
    known = np.isfinite(scalars)
    new_scalars = np.bincount(owner[known], scalars[known], size) / np.maximum(
        np.bincount(owner[known], minlength=size), 1
    )
    new = owner[triangles]
    a, b, c = new.T
    new = new[(a != b) & (b != c) & (a != c)]
    ordered = np.sort(new, axis=1).astype(np.int64)
    _, first = np.unique((ordered[:, 0] * size + ordered[:, 1]) * size + ordered[:, 2], return_index=True)
    new = new[first]
    a, b, c = new.T
    crosses = np.cross(new_points[b] - new_points[a], new_points[c] - new_points[a])
    # Triangles that were turned over by the merging would show as black specks.
    turned = np.einsum("ij,ij->i", crosses, new_normals[new].sum(1)) < 0
    new[turned] = new[turned][:, ::-1]
    return new_points, new.astype(np.int32), new_normals, new_scalars
