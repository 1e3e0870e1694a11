"""Compiled loops over the triangles of a surface: who lies beside whom, which way they are wound, what crosses, what is calm."""
# mypy: disable-error-code="untyped-decorator,no-untyped-def"

from __future__ import annotations

import numpy as np

from juxtum.compiled import numba as nb


@nb.njit(cache=True, nogil=True)
def wind(beside, agrees):
    """Whether each triangle (M,) has to be turned so that it agrees with those beside it (M, 3; -1 for none), and its piece.

    Also the number of edges at which no turning helps.
    """
    count = len(beside)
    piece = np.full(count, -1, np.int64)
    turned = np.zeros(count, np.bool_)
    stack = np.empty(count, np.int64)
    pieces, torn = 0, 0
    for start in range(count):
        if piece[start] >= 0:
            continue
        piece[start] = pieces
        stack[0] = start
        depth = 1
        while depth > 0:
            depth -= 1
            t = stack[depth]
            for k in range(3):
                other = beside[t, k]
                if other < 0:
                    continue
                # The same turn where they agree, the opposite one where they do not.
                should = turned[t] if agrees[t, k] else not turned[t]
                if piece[other] < 0:
                    piece[other] = pieces
                    turned[other] = should
                    stack[depth] = other
                    depth += 1
                elif turned[other] != should:
                    torn += 1
        pieces += 1
    return turned, piece, torn // 2


@nb.njit(inline="always")
def _passes_through(p, q, a, b, c):
    """Whether the inner part of a segment meets the inner part of a triangle (Moeller and Trumbore 1997)."""
    dx, dy, dz = q[0] - p[0], q[1] - p[1], q[2] - p[2]
    ux, uy, uz = b[0] - a[0], b[1] - a[1], b[2] - a[2]
    vx, vy, vz = c[0] - a[0], c[1] - a[1], c[2] - a[2]
    px, py, pz = dy * vz - dz * vy, dz * vx - dx * vz, dx * vy - dy * vx
    scale = ux * px + uy * py + uz * pz
    size = (dx * dx + dy * dy + dz * dz) * (ux * ux + uy * uy + uz * uz) * (vx * vx + vy * vy + vz * vz)
    if scale * scale <= 1e-20 * size:
        return False
    sx, sy, sz = p[0] - a[0], p[1] - a[1], p[2] - a[2]
    first = (sx * px + sy * py + sz * pz) / scale
    if first <= 1e-9 or first >= 1 - 1e-9:
        return False
    qx, qy, qz = sy * uz - sz * uy, sz * ux - sx * uz, sx * uy - sy * ux
    second = (dx * qx + dy * qy + dz * qz) / scale
    if second <= 1e-9 or first + second >= 1 - 1e-9:
        return False
    along = (vx * qx + vy * qy + vz * qz) / scale
    return 1e-9 < along < 1 - 1e-9


@nb.njit(inline="always")
def _cross(points, triangles, t, other):
    """Whether an edge of one triangle passes through another one with which it has no corner's place in common."""
    for k in range(3):
        for j in range(3):
            p, q = points[triangles[t, k]], points[triangles[other, j]]
            if p[0] == q[0] and p[1] == q[1] and p[2] == q[2]:
                return False
    a, b, c = points[triangles[other, 0]], points[triangles[other, 1]], points[triangles[other, 2]]
    found = False
    for k in range(3):
        found = found or _passes_through(points[triangles[t, k]], points[triangles[t, (k + 1) % 3]], a, b, c)
    return found


@nb.njit(inline="always")
def _box(points, triangle, low, high):
    for axis in range(3):
        low[axis], high[axis] = np.inf, -np.inf
        for k in range(3):
            value = points[triangle[k], axis]
            low[axis] = min(low[axis], value)
            high[axis] = max(high[axis], value)


@nb.njit(inline="always")
def _is_apart(box, low, high):
    apart = False
    for axis in range(3):
        apart = apart or box[axis] > high[axis] or box[3 + axis] < low[axis]
    return apart


@nb.njit(cache=True, nogil=True, parallel=True)
def crossed(points, triangles, order, boxes, left, first, count, most):
    """Through which others an edge of each triangle passes (M, most; -1 for none), and through how many (M,), no corner's place in common."""
    others = np.full((len(triangles), most), -1, np.int32)
    numbers = np.zeros(len(triangles), np.int32)
    for t in nb.prange(len(triangles)):
        low, high = np.empty(3), np.empty(3)
        _box(points, triangles[t], low, high)
        stack = np.empty(96, np.int32)
        stack[0] = 0
        depth = 1
        while depth > 0:
            depth -= 1
            node = stack[depth]
            if _is_apart(boxes[node], low, high):
                continue
            if left[node] >= 0:
                stack[depth], stack[depth + 1] = left[node], left[node] + 1
                depth += 2
                continue
            for i in range(first[node], first[node] + count[node]):
                if _cross(points, triangles, t, order[i]):
                    if numbers[t] < most:
                        others[t, numbers[t]] = order[i]
                    numbers[t] += 1
    return others, numbers


@nb.njit(cache=True, nogil=True, parallel=True)
def calm_normals(normals, areas, beside, sharpness):
    """Each normal (M, 3) averaged with those beside it, the less the more they differ (Zheng and others 2011)."""
    made = np.empty_like(normals)
    for t in nb.prange(len(normals)):
        x, y, z = areas[t] * normals[t, 0], areas[t] * normals[t, 1], areas[t] * normals[t, 2]
        for k in range(3):
            other = beside[t, k]
            if other < 0:
                continue
            square = 0.0
            for axis in range(3):
                square += (normals[t, axis] - normals[other, axis]) ** 2
            weight = areas[other] * np.exp(-square / (2 * sharpness * sharpness))
            x += weight * normals[other, 0]
            y += weight * normals[other, 1]
            z += weight * normals[other, 2]
        size = np.sqrt(x * x + y * y + z * z)
        if size > 0.0:
            made[t, 0], made[t, 1], made[t, 2] = x / size, y / size, z / size
        else:
            made[t] = normals[t]
    return made


@nb.njit(cache=True, nogil=True, parallel=True)
def follow_normals(points, triangles, normals, starts, around, is_fixed):
    """Points (N, 3) moved so that their triangles look along the normals wanted (Sun and others 2007)."""
    made = points.copy()
    for p in nb.prange(len(points)):
        number = starts[p + 1] - starts[p]
        if is_fixed[p] or number == 0:
            continue
        x = y = z = 0.0
        for i in range(starts[p], starts[p + 1]):
            t = around[i]
            off = 0.0
            for axis in range(3):
                middle = (
                    points[triangles[t, 0], axis] + points[triangles[t, 1], axis] + points[triangles[t, 2], axis]
                ) / 3
                off += normals[t, axis] * (middle - points[p, axis])
            x += off * normals[t, 0]
            y += off * normals[t, 1]
            z += off * normals[t, 2]
        made[p, 0] += x / number
        made[p, 1] += y / number
        made[p, 2] += z / number
    return made
