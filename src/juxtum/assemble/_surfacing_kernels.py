"""Compiled: what neighbouring points say of a place of a surface."""
# mypy: disable-error-code="untyped-decorator,no-untyped-def"

from __future__ import annotations

import numpy as np

from juxtum.compiled import numba as nb


@nb.njit(cache=True, nogil=True)
def steadiness(points, normals, near, start, alike):
    """Of points from `start` on the median height of their neighbours off them, NaN where not all look their way; calmer normals.

    Neighbours (N, K) are rows of the points, of which those past the end are none; the first is the point itself. A chord
    of what is round stands square on the sum of the directions at its ends: that it bends is no roughness.
    """
    rows, width = near.shape
    height, calm, heights = np.full(rows, np.nan), np.empty((rows, 3)), np.empty(width)
    for r in range(rows):
        own = start + r
        nx, ny, nz = normals[own, 0], normals[own, 1], normals[own, 2]
        sx, sy, sz = nx, ny, nz
        used = 0
        for k in range(1, width):
            other = near[r, k]
            if other >= len(points):
                continue
            ox, oy, oz = normals[other, 0], normals[other, 1], normals[other, 2]
            if nx * ox + ny * oy + nz * oz <= alike:
                continue
            off = (
                (points[other, 0] - points[own, 0]) * (ox + nx)
                + (points[other, 1] - points[own, 1]) * (oy + ny)
                + (points[other, 2] - points[own, 2]) * (oz + nz)
            )
            heights[used] = abs(off) / 2
            used += 1
            sx, sy, sz = sx + ox, sy + oy, sz + oz
        if used == width - 1:
            height[r] = np.median(heights[:used])
        size = np.sqrt(sx * sx + sy * sy + sz * sz)
        if size == 0.0:
            size = 1.0
        calm[r, 0], calm[r, 1], calm[r, 2] = sx / size, sy / size, sz / size
    return height, calm


@nb.njit(inline="always")
def _solved(m, side, out):
    """`out` (3, 3) with m out = side, of a symmetric m that can be inverted, by its cofactors."""
    a, b, c, d, e, f = m[0, 0], m[0, 1], m[0, 2], m[1, 1], m[1, 2], m[2, 2]
    i00, i01, i02 = d * f - e * e, c * e - b * f, b * e - c * d
    i11, i12, i22 = a * f - c * c, b * c - a * e, a * d - b * b
    size = a * i00 + b * i01 + c * i02
    for j in range(3):
        x, y, z = side[0, j], side[1, j], side[2, j]
        out[0, j] = (i00 * x + i01 * y + i02 * z) / size
        out[1, j] = (i01 * x + i11 * y + i12 * z) / size
        out[2, j] = (i02 * x + i12 * y + i22 * z) / size


@nb.njit(cache=True, nogil=True)
def settled(places, own, points, normals, near, distances, numbers):
    """Where vertices (V, 3) with directions `own` go, and whether their neighbours hold them.

    Neighbours (V, K) are rows of the points, of which those past the end are none. `numbers` are the spacing, how much
    neighbours look a vertex' way at least, how little directions bend where few say how, how far they go on bending, and
    how far aside of its neighbours a vertex may lie, all but the second of these as in `surfacing`.

    Of a sphere and a cylinder directions turn evenly with the place. Their mean alone is the one in the middle of the
    neighbours, which lie to one side of a vertex at the border of what was seen; so they are taken as they turn.
    """
    spacing, alike, stiff, most, beyond = numbers
    rows, width = near.shape
    out, held = places.copy(), np.zeros(rows, np.bool_)
    weights = np.empty(width)
    spread, turns, bends = np.empty((3, 3)), np.empty((3, 3)), np.empty((3, 3))
    mean, middle, facing = np.empty(3), np.empty(3), np.empty(3)
    for v in range(rows):
        whole, many = 0.0, 0
        mean[:], middle[:] = 0.0, 0.0
        for k in range(width):
            weights[k] = 0.0
            p = near[v, k]
            if p >= len(points):
                continue
            if normals[p, 0] * own[v, 0] + normals[p, 1] * own[v, 1] + normals[p, 2] * own[v, 2] > alike:
                w = np.exp(-((distances[v, k] / spacing) ** 2))
                weights[k] = w
                whole += w
                many += 1
                for j in range(3):
                    mean[j] += w * normals[p, j]
                    middle[j] += w * points[p, j]
        if many < 3:
            continue
        for j in range(3):
            mean[j] /= whole
            middle[j] /= whole
        spread[:], turns[:] = 0.0, 0.0
        for k in range(width):
            w = weights[k]
            if w == 0.0:
                continue
            p = near[v, k]
            for i in range(3):
                arm = w * (points[p, i] - middle[i])
                for j in range(3):
                    spread[i, j] += arm * (points[p, j] - middle[j])
                    turns[i, j] += arm * (normals[p, j] - mean[j])
        for j in range(3):
            spread[j, j] += stiff * spacing**2 * whole
        _solved(spread, turns, bends)
        length = 0.0
        for j in range(3):
            facing[j] = 0.0
            for i in range(3):
                facing[j] += (places[v, i] - middle[i]) * bends[i, j]
            length += facing[j] ** 2
        length = np.sqrt(length)
        share = min(1.0, most / max(length, 1e-12))
        size = 0.0
        for j in range(3):
            facing[j] = mean[j] + share * facing[j]
            size += facing[j] ** 2
        size = np.sqrt(size)
        if size == 0.0:
            size = 1.0
        for j in range(3):
            facing[j] /= size
        reach, offset = 0.0, 0.0
        for k in range(width):
            w = weights[k]
            if w == 0.0:
                continue
            p = near[v, k]
            for j in range(3):
                both = normals[p, j] + facing[j]
                reach += w * both * facing[j]
                offset += w * (points[p, j] - places[v, j]) * both
        offset /= max(reach, 1e-12)
        if abs(offset) >= spacing:
            offset = 0.0
        along = 0.0
        for j in range(3):
            along += (places[v, j] - middle[j]) * facing[j]
        aside = 0.0
        for j in range(3):
            aside += (places[v, j] - middle[j] - along * facing[j]) ** 2
        if np.sqrt(aside) < beyond:
            held[v] = True
            for j in range(3):
                out[v, j] += offset * facing[j]
    return out, held
