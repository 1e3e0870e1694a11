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


@nb.njit(inline="always")
def _unit(vector):
    """Of length 1; nothing stays nothing."""
    size = np.sqrt(vector[0] ** 2 + vector[1] ** 2 + vector[2] ** 2)
    if size > 0.0:
        vector /= size


@nb.njit(cache=True, nogil=True)
def _weighed(of, points, normals, numbers, into):
    """How much the neighbours of a vertex count that look its way, into `weights`, and their mean direction and place; how many they are."""
    direction, near, distances = of
    weights, mean, middle = into
    spacing, alike = numbers[0], numbers[1]
    whole, many = 0.0, 0
    mean[:], middle[:] = 0.0, 0.0
    for k in range(len(near)):
        weights[k] = 0.0
        p = near[k]
        if p >= len(points):
            continue
        if normals[p, 0] * direction[0] + normals[p, 1] * direction[1] + normals[p, 2] * direction[2] > alike:
            weights[k] = w = np.exp(-((distances[k] / spacing) ** 2))
            whole += w
            many += 1
            for j in range(3):
                mean[j] += w * normals[p, j]
                middle[j] += w * points[p, j]
    if many > 0:
        mean /= whole
        middle /= whole
    return many, whole


@nb.njit(cache=True, nogil=True)
def _turned(near, points, normals, told, stiff, room):
    """How directions turn with the place, of the neighbours that count, in the last of `room` (3, 3, 3); `stiff` keeps it from nothing where few say how."""
    weights, mean, middle = told
    spread, turns = room[0], room[1]
    room[:] = 0.0
    for k in range(len(near)):
        w, p = weights[k], near[k]
        if w == 0.0:
            continue
        for i in range(3):
            arm = w * (points[p, i] - middle[i])
            for j in range(3):
                spread[i, j] += arm * (points[p, j] - middle[j])
                turns[i, j] += arm * (normals[p, j] - mean[j])
    for j in range(3):
        spread[j, j] += stiff
    _solved(spread, turns, room[2])


@nb.njit(cache=True, nogil=True)
def _height(near, points, normals, weights, at):
    """How far the surface of the neighbours that count lies off a place, along a direction."""
    place, facing = at
    reach, offset = 0.0, 0.0
    for k in range(len(near)):
        w, p = weights[k], near[k]
        if w == 0.0:
            continue
        for j in range(3):
            both = normals[p, j] + facing[j]
            reach += w * both * facing[j]
            offset += w * (points[p, j] - place[j]) * both
    return offset / max(reach, 1e-12)


@nb.njit(cache=True, nogil=True)
def settled(places, own, points, normals, near, distances, numbers):
    """Where vertices (V, 3) with directions `own` go, and whether their neighbours hold them.

    Neighbours (V, K) are rows of the points, of which those past the end are none. `numbers` are the spacing, how much
    neighbours look a vertex' way at least, how little directions bend where few say how, how far they go on bending, and
    how far aside of its neighbours a vertex may lie, all but the second of these as in `surfacing`.

    Of a sphere and a cylinder directions turn evenly with the place. Their mean alone is the one in the middle of the
    neighbours, which lie to one side of a vertex at the border of what was seen; so they are taken as they turn.
    """
    spacing, stiff, most, beyond = numbers[0], numbers[2], numbers[3], numbers[4]
    out, held = places.copy(), np.zeros(len(places), np.bool_)
    weights, mean, middle = np.empty(near.shape[1]), np.empty(3), np.empty(3)
    room = np.empty((3, 3, 3))
    for v in range(len(places)):
        told = (weights, mean, middle)
        many, whole = _weighed((own[v], near[v], distances[v]), points, normals, numbers, told)
        if many < 3:
            continue
        _turned(near[v], points, normals, told, stiff * spacing**2 * whole, room)
        bends = room[2]
        arm = places[v] - middle
        turn = arm[0] * bends[0] + arm[1] * bends[1] + arm[2] * bends[2]
        length = np.sqrt(turn[0] ** 2 + turn[1] ** 2 + turn[2] ** 2)
        facing = mean + min(1.0, most / max(length, 1e-12)) * turn
        _unit(facing)
        offset = _height(near[v], points, normals, weights, (places[v], facing))
        if abs(offset) >= spacing:
            offset = 0.0
        along = arm[0] * facing[0] + arm[1] * facing[1] + arm[2] * facing[2]
        aside = arm - along * facing
        if np.sqrt(aside[0] ** 2 + aside[1] ** 2 + aside[2] ** 2) < beyond:
            held[v] = True
            out[v] += offset * facing
    return out, held
