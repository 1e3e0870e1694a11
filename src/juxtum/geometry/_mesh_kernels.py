"""Compiled loops over triangles that would need large temporary arrays otherwise."""
# mypy: disable-error-code="untyped-decorator,no-untyped-def"

from __future__ import annotations

import numpy as np

from juxtum.compiled import numba as nb


@nb.njit(cache=True, nogil=True)
def point_normals(points, triangles):
    """Unit normals of points, weighted by the angles of their triangles (Baerentzen and Aanaes 2005)."""
    total = np.zeros((len(points), 3))
    edge = np.empty((3, 3))
    length = np.empty(3)
    for t in range(len(triangles)):
        for k in range(3):
            start, end = triangles[t, k], triangles[t, (k + 1) % 3]
            square = 0.0
            for axis in range(3):
                edge[k, axis] = points[end, axis] - points[start, axis]
                square += edge[k, axis] ** 2
            length[k] = np.sqrt(square)
        nx = edge[0, 1] * edge[1, 2] - edge[0, 2] * edge[1, 1]
        ny = edge[0, 2] * edge[1, 0] - edge[0, 0] * edge[1, 2]
        nz = edge[0, 0] * edge[1, 1] - edge[0, 1] * edge[1, 0]
        size = np.sqrt(nx * nx + ny * ny + nz * nz)
        if size == 0.0:
            continue
        for k in range(3):
            before = (k + 2) % 3
            lengths = length[k] * length[before]
            if lengths == 0.0:
                continue
            cosine = (
                -(edge[k, 0] * edge[before, 0] + edge[k, 1] * edge[before, 1] + edge[k, 2] * edge[before, 2]) / lengths
            )
            angle = np.arccos(min(max(cosine, -1.0), 1.0)) / size
            p = triangles[t, k]
            total[p, 0] += angle * nx
            total[p, 1] += angle * ny
            total[p, 2] += angle * nz
    for p in range(len(points)):
        size = np.sqrt(total[p, 0] ** 2 + total[p, 1] ** 2 + total[p, 2] ** 2)
        if size > 0.0:
            for axis in range(3):
                total[p, axis] /= size
    return total
