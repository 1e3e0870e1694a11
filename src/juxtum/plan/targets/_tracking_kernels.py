"""Compiled loops of tracking."""

from __future__ import annotations

import math

import numpy as np

from juxtum.compiled import numba


@numba.njit(cache=True)
def spreads(counts, sums, squares, noise, bare, lost):  # type: ignore[no-untyped-def]
    """Largest standard deviation of the place looked at, for each pose."""
    result = np.full(len(counts), lost)
    for p in range(len(counts)):
        n = counts[p]
        if n < bare - 0.5:
            continue
        cx, cy, cz = sums[p, 0] / n, sums[p, 1] / n, sums[p, 2] / n
        xx = squares[p, 0, 0] - n * cx * cx
        yy = squares[p, 1, 1] - n * cy * cy
        zz = squares[p, 2, 2] - n * cz * cz
        xy = squares[p, 0, 1] - n * cx * cy
        xz = squares[p, 0, 2] - n * cx * cz
        yz = squares[p, 1, 2] - n * cy * cz
        a, b, c = yy + zz, xx + zz, xx + yy
        # Inverse of S = trace I - scatter by its adjugate.
        i00, i11, i22 = b * c - yz * yz, a * c - xz * xz, a * b - xy * xy
        i01, i02, i12 = xy * c + xz * yz, xy * yz + xz * b, a * yz + xy * xz
        det = a * i00 - xy * i01 - xz * i02
        if det < 1e-9 * (a + b + c) ** 3 / 27 or det <= 0.0:
            continue
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
            half = (d0 * (d1 * d2 - v12 * v12) - v01 * (v01 * d2 - v12 * v02) + v02 * (v01 * v12 - d1 * v02)) / (
                2 * s**3
            )
            largest = q + 2 * s * math.cos(math.acos(min(1.0, max(-1.0, half))) / 3)
        result[p] = min(noise * math.sqrt(max(largest, 0.0)), lost)
    return result
