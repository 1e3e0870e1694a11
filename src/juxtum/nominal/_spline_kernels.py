"""Compiled evaluation of rational B-spline surfaces (Piegl and Tiller, The NURBS Book, chapters 2 to 4)."""
# mypy: disable-error-code="untyped-decorator,no-untyped-def"

from __future__ import annotations

import numpy as np

from juxtum.compiled import numba as nb

ORDER = 27
"""Room for degree 25 and its derivatives."""


@nb.njit(cache=True)
def _span(knots, start, degree, count, u):
    """Knot span that holds u, by bisection."""
    low, high = degree, count
    if u >= knots[start + count]:
        return count - 1
    if u <= knots[start + degree]:
        return degree
    while high - low > 1:
        middle = (low + high) // 2
        if u < knots[start + middle]:
            high = middle
        else:
            low = middle
    return low


@nb.njit(cache=True)
def _raise_degree(knots, start, span, level, u, values):
    """Cox-de Boor: from the `level` basis functions of degree level-1 to those of degree level, in place."""
    saved = 0.0
    for r in range(level):
        right = knots[start + span + r + 1]
        left = knots[start + span + 1 - level + r]
        width = right - left
        part = values[r] / width if width > 0 else 0.0
        values[r] = saved + (right - u) * part
        saved = (u - left) * part
    values[level] = saved


@nb.njit(cache=True)
def _differentiate(knots, start, span, degree, lower, result):
    """Derivatives of the degree functions from values (or derivatives) of degree-1 functions."""
    for r in range(degree + 1):
        first = span - degree + r
        value = 0.0
        if r > 0:
            width = knots[start + first + degree] - knots[start + first]
            if width > 0:
                value += degree * lower[r - 1] / width
        if r < degree:
            width = knots[start + first + degree + 1] - knots[start + first + 1]
            if width > 0:
                value -= degree * lower[r] / width
        result[r] = value


@nb.njit(cache=True)
def basis(knots, start, degree, count, u, table, scratch):
    """Values, first and second derivatives of the nonzero basis functions into table[0..2]; returns the span."""
    span = _span(knots, start, degree, count, u)
    now = scratch[0]
    now[0] = 1.0
    two_below = scratch[1]
    one_below = scratch[2]
    two_below[0] = 1.0
    one_below[0] = 1.0
    for level in range(1, degree + 1):
        if level == degree - 1:
            two_below[:level] = now[:level]
        if level == degree:
            one_below[:level] = now[:level]
        _raise_degree(knots, start, span, level, u, now)
    table[0, : degree + 1] = now[: degree + 1]
    table[1, : degree + 1] = 0.0
    table[2, : degree + 1] = 0.0
    if degree >= 1:
        _differentiate(knots, start, span, degree, one_below, table[1])
    if degree >= 2:
        _differentiate(knots, start, span, degree - 1, two_below, scratch[3])
        _differentiate(knots, start, span, degree, scratch[3], table[2])
    return span


@nb.njit(cache=True)
def evaluate(shape, knots, poles, u, v, work, out):
    """Point and derivatives S, Su, Sv, Suu, Suv, Svv into out (6, 3).

    shape: degree u, degree v, poles u, poles v, first knot u, first knot v, first pole, closed in u, closed in v; poles are (x w, y w, z w, w).
    """
    du, dv, nu, nv = shape[0], shape[1], shape[2], shape[3]
    span_u = basis(knots, shape[4], du, nu, u, work[0], work[2])
    span_v = basis(knots, shape[5], dv, nv, v, work[1], work[2])
    h = work[3]
    for k in range(6):
        for a in range(4):
            h[k, a] = 0.0
    for i in range(du + 1):
        row = shape[6] + (span_u - du + i) * nv + span_v - dv
        b0, b1, b2 = work[0, 0, i], work[0, 1, i], work[0, 2, i]
        for j in range(dv + 1):
            c0, c1, c2 = work[1, 0, j], work[1, 1, j], work[1, 2, j]
            for a in range(4):
                pole = poles[row + j, a]
                h[0, a] += b0 * c0 * pole
                h[1, a] += b1 * c0 * pole
                h[2, a] += b0 * c1 * pole
                h[3, a] += b2 * c0 * pole
                h[4, a] += b1 * c1 * pole
                h[5, a] += b0 * c2 * pole
    w = h[0, 3]
    for a in range(3):
        out[0, a] = h[0, a] / w
        out[1, a] = (h[1, a] - h[1, 3] * out[0, a]) / w
        out[2, a] = (h[2, a] - h[2, 3] * out[0, a]) / w
        out[3, a] = (h[3, a] - 2 * h[1, 3] * out[1, a] - h[3, 3] * out[0, a]) / w
        out[4, a] = (h[4, a] - h[1, 3] * out[2, a] - h[2, 3] * out[1, a] - h[4, 3] * out[0, a]) / w
        out[5, a] = (h[5, a] - 2 * h[2, 3] * out[2, a] - h[5, 3] * out[0, a]) / w


@nb.njit(cache=True)
def _moved(value, step, low, high, closed):
    """A parameter after a step: held at the ends of an open direction, carried round a closed one."""
    width = high - low
    if closed:
        step = min(max(step, -width / 4), width / 4)
    value += step
    if closed and value < low:
        return value + width
    if closed and value > high:
        return value - width
    return min(max(value, low), high)


@nb.njit(cache=True)
def _step(out, p, weak_u, weak_v, move):
    """Newton's step in u and v from the point and derivatives in `out`; False where the surface gives no direction.

    A direction in which the surface shrinks to a point (a pole) is left where it is.
    """
    rx, ry, rz = out[0, 0] - p[0], out[0, 1] - p[1], out[0, 2] - p[2]
    f = rx * out[1, 0] + ry * out[1, 1] + rz * out[1, 2]
    g = rx * out[2, 0] + ry * out[2, 1] + rz * out[2, 2]
    a = out[1, 0] ** 2 + out[1, 1] ** 2 + out[1, 2] ** 2
    c = out[2, 0] ** 2 + out[2, 1] ** 2 + out[2, 2] ** 2
    a2 = a + rx * out[3, 0] + ry * out[3, 1] + rz * out[3, 2]
    c2 = c + rx * out[5, 0] + ry * out[5, 1] + rz * out[5, 2]
    if weak_u or weak_v:
        move[0], move[1] = 0.0, 0.0
        if weak_u and c > 0:
            move[1] = -g / (c2 if c2 > 0 else c)
        elif weak_v and a > 0:
            move[0] = -f / (a2 if a2 > 0 else a)
        return a > 0 or c > 0
    b = out[1, 0] * out[2, 0] + out[1, 1] * out[2, 1] + out[1, 2] * out[2, 2]
    b2 = b + rx * out[4, 0] + ry * out[4, 1] + rz * out[4, 2]
    det = a2 * c2 - b2 * b2
    if a2 <= 0 or det <= 1e-9 * a * c:
        a2, b2, c2 = a, b, c
        det = a * c - b * b
    if det <= 1e-14 * a * c or a * c == 0:
        return False
    move[0] = (b2 * g - c2 * f) / det
    move[1] = (b2 * f - a2 * g) / det
    return True


@nb.njit(cache=True)
def _normal(out, n):
    """Unit normal Su x Sv into n; False where the derivatives are parallel or none."""
    x = out[1, 1] * out[2, 2] - out[1, 2] * out[2, 1]
    y = out[1, 2] * out[2, 0] - out[1, 0] * out[2, 2]
    z = out[1, 0] * out[2, 1] - out[1, 1] * out[2, 0]
    size = np.sqrt(x * x + y * y + z * z)
    a = out[1, 0] ** 2 + out[1, 1] ** 2 + out[1, 2] ** 2
    c = out[2, 0] ** 2 + out[2, 1] ** 2 + out[2, 2] ** 2
    if not size > 1e-9 * (a + c) * 1e-3:
        return False
    n[0], n[1], n[2] = x / size, y / size, z / size
    return True


@nb.njit(cache=True)
def foot(shape, box, knots, poles, p, seed, work, out, q, n):
    """Newton's steps to the point of the surface nearest to p; True when they converged.

    box: lowest and highest u and v. The foot and the unit normal (Su x Sv) go into q and n.
    """
    u, v = min(max(seed[0], box[0]), box[1]), min(max(seed[1], box[2]), box[3])
    wide_u, wide_v = box[1] - box[0], box[3] - box[2]
    move = np.empty(2)
    done = False
    for _ in range(25):
        evaluate(shape, knots, poles, u, v, work, out)
        a = (out[1, 0] ** 2 + out[1, 1] ** 2 + out[1, 2] ** 2) * wide_u**2
        c = (out[2, 0] ** 2 + out[2, 1] ** 2 + out[2, 2] ** 2) * wide_v**2
        if not _step(out, p, a < 1e-14 * c, c < 1e-14 * a, move):
            break
        new_u = _moved(u, move[0], box[0], box[1], shape[7] == 1)
        new_v = _moved(v, move[1], box[2], box[3], shape[8] == 1)
        far_u, far_v = abs(new_u - u) / wide_u, abs(new_v - v) / wide_v
        # Round a closed direction the way is the short one.
        step = np.sqrt(min(far_u, 1 - far_u * shape[7]) ** 2 * a + min(far_v, 1 - far_v * shape[8]) ** 2 * c)
        u, v = new_u, new_v
        if step < 1e-9:
            done = True
            break
    evaluate(shape, knots, poles, u, v, work, out)
    for k in range(3):
        q[k] = out[0, k]
    if not _normal(out, n):
        # At a pole the normal is that of the surface just beside it.
        evaluate(
            shape, knots, poles, u + (box[0] + box[1] - 2 * u) * 1e-5, v + (box[2] + box[3] - 2 * v) * 1e-5, work, out
        )
        if not _normal(out, n):
            return False
    return done
