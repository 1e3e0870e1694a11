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


@nb.njit(cache=True, nogil=True)
def beside(triangles, count):
    """The triangle (M, 3) beyond each edge 01, 12, 20, -1 where there is none or not one alone; whether both are wound alike.

    Edges are put together by the lower of their ends, of which few have many.
    """
    edges = 3 * len(triangles)
    starts = np.zeros(count + 1, np.int64)
    for t in range(len(triangles)):
        for k in range(3):
            starts[min(triangles[t, k], triangles[t, (k + 1) % 3]) + 1] += 1
    for p in range(count):
        starts[p + 1] += starts[p]
    at = starts[:-1].copy()
    order, upper = np.empty(edges, np.int64), np.empty(edges, np.int64)
    for t in range(len(triangles)):
        for k in range(3):
            one, two = triangles[t, k], triangles[t, (k + 1) % 3]
            place = at[min(one, two)]
            at[min(one, two)] += 1
            order[place], upper[place] = 3 * t + k, max(one, two)
    other = np.full((len(triangles), 3), -1, np.int64)
    agrees = np.zeros((len(triangles), 3), np.bool_)
    for p in range(count):
        first, last = starts[p], starts[p + 1]
        if last - first > 16:
            by_upper = np.argsort(upper[first:last])
            order[first:last] = order[first:last][by_upper]
            upper[first:last] = upper[first:last][by_upper]
        else:
            for i in range(first + 1, last):
                edge, end, j = order[i], upper[i], i
                while j > first and upper[j - 1] > end:
                    order[j], upper[j] = order[j - 1], upper[j - 1]
                    j -= 1
                order[j], upper[j] = edge, end
        i = first
        while i < last:
            j = i + 1
            while j < last and upper[j] == upper[i]:
                j += 1
            if j == i + 2:
                one, two = order[i], order[i + 1]
                other[one // 3, one % 3], other[two // 3, two % 3] = two // 3, one // 3
                ahead = triangles[one // 3, one % 3] == p
                back = triangles[two // 3, two % 3] == p
                agrees[one // 3, one % 3] = agrees[two // 3, two % 3] = ahead != back
            i = j
    return other, agrees
