"""Compiled loops of tracking."""

from __future__ import annotations

import math

import numpy as np

from juxtum.compiled import numba


@numba.njit(cache=True)
def spread_of(n, sums, squares, noise, lost):  # type: ignore[no-untyped-def]
    """Largest standard deviation of the place looked at, for one pose."""
    cx, cy, cz = sums[0] / n, sums[1] / n, sums[2] / n
    xx = squares[0, 0] - n * cx * cx
    yy = squares[1, 1] - n * cy * cy
    zz = squares[2, 2] - n * cz * cz
    xy = squares[0, 1] - n * cx * cy
    xz = squares[0, 2] - n * cx * cz
    yz = squares[1, 2] - n * cy * cz
    a, b, c = yy + zz, xx + zz, xx + yy
    # Inverse of S = trace I - scatter by its adjugate.
    i00, i11, i22 = b * c - yz * yz, a * c - xz * xz, a * b - xy * xy
    i01, i02, i12 = xy * c + xz * yz, xy * yz + xz * b, a * yz + xy * xz
    det = a * i00 - xy * i01 - xz * i02
    if det < 1e-9 * (a + b + c) ** 3 / 27 or det <= 0.0:
        return lost
    i00, i11, i22, i01, i02, i12 = i00 / det, i11 / det, i22 / det, i01 / det, i02 / det, i12 / det
    # V = [c]x S^-1 [c]x^T + I/n, with the lever from the centre to the place looked at.
    r00, r01, r02 = cy * i02 - cz * i01, cy * i12 - cz * i11, cy * i22 - cz * i12
    r10, r11, r12 = cz * i00 - cx * i02, cz * i01 - cx * i12, cz * i02 - cx * i22
    r20, r21 = cx * i01 - cy * i00, cx * i11 - cy * i01
    v00 = r02 * cy - r01 * cz + 1 / n
    v11 = r10 * cz - r12 * cx + 1 / n
    v22 = r21 * cx - r20 * cy + 1 / n
    v01 = r00 * cz - r02 * cx
    v02 = r01 * cx - r00 * cy
    v12 = r11 * cx - r10 * cy
    # Largest eigenvalue of a symmetric 3x3 matrix in closed form.
    q = (v00 + v11 + v22) / 3
    off = v01 * v01 + v02 * v02 + v12 * v12
    d0, d1, d2 = v00 - q, v11 - q, v22 - q
    s = math.sqrt((d0 * d0 + d1 * d1 + d2 * d2 + 2 * off) / 6)
    largest = q
    if s > 0:
        half = (d0 * (d1 * d2 - v12 * v12) - v01 * (v01 * d2 - v12 * v02) + v02 * (v01 * v12 - d1 * v02)) / (2 * s**3)
        largest = q + 2 * s * math.cos(math.acos(min(1.0, max(-1.0, half))) / 3)
    return min(noise * math.sqrt(max(largest, 0.0)), lost)


@numba.njit(cache=True)
def spreads(counts, sums, squares, noise, bare, lost):  # type: ignore[no-untyped-def]
    """The same for each pose; those with fewer targets than the bare minimum are lost."""
    result = np.full(len(counts), lost)
    for p in range(len(counts)):
        if counts[p] >= bare - 0.5:
            result[p] = spread_of(counts[p], sums[p], squares[p], noise, lost)
    return result


@numba.njit(cache=True)
def linked_from(seen, places, setups, looked_at, start, stays, least, noise, limit):  # type: ignore[no-untyped-def]
    """Poses that hang together with one, and targets that are known in each position: see `juxtum.plan.targets.linking`."""
    poses, targets = seen.shape
    reached, ever = np.zeros(poses, np.bool_), np.zeros((len(places), targets), np.bool_)
    known = np.zeros(targets, np.bool_)
    waiting = np.empty(targets, np.int64)
    for setup in range(setups[start], len(places)):
        counts, sums, squares = np.zeros(poses), np.zeros((poses, 3)), np.zeros((poses, 3, 3))
        last = 0
        for t in range(targets):
            known[t] = seen[start, t] if setup == setups[start] else known[t] and stays[t]
            if known[t]:
                waiting[last] = t
                last += 1
        reached[start] = reached[start] or setup == setups[start]
        while last > 0:
            last -= 1
            t = waiting[last]
            ever[setup, t] = True
            for p in range(poses):
                if setups[p] != setup or not seen[p, t]:
                    continue
                counts[p] += 1
                for i in range(3):
                    here = places[setup, t, i] - looked_at[p, i]
                    sums[p, i] += here
                    for j in range(3):
                        squares[p, i, j] += here * (places[setup, t, j] - looked_at[p, j])
                if reached[p] or counts[p] < least or spread_of(counts[p], sums[p], squares[p], noise, 1e3) > limit:
                    continue
                reached[p] = True
                for u in range(targets):
                    if seen[p, u] and not known[u]:
                        known[u] = True
                        waiting[last] = u
                        last += 1
    return reached, ever


@numba.njit(cache=True)
def directions(covers, runs, held, most):  # type: ignore[no-untyped-def]
    """From how many directions each row (K, P) is seen by poses that are held, up to a number; `runs` numbers the directions in order."""
    result = np.zeros(len(covers), np.int64)
    for k in range(len(covers)):
        last = -1
        for p in range(covers.shape[1]):
            if covers[k, p] and held[p] and runs[p] != last:
                last = runs[p]
                result[k] += 1
                if result[k] == most:
                    break
    return result
