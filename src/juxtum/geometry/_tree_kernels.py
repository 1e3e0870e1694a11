"""Compiled kernels of the bounding-volume tree; see `nearest` for the meaning of the arrays."""
# mypy: disable-error-code="untyped-decorator"

from __future__ import annotations

import numpy as np

from juxtum.compiled import numba as nb

LEAF = 4
INSIDE = 0
"""Region codes of a nearest point: 0 inside, 1-3 at corner 0-2, 4 on edge 01, 5 on edge 12, 6 on edge 20."""


@nb.njit(cache=True, nogil=True)
def _split(order, centres, axis, start, end):  # type: ignore[no-untyped-def]
    """Quickselect about the median of one axis, in place."""
    middle = (start + end) // 2
    low, high = start, end - 1
    while low < high:
        pivot = centres[order[(low + high) // 2], axis]
        i, j = low, high
        while i <= j:
            while centres[order[i], axis] < pivot:
                i += 1
            while centres[order[j], axis] > pivot:
                j -= 1
            if i <= j:
                order[i], order[j] = order[j], order[i]
                i += 1
                j -= 1
        if middle <= j:
            high = j
        elif middle >= i:
            low = i
        else:
            break
    return middle


@nb.njit(cache=True, nogil=True)
def build(centres, lows, highs):  # type: ignore[no-untyped-def]
    """Median-split tree: order of the triangles, boxes, left child, first triangle and count per node."""
    n = len(centres)
    order = np.arange(n)
    boxes = np.empty((2 * n + 1, 6))
    left = np.full(2 * n + 1, -1, np.int32)
    first = np.zeros(2 * n + 1, np.int32)
    count = np.zeros(2 * n + 1, np.int32)
    stack = np.empty((128, 3), np.int64)
    stack[0, 0], stack[0, 1], stack[0, 2] = 0, 0, n
    depth, nodes = 1, 1
    while depth > 0:
        depth -= 1
        node, start, end = stack[depth, 0], stack[depth, 1], stack[depth, 2]
        lowest, highest = np.full(3, np.inf), np.full(3, -np.inf)
        c_low, c_high = np.full(3, np.inf), np.full(3, -np.inf)
        for i in range(start, end):
            t = order[i]
            for a in range(3):
                lowest[a] = min(lowest[a], lows[t, a])
                highest[a] = max(highest[a], highs[t, a])
                c_low[a] = min(c_low[a], centres[t, a])
                c_high[a] = max(c_high[a], centres[t, a])
        boxes[node, :3] = lowest
        boxes[node, 3:] = highest
        if end - start <= LEAF:
            first[node], count[node] = start, end - start
            continue
        middle = _split(order, centres, np.argmax(c_high - c_low), start, end)
        left[node] = nodes
        stack[depth, 0], stack[depth, 1], stack[depth, 2] = nodes, start, middle
        stack[depth + 1, 0], stack[depth + 1, 1], stack[depth + 1, 2] = nodes + 1, middle, end
        depth += 2
        nodes += 2
    return order, boxes[:nodes].copy(), left[:nodes].copy(), first[:nodes].copy(), count[:nodes].copy()


@nb.njit(cache=True, nogil=True)
def facings(normals, left, first, count):  # type: ignore[no-untyped-def]
    """Lowest and highest coordinates (K, 6) of the normals below each node; children come after their parents."""
    found = np.empty((len(left), 6))
    for node in range(len(left) - 1, -1, -1):
        for a in range(3):
            lowest, highest = np.inf, -np.inf
            if left[node] >= 0:
                for child in range(left[node], left[node] + 2):
                    lowest, highest = min(lowest, found[child, a]), max(highest, found[child, 3 + a])
            else:
                for i in range(first[node], first[node] + count[node]):
                    lowest, highest = min(lowest, normals[i, a]), max(highest, normals[i, a])
            found[node, a], found[node, 3 + a] = lowest, highest
    return found


@nb.njit(inline="always")
def _may_face(facing, node, direction, either_side):  # type: ignore[no-untyped-def]
    """The most that any normal below a node can agree with a direction."""
    most, least = 0.0, 0.0
    for a in range(3):
        low, high = facing[node, a] * direction[a], facing[node, 3 + a] * direction[a]
        most += max(low, high)
        least += min(low, high)
    return max(most, -least) if either_side else most


@nb.njit(inline="always")
def _agrees(normals, i, direction, either_side):  # type: ignore[no-untyped-def]
    """How far a triangle's normal agrees with a direction: the cosine between both."""
    agree = normals[i, 0] * direction[0] + normals[i, 1] * direction[1] + normals[i, 2] * direction[2]
    return abs(agree) if either_side else agree


@nb.njit(inline="always")
def _on_triangle(px, py, pz, rows, i):  # type: ignore[no-untyped-def]
    """Squared distance, weights of corners 1 and 2, and region (Ericson, Real-Time Collision Detection, 5.1.5)."""
    bx, by, bz = rows[i, 3], rows[i, 4], rows[i, 5]
    cx, cy, cz = rows[i, 6], rows[i, 7], rows[i, 8]
    ax, ay, az = px - rows[i, 0], py - rows[i, 1], pz - rows[i, 2]
    d1 = bx * ax + by * ay + bz * az
    d2 = cx * ax + cy * ay + cz * az
    bb = bx * bx + by * by + bz * bz
    bc = bx * cx + by * cy + bz * cz
    cc = cx * cx + cy * cy + cz * cz
    d3, d4, d5, d6 = d1 - bb, d2 - bc, d1 - bc, d2 - cc
    v = 0.0
    w = 0.0
    region = 0
    if d1 <= 0 and d2 <= 0:
        region = 1
    elif d3 >= 0 and d4 <= d3:
        v = 1.0
        region = 2
    elif d6 >= 0 and d5 <= d6:
        w = 1.0
        region = 3
    else:
        vc = d1 * d4 - d3 * d2
        vb = d5 * d2 - d1 * d6
        va = d3 * d6 - d5 * d4
        if vc <= 0 and d1 >= 0 and d3 <= 0:
            v = d1 / (d1 - d3)
            region = 4
        elif vb <= 0 and d2 >= 0 and d6 <= 0:
            w = d2 / (d2 - d6)
            region = 6
        elif va <= 0 and d4 - d3 >= 0 and d5 - d6 >= 0:
            w = (d4 - d3) / ((d4 - d3) + (d5 - d6))
            v = 1 - w
            region = 5
        else:
            scale = 1 / (va + vb + vc)
            v = vb * scale
            w = vc * scale
    dx = ax - v * bx - w * cx
    dy = ay - v * by - w * cy
    dz = az - v * bz - w * cz
    return dx * dx + dy * dy + dz * dz, v, w, region


@nb.njit(inline="always")
def _to_box(px, py, pz, boxes, node):  # type: ignore[no-untyped-def]
    dx = max(boxes[node, 0] - px, 0.0, px - boxes[node, 3])
    dy = max(boxes[node, 1] - py, 0.0, py - boxes[node, 4])
    dz = max(boxes[node, 2] - pz, 0.0, pz - boxes[node, 5])
    return dx * dx + dy * dy + dz * dz


@nb.njit(parallel=True, cache=True, nogil=True)
def nearest(points, directions, cosine, either_side, limit, rows, normals, facing, order, boxes, left, first, count):  # type: ignore[no-untyped-def]
    """Nearest triangle of each point among those whose normal agrees with its direction."""
    n = len(points)
    squared = np.empty(n)
    index = np.empty(n, np.int32)
    weights = np.empty((n, 2))
    regions = np.empty(n, np.int8)
    filtered = len(directions) == n
    for chunk in nb.prange((n + 511) // 512):
        stack = np.empty(96, np.int32)
        reach = np.empty(96)
        for q in range(chunk * 512, min(n, chunk * 512 + 512)):
            px, py, pz = points[q, 0], points[q, 1], points[q, 2]
            best, best_i, best_v, best_w, best_r = limit * limit, -1, 0.0, 0.0, 0
            depth = 1
            stack[0] = 0
            reach[0] = _to_box(px, py, pz, boxes, 0)
            while depth > 0:
                depth -= 1
                if reach[depth] >= best:
                    continue
                node = stack[depth]
                while left[node] >= 0:
                    if filtered and _may_face(facing, node, directions[q], either_side) < cosine - 1e-12:
                        node = -1
                        break
                    a = left[node]
                    da = _to_box(px, py, pz, boxes, a)
                    db = _to_box(px, py, pz, boxes, a + 1)
                    near, far, dn, df = (a, a + 1, da, db) if da <= db else (a + 1, a, db, da)
                    if df < best:
                        stack[depth], reach[depth] = far, df
                        depth += 1
                    if dn >= best:
                        node = -1
                        break
                    node = near
                if node < 0:
                    continue
                for i in range(first[node], first[node] + count[node]):
                    if filtered and _agrees(normals, i, directions[q], either_side) < cosine:
                        continue
                    d, v, w, r = _on_triangle(px, py, pz, rows, i)
                    if d < best:
                        best, best_i, best_v, best_w, best_r = d, i, v, w, r
            squared[q] = best
            index[q] = order[best_i] if best_i >= 0 else -1
            weights[q, 0], weights[q, 1], regions[q] = best_v, best_w, best_r
    return squared, index, weights, regions


@nb.njit(cache=True, nogil=True)
def first_hit(origin, direction, rows, order, boxes, left, first, count):  # type: ignore[no-untyped-def]
    """Triangle that a ray meets first and the distance along it; -1 for none (Moeller and Trumbore 1997)."""
    best, best_i = np.inf, -1
    stack = np.empty(96, np.int32)
    stack[0] = 0
    depth = 1
    while depth > 0:
        depth -= 1
        node = stack[depth]
        enter, leave = 0.0, best
        for a in range(3):
            if direction[a] == 0.0:
                if origin[a] < boxes[node, a] or origin[a] > boxes[node, 3 + a]:
                    leave = -1.0
            else:
                t0 = (boxes[node, a] - origin[a]) / direction[a]
                t1 = (boxes[node, 3 + a] - origin[a]) / direction[a]
                enter, leave = max(enter, min(t0, t1)), min(leave, max(t0, t1))
        # A hair of room, so that flat boxes in the plane of a face are not missed.
        if enter > leave * (1 + 1e-12) + 1e-9:
            continue
        if left[node] >= 0:
            stack[depth], stack[depth + 1] = left[node], left[node] + 1
            depth += 2
            continue
        for i in range(first[node], first[node] + count[node]):
            bx, by, bz = rows[i, 3], rows[i, 4], rows[i, 5]
            cx, cy, cz = rows[i, 6], rows[i, 7], rows[i, 8]
            px = direction[1] * cz - direction[2] * cy
            py = direction[2] * cx - direction[0] * cz
            pz = direction[0] * cy - direction[1] * cx
            scale = bx * px + by * py + bz * pz
            if scale == 0.0:
                continue
            x, y, z = origin[0] - rows[i, 0], origin[1] - rows[i, 1], origin[2] - rows[i, 2]
            u = (x * px + y * py + z * pz) / scale
            qx, qy, qz = y * bz - z * by, z * bx - x * bz, x * by - y * bx
            v = (direction[0] * qx + direction[1] * qy + direction[2] * qz) / scale
            if u < -1e-10 or v < -1e-10 or u + v > 1 + 1e-10:
                continue
            t = (cx * qx + cy * qy + cz * qz) / scale
            if 0 <= t < best:
                best, best_i = t, order[i]
    return best_i, best
