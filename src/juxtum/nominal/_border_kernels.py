"""Compiled search on the exact borders of CAD faces: cubic pieces, found through a tree of boxes for each face."""
# mypy: disable-error-code="untyped-decorator,no-untyped-def"

from __future__ import annotations

import numpy as np

from juxtum.compiled import numba as nb


@nb.njit(cache=True)
def on_border_piece(piece, p, c, t):
    """Nearest point c, tangent t and parameter on the cubic of a border piece (start, end, two tangents)."""
    dx, dy, dz = piece[3] - piece[0], piece[4] - piece[1], piece[5] - piece[2]
    length2 = dx * dx + dy * dy + dz * dz
    s = 0.0
    if length2 > 0:
        s = ((p[0] - piece[0]) * dx + (p[1] - piece[1]) * dy + (p[2] - piece[2]) * dz) / length2
        s = min(max(s, 0.0), 1.0)
    for _ in range(8):
        f = 0.0
        df = 0.0
        for k in range(3):
            a, b, m0, m1 = piece[k], piece[3 + k], piece[6 + k], piece[9 + k]
            c2, c3 = 3 * (b - a) - 2 * m0 - m1, 2 * (a - b) + m0 + m1
            c[k] = a + s * (m0 + s * (c2 + s * c3))
            t[k] = m0 + s * (2 * c2 + 3 * s * c3)
            f += (c[k] - p[k]) * t[k]
            df += t[k] * t[k] + (c[k] - p[k]) * (2 * c2 + 6 * s * c3)
        if df <= 0:
            break
        new = min(max(s - f / df, 0.0), 1.0)
        if abs(new - s) < 1e-12:
            break
        s = new
    return s


@nb.njit(cache=True)
def squared_to_chord(piece, p):
    dx, dy, dz = piece[3] - piece[0], piece[4] - piece[1], piece[5] - piece[2]
    x, y, z = p[0] - piece[0], p[1] - piece[1], p[2] - piece[2]
    length2 = dx * dx + dy * dy + dz * dz
    s = 0.0
    if length2 > 0:
        s = min(max((x * dx + y * dy + z * dz) / length2, 0.0), 1.0)
    return (x - s * dx) ** 2 + (y - s * dy) ** 2 + (z - s * dz) ** 2


@nb.njit(cache=True)
def _squared_to_box(box, p):
    total = 0.0
    for k in range(3):
        away = max(box[k] - p[k], p[k] - box[3 + k], 0.0)
        total += away * away
    return total


@nb.njit(cache=True)
def nearest_chord(face, border, p, limit):
    """The border piece of a face whose chord is nearest to p, and its squared distance; -1 beyond the squared limit.

    border: first tree node of each face, boxes of the nodes, first and last piece and next node beside each node,
    pieces. The nodes of a face lie in the order in which they are walked.
    """
    first_nodes, boxes, spans, pieces = border
    best = -1
    node = first_nodes[face]
    while node < first_nodes[face + 1]:
        if _squared_to_box(boxes[node], p) >= limit:
            node = spans[node, 2]
            continue
        for i in range(spans[node, 0], spans[node, 1]):
            d = squared_to_chord(pieces[i], p)
            if d < limit:
                limit = d
                best = i
        node += 1
    return best, limit


@nb.njit(cache=True)
def nearest_border(face, border, neighbours, p, c, t):
    """Nearest border piece of a face, the point c on it and its parameter; piece -1 when the face has no border."""
    pieces = border[3]
    best, _ = nearest_chord(face, border, p, np.inf)
    s = -1.0
    if best >= 0:
        s = on_border_piece(pieces[best], p, c, t)
        # Chords say where to look; at the end of a piece the curve of the next one may come nearer.
        other = neighbours[best, 0] if s <= 1e-9 else neighbours[best, 1] if s >= 1 - 1e-9 else -1
        if other >= 0:
            here = (p[0] - c[0]) ** 2 + (p[1] - c[1]) ** 2 + (p[2] - c[2]) ** 2
            place, along = np.empty(3), np.empty(3)
            there = on_border_piece(pieces[other], p, place, along)
            if (p[0] - place[0]) ** 2 + (p[1] - place[1]) ** 2 + (p[2] - place[2]) ** 2 < here:
                best, s = other, there
                for k in range(3):
                    c[k], t[k] = place[k], along[k]
    return best, s


@nb.njit(cache=True)
def _inward(normal, t, m):
    m[0] = normal[1] * t[2] - normal[2] * t[1]
    m[1] = normal[2] * t[0] - normal[0] * t[2]
    m[2] = normal[0] * t[1] - normal[1] * t[0]
    size = np.sqrt(m[0] ** 2 + m[1] ** 2 + m[2] ** 2)
    if size > 0:
        for k in range(3):
            m[k] /= size


@nb.njit(cache=True)
def _corner(before, after, normal):
    """1 where a border turns towards its face between two pieces, -1 where it turns away, 0 where it goes on smoothly."""
    ax, ay, az = before[9], before[10], before[11]
    bx, by, bz = after[6], after[7], after[8]
    sizes = np.sqrt((ax * ax + ay * ay + az * az) * (bx * bx + by * by + bz * bz))
    along = ax * bx + ay * by + az * bz
    if sizes == 0.0 or along > 0.98 * sizes:
        return 0
    if along < -0.98 * sizes:
        # The border turns back on itself: only the chords tell a spike of the face from a slit in it.
        ax, ay, az = before[3] - before[0], before[4] - before[1], before[5] - before[2]
        bx, by, bz = after[3] - after[0], after[4] - after[1], after[5] - after[2]
    turn = (ay * bz - az * by) * normal[0] + (az * bx - ax * bz) * normal[1] + (ax * by - ay * bx) * normal[2]
    return 1 if turn > 0 else -1


@nb.njit(cache=True)
def is_inside(face, border, neighbours, q, normal, c, t, m):
    """Whether a point on the surface lies within the face's borders."""
    piece, s = nearest_border(face, border, neighbours, q, c, t)
    pieces = border[3]
    if piece < 0:
        return True
    other = neighbours[piece, 0] if s <= 1e-9 else neighbours[piece, 1] if s >= 1 - 1e-9 else -1
    if other >= 0:
        before, after = (other, piece) if s <= 1e-9 else (piece, other)
        corner = _corner(pieces[before], pieces[after], normal)
        if corner != 0:
            # What is nearest to a corner lies beyond it where the border turns inwards, and within where it turns outwards.
            near = (q[0] - c[0]) ** 2 + (q[1] - c[1]) ** 2 + (q[2] - c[2]) ** 2
            return corner < 0 or near < 1e-18
    _inward(normal, t, m)
    mx, my, mz = m[0], m[1], m[2]
    if other >= 0:
        end = 9 if s <= 1e-9 else 6
        for k in range(3):
            t[k] = pieces[other, end + k]
        _inward(normal, t, m)
        mx, my, mz = mx + m[0], my + m[1], mz + m[2]
    side = (q[0] - c[0]) * mx + (q[1] - c[1]) * my + (q[2] - c[2]) * mz
    return side >= -1e-9
