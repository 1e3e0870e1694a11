"""Compiled: a region of triangles grown from a seed, over smooth edges or along a feature."""
# mypy: disable-error-code="untyped-decorator,no-untyped-def"

from __future__ import annotations

import numpy as np

from juxtum.compiled import numba as nb

PLANE, SPHERE, CYLINDER, CONE, TORUS, SLOT, RECTANGLE = range(7)


@nb.njit(inline="always")
def _off_wall(kind, numbers, dx, dy, dz):
    """The same of the wall of an opening."""
    lx, ly, lz = numbers[8], numbers[9], numbers[10]
    wx = numbers[4] * lz - numbers[5] * ly
    wy = numbers[5] * lx - numbers[3] * lz
    wz = numbers[3] * ly - numbers[4] * lx
    x, y = dx * lx + dy * ly + dz * lz, dx * wx + dy * wy + dz * wz
    over = abs(x) - numbers[7]
    if kind == SLOT:
        over = max(over, 0.0)
        reach = max(np.sqrt(over * over + y * y), 1e-12)
        along, across, off = np.sign(x) * over / reach, y / reach, reach - numbers[6]
    else:
        beside = abs(y) - numbers[6]
        off = max(over, beside)
        along, across = (np.sign(x), 0.0) if over > beside else (0.0, np.sign(y))
    return off, along * lx + across * wx, along * ly + across * wy, along * lz + across * wz


@nb.njit(inline="always")
def _off(kind, numbers, x, y, z):
    """Signed distance of a place from a feature, and the direction away from it.

    The numbers are a point, an axis or normal, a radius, the tangent of half the angle of a cone or the minor radius of a
    torus; of openings half the width, half of what the length has beyond round ends or half the length, and its direction.
    """
    dx, dy, dz = x - numbers[0], y - numbers[1], z - numbers[2]
    if kind == PLANE:
        return dx * numbers[3] + dy * numbers[4] + dz * numbers[5], numbers[3], numbers[4], numbers[5]
    if kind == SPHERE:
        length = np.sqrt(dx * dx + dy * dy + dz * dz)
        if length == 0.0:
            return -numbers[6], 0.0, 0.0, 1.0
        return length - numbers[6], dx / length, dy / length, dz / length
    along = dx * numbers[3] + dy * numbers[4] + dz * numbers[5]
    if kind >= SLOT:
        return _off_wall(kind, numbers, dx, dy, dz)
    rx, ry, rz = dx - along * numbers[3], dy - along * numbers[4], dz - along * numbers[5]
    length = np.sqrt(rx * rx + ry * ry + rz * rz)
    if length == 0.0:
        return -numbers[6], 0.0, 0.0, 1.0
    ux, uy, uz = rx / length, ry / length, rz / length
    if kind == CYLINDER:
        return length - numbers[6], ux, uy, uz
    if kind == TORUS:
        beyond = length - numbers[6]
        size = max(np.sqrt(beyond * beyond + along * along), 1e-12)
        out, up = beyond / size, along / size
        return size - numbers[7], out * ux + up * numbers[3], out * uy + up * numbers[4], out * uz + up * numbers[5]
    slope = numbers[7]
    cosine = 1.0 / np.sqrt(1.0 + slope * slope)
    sine = slope * cosine
    return (
        (length - numbers[6] - along * slope) * cosine,
        cosine * ux - sine * numbers[3],
        cosine * uy - sine * numbers[4],
        cosine * uz - sine * numbers[5],
    )


@nb.njit(cache=True, nogil=True)
def over_smooth_edges(normals, beside, seed, cosine, most):
    """Triangles (K,) reached from a seed over edges at which normals differ by less than an angle; at most so many."""
    reached = np.zeros(len(beside), np.bool_)
    found = np.empty(min(most, len(beside)), np.int64)
    found[0] = seed
    reached[seed] = True
    count, at = 1, 0
    while at < count < len(found):
        t = found[at]
        at += 1
        for k in range(3):
            other = beside[t, k]
            if other < 0 or reached[other] or count >= len(found):
                continue
            agree = 0.0
            for axis in range(3):
                agree += normals[t, axis] * normals[other, axis]
            if agree > cosine:
                reached[other] = True
                found[count] = other
                count += 1
    return found[:count]


@nb.njit(inline="always")
def _belongs(t, centres, normals, kind, numbers, side, tolerance, cosine):
    """Whether a triangle lies within a tolerance of a feature and looks its way."""
    off, nx, ny, nz = _off(kind, numbers, centres[t, 0], centres[t, 1], centres[t, 2])
    return abs(off) <= tolerance and side * (nx * normals[t, 0] + ny * normals[t, 1] + nz * normals[t, 2]) > cosine


@nb.njit(cache=True, nogil=True)
def along_feature(centres, normals, beside, seed, kind, numbers, tolerance, cosine, most):
    """Triangles (K,) that hang together with a seed, lie within a tolerance of a feature and look its way; about so many at most.

    A triangle that does not is stepped over where the next one does: single strays do not end a region. Those stepped
    over are given as well, for they were in the region and do not belong to it.
    """
    count = len(beside)
    state = np.zeros(count, np.int8)
    found, strays = np.empty(count, np.int64), np.empty(count, np.int64)
    _, nx, ny, nz = _off(kind, numbers, centres[seed, 0], centres[seed, 1], centres[seed, 2])
    side = 1.0 if nx * normals[seed, 0] + ny * normals[seed, 1] + nz * normals[seed, 2] > 0 else -1.0
    found[0] = seed
    state[seed] = 1
    have, strayed, at = 1, 0, 0
    while at < have < most:
        t = found[at]
        at += 1
        for k in range(3):
            other = beside[t, k]
            if other < 0 or state[other] != 0:
                continue
            if _belongs(other, centres, normals, kind, numbers, side, tolerance, cosine):
                state[other] = 1
                found[have] = other
                have += 1
                continue
            state[other] = 2
            strays[strayed] = other
            strayed += 1
            for j in range(3):
                beyond = beside[other, j]
                if beyond < 0 or state[beyond] != 0:
                    continue
                if _belongs(beyond, centres, normals, kind, numbers, side, tolerance, cosine):
                    state[beyond] = 1
                    found[have] = beyond
                    have += 1
    return found[:have], strays[:strayed]
