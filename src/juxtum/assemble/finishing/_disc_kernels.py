"""Compiled: how sure a round step is about each place of a surface."""
# mypy: disable-error-code="untyped-decorator,no-untyped-def"

from __future__ import annotations

import numpy as np

from juxtum.compiled import numba as nb

SIZE = 7


@nb.njit(inline="always")
def _frame(x, y, z):
    """Two directions square to one and to each other."""
    if abs(x) <= abs(y) and abs(x) <= abs(z):
        a, b, c = 0.0, -z, y
    elif abs(y) <= abs(z):
        a, b, c = z, 0.0, -x
    else:
        a, b, c = -y, x, 0.0
    length = np.sqrt(a * a + b * b + c * c)
    a, b, c = a / length, b / length, c / length
    return a, b, c, y * c - z * b, z * a - x * c, x * b - y * a


@nb.njit
def _span(keys, first, last):
    """From where to where the sorted keys lie between two."""
    return np.searchsorted(keys, first, "left"), np.searchsorted(keys, last, "right")


@nb.njit(inline="always")
def _settled(sums, count):
    """Height of the step, the last unknown, and its standard uncertainty by Cholesky's steps on the normal equations (8, 8)."""
    for j in range(SIZE):
        pivot = sums[j, j]
        if pivot <= 1e-9 * count:
            return 0.0, 0.0
        root = np.sqrt(pivot)
        for k in range(j, SIZE + 1):
            sums[j, k] /= root
        for i in range(j + 1, SIZE + 1):
            for k in range(i, SIZE + 1):
                sums[i, k] -= sums[j, i] * sums[j, k]
    last = sums[SIZE - 1, SIZE - 1]
    variance = max(sums[SIZE, SIZE], 0.0) / max(count - SIZE, 1)
    return sums[SIZE - 1, SIZE] / last, np.sqrt(variance) / last


@nb.njit
def _facing(points, normals, spans, p, reach, alike):
    """Sum of the directions about a point, of those that look as it does."""
    nx = ny = nz = 0.0
    for s in range(9):
        for q in range(spans[s, 0], spans[s, 1]):
            dx, dy, dz = points[q, 0] - points[p, 0], points[q, 1] - points[p, 1], points[q, 2] - points[p, 2]
            along = normals[q, 0] * normals[p, 0] + normals[q, 1] * normals[p, 1] + normals[q, 2] * normals[p, 2]
            if dx * dx + dy * dy + dz * dz <= reach * reach and along > alike:
                nx, ny, nz = nx + normals[q, 0], ny + normals[q, 1], nz + normals[q, 2]
    return nx, ny, nz


@nb.njit(cache=True, nogil=True)
def steps(points, normals, boxes, stride, keys, span, radius, reach, rim, alike, least):
    """Height and standard uncertainty (K, 2), mm, of a round step about the points (M, 3) of a span of rows; they are sorted by key.

    A key is the number of a box as wide as the reach: `boxes` (M, 3) by `stride` (2,). About each point a surface of second
    degree and a step within the radius are fitted; points whose direction differs by more than `alike` (a cosine) are of another surface.
    """
    found = np.zeros((span[1] - span[0], 2))
    for row in range(len(found)):
        p = span[0] + row
        spans = np.empty((9, 2), np.int64)
        for s in range(9):
            key = (boxes[p, 0] + s // 3 - 1) * stride[0] + (boxes[p, 1] + s % 3 - 1) * stride[1] + boxes[p, 2]
            spans[s, 0], spans[s, 1] = _span(keys, key - 1, key + 1)
        nx, ny, nz = _facing(points, normals, spans, p, reach, alike)
        length = np.sqrt(nx * nx + ny * ny + nz * nz)
        if length == 0.0:
            continue
        nx, ny, nz = nx / length, ny / length, nz / length
        ux, uy, uz, vx, vy, vz = _frame(nx, ny, nz)
        sums, values, count = np.zeros((SIZE + 1, SIZE + 1)), np.empty(SIZE + 1), 0
        for s in range(9):
            for q in range(spans[s, 0], spans[s, 1]):
                dx, dy, dz = points[q, 0] - points[p, 0], points[q, 1] - points[p, 1], points[q, 2] - points[p, 2]
                if dx * dx + dy * dy + dz * dz > reach * reach:
                    continue
                if normals[q, 0] * nx + normals[q, 1] * ny + normals[q, 2] * nz <= alike:
                    continue
                z = dx * nx + dy * ny + dz * nz
                if abs(z) >= radius:
                    continue
                x, y = (dx * ux + dy * uy + dz * uz) / radius, (dx * vx + dy * vy + dz * vz) / radius
                away = np.sqrt(x * x + y * y)
                values[0], values[1], values[2], values[3], values[4], values[5] = 1.0, x, y, x * x, x * y, y * y
                values[6], values[7] = min(max((1 + rim - away) / (2 * rim), 0.0), 1.0), z
                for i in range(SIZE + 1):
                    for k in range(i, SIZE + 1):
                        sums[i, k] += values[i] * values[k]
                count += 1
        if count >= least:
            found[row, 0], found[row, 1] = _settled(sums, count)
    return found
