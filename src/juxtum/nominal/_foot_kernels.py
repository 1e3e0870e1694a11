"""Compiled projection of points onto exact, trimmed CAD faces.

The tessellation only says where to look. Away from the borders of its face the foot is taken on the exact surface;
near them every face that meets there and its exact border (a cubic through the ends and tangents of each piece of
the tessellated border) compete, and the nearest wins.
"""
# mypy: disable-error-code="untyped-decorator,no-untyped-def"

from __future__ import annotations

import numba as nb
import numpy as np

from juxtum.nominal._spline_kernels import ORDER
from juxtum.nominal._spline_kernels import foot as spline_foot

PLANE, CYLINDER, CONE, SPHERE, TORUS, SPLINE = 0, 1, 2, 3, 4, 5


@nb.njit(cache=True)
def elementary_foot(kind, row, p, q, n):
    """Foot and outward normal on a plane, cylinder, cone, sphere or torus.

    row: origin (3), axis (3), first and second number (radius; half angle or minor radius), sense.
    """
    x, y, z = p[0] - row[0], p[1] - row[1], p[2] - row[2]
    ax, ay, az = row[3], row[4], row[5]
    sense = row[8]
    h = x * ax + y * ay + z * az
    if kind == 0:
        q[0], q[1], q[2] = p[0] - h * ax, p[1] - h * ay, p[2] - h * az
        n[0], n[1], n[2] = sense * ax, sense * ay, sense * az
        return True
    if kind == 3:
        r = np.sqrt(x * x + y * y + z * z)
        if r < 1e-12:
            return False
        for k, value in enumerate((x, y, z)):
            q[k] = row[k] + value / r * row[6]
            n[k] = sense * value / r
        return True
    rx, ry, rz = x - h * ax, y - h * ay, z - h * az
    r = np.sqrt(rx * rx + ry * ry + rz * rz)
    if r < 1e-12:
        return False
    rx, ry, rz = rx / r, ry / r, rz / r
    if kind == 1:
        r_to, h_to, n_r, n_h = row[6], h, 1.0, 0.0
    elif kind == 2:
        c, s = np.cos(row[7]), np.sin(row[7])
        along = (r - row[6]) * s + h * c
        r_to, h_to, n_r, n_h = row[6] + along * s, along * c, c, -s
        if r_to < 0:
            # Beyond the tip: the other half of the endless cone is no surface, the tip itself is nearest.
            r_to, h_to = 0.0, -row[6] * c / s
            away = np.sqrt(r * r + (h - h_to) ** 2)
            if away < 1e-12:
                return False
            n_r, n_h = r / away, (h - h_to) / away
    else:
        d = np.sqrt((r - row[6]) ** 2 + h * h)
        if d < 1e-12:
            return False
        n_r, n_h = (r - row[6]) / d, h / d
        r_to, h_to = row[6] + row[7] * n_r, row[7] * n_h
    q[0] = row[0] + r_to * rx + h_to * ax
    q[1] = row[1] + r_to * ry + h_to * ay
    q[2] = row[2] + r_to * rz + h_to * az
    n[0] = sense * (n_r * rx + n_h * ax)
    n[1] = sense * (n_r * ry + n_h * ay)
    n[2] = sense * (n_r * rz + n_h * az)
    return True


@nb.njit(cache=True)
def face_foot(face, kinds, rows, shapes, boxes, knots, poles, p, seed, work, out, q, n):
    """Foot and outward normal of p on the untrimmed surface of a face."""
    kind = kinds[face]
    if kind != 5:
        return elementary_foot(kind, rows[face], p, q, n)
    good = spline_foot(shapes[face], boxes[face], knots, poles, p, seed, work, out, q, n)
    for k in range(3):
        n[k] *= rows[face, 8]
    return good


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
def _squared_to_chord(piece, p):
    dx, dy, dz = piece[3] - piece[0], piece[4] - piece[1], piece[5] - piece[2]
    x, y, z = p[0] - piece[0], p[1] - piece[1], p[2] - piece[2]
    length2 = dx * dx + dy * dy + dz * dz
    s = 0.0
    if length2 > 0:
        s = min(max((x * dx + y * dy + z * dz) / length2, 0.0), 1.0)
    return (x - s * dx) ** 2 + (y - s * dy) ** 2 + (z - s * dz) ** 2


@nb.njit(cache=True)
def nearest_border(face, starts, pieces, neighbours, p, c, t):
    """Nearest border piece of a face, the point c on it and its parameter; piece -1 when the face has no border."""
    best = -1
    best_d = np.inf
    for i in range(starts[face], starts[face + 1]):
        d = _squared_to_chord(pieces[i], p)
        if d < best_d:
            best_d = d
            best = i
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
def is_inside(face, starts, pieces, neighbours, q, normal, c, t, m):
    """Whether a point on the surface lies within the face's borders."""
    piece, s = nearest_border(face, starts, pieces, neighbours, q, c, t)
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


@nb.njit(parallel=True, cache=True, nogil=True)
def project_inner(points, index, weights, rule, surfaces, mesh, feet, normals, faces, unsure):
    """First pass: the foot on the face of the nearest triangle; `unsure` marks what needs the second pass.

    rule: chord error, angular error.
    surfaces: kinds, rows, shapes, boxes, knots, poles.
    mesh: triangle nodes, face of each triangle, node uv, node positions, border flags of the triangles' nodes,
    the two border pieces at each node (-1 for none), pieces.
    """
    kinds, rows, shapes, boxes, knots, poles = surfaces
    nodes, triangle_faces, uv, places, touches, node_pieces, pieces = mesh
    n = len(points)
    for chunk in nb.prange((n + 255) // 256):
        work = np.empty((4, 6, ORDER))
        out = np.empty((6, 3))
        seed = np.empty(2)
        near = np.empty(3)
        for i in range(chunk * 256, min(n, chunk * 256 + 256)):
            t = index[i]
            if t < 0:
                faces[i] = -1
                unsure[i] = False
                continue
            face = triangle_faces[t]
            faces[i] = face
            p = points[i]
            for k in range(2):
                seed[k] = 0.0
                for j in range(3):
                    seed[k] += weights[i, j] * uv[nodes[t, j], k]
            good = face_foot(face, kinds, rows, shapes, boxes, knots, poles, p, seed, work, out, feet[i], normals[i])
            reach = 0.0
            for k in range(3):
                near[k] = 0.0
                for j in range(3):
                    near[k] += weights[i, j] * places[nodes[t, j], k]
                reach += (near[k] - p[k]) ** 2
            reach = np.sqrt(reach)
            margin = 3 * rule[0] + reach * rule[1]
            # Beside an inner edge the neighbouring face may be as near as this one.
            beside = 3 * rule[0] + reach * 2.2
            apart = 0.0
            for k in range(3):
                apart += (near[k] - feet[i, k]) ** 2
            unsure[i] = not good or apart > (3 * rule[0] + margin) ** 2
            if touches[t] and not unsure[i]:
                for j in range(3):
                    for side in range(2):
                        piece = node_pieces[nodes[t, j], side]
                        if piece >= 0 and _squared_to_chord(pieces[piece], near) <= beside * beside:
                            unsure[i] = True


@nb.njit(parallel=True, cache=True, nogil=True)
def project_border(points, directions, cosine, index, surfaces, mesh, border, feet, normals, faces, signs, kinds_of_foot):
    """Second pass: all faces that meet near the nearest triangle compete with their feet and their borders.

    border: starts of each face's pieces, pieces, previous and next piece, corner starts, corner entries (face, node),
    welded node of each node. kinds_of_foot: 0 on a face, 1 on a border, -1 unchanged.
    """
    kinds, rows, shapes, boxes, knots, poles = surfaces
    nodes, uv = mesh
    starts, pieces, neighbours, corner_starts, corner_entries, welded = border
    n = len(points)
    filtered = len(directions) == n
    for chunk in nb.prange((n + 31) // 32):
        work = np.empty((4, 6, ORDER))
        out = np.empty((6, 3))
        q, normal, c, t, m = np.empty(3), np.empty(3), np.empty(3), np.empty(3), np.empty(3)
        tried = np.empty(64, np.int32)
        for i in range(chunk * 32, min(n, chunk * 32 + 32)):
            p = points[i]
            best = np.inf
            strongest = -1.0
            kinds_of_foot[i] = -1
            count = 0
            for corner in range(3):
                w = welded[nodes[index[i], corner]]
                for e in range(corner_starts[w], corner_starts[w + 1]):
                    face, node = corner_entries[e, 0], corner_entries[e, 1]
                    known = False
                    for j in range(count):
                        known = known or tried[j] == face
                    if known or count == 64:
                        continue
                    tried[count] = face
                    count += 1
                    if face_foot(face, kinds, rows, shapes, boxes, knots, poles, p, uv[node], work, out, q, normal):
                        agree = 1.0
                        if filtered:
                            agree = normal[0] * directions[i, 0] + normal[1] * directions[i, 1] + normal[2] * directions[i, 2]
                        d = (p[0] - q[0]) ** 2 + (p[1] - q[1]) ** 2 + (p[2] - q[2]) ** 2
                        if agree >= cosine and d < best and is_inside(
                            face, starts, pieces, neighbours, q, normal, c, t, m
                        ):
                            best = d
                            kinds_of_foot[i] = 0
                            faces[i] = face
                            for k in range(3):
                                feet[i, k] = q[k]
                                normals[i, k] = normal[k]
                            side = (p[0] - q[0]) * normal[0] + (p[1] - q[1]) * normal[1] + (p[2] - q[2]) * normal[2]
                            signs[i] = 1.0 if side >= 0 else -1.0
            for j in range(count):
                face = tried[j]
                piece, s = nearest_border(face, starts, pieces, neighbours, p, c, t)
                if piece < 0:
                    continue
                d = (p[0] - c[0]) ** 2 + (p[1] - c[1]) ** 2 + (p[2] - c[2]) ** 2
                if d > best + 1e-12 and not (kinds_of_foot[i] == 1 and d <= best + 1e-5 * (1 + best)):
                    continue
                node = corner_entries[corner_starts[welded[nodes[index[i], 0]]], 1]
                for corner in range(3):
                    w = welded[nodes[index[i], corner]]
                    for e in range(corner_starts[w], corner_starts[w + 1]):
                        if corner_entries[e, 0] == face:
                            node = corner_entries[e, 1]
                if not face_foot(face, kinds, rows, shapes, boxes, knots, poles, c, uv[node], work, out, q, normal):
                    continue
                side = (p[0] - c[0]) * normal[0] + (p[1] - c[1]) * normal[1] + (p[2] - c[2]) * normal[2]
                if d < best - 1e-5 * (1 + best) or kinds_of_foot[i] != 1:
                    strongest = -1.0
                best = min(best, d)
                kinds_of_foot[i] = 1
                if abs(side) > strongest:
                    strongest = abs(side)
                    faces[i] = face
                    signs[i] = 1.0 if side >= 0 else -1.0
                    for k in range(3):
                        feet[i, k] = c[k]
                        normals[i, k] = normal[k]
