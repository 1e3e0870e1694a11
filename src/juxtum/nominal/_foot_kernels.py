"""Compiled projection of points onto exact, trimmed CAD faces.

The tessellation only says where to look. Away from the borders of its face the foot is taken on the exact surface;
near them every face that meets there and its exact border (a cubic through the ends and tangents of each piece of
the tessellated border) compete, and the nearest wins.
"""
# mypy: disable-error-code="untyped-decorator,no-untyped-def"

from __future__ import annotations

import numpy as np

from juxtum.compiled import numba as nb
from juxtum.nominal._border_kernels import is_inside, nearest_border, nearest_chord
from juxtum.nominal._spline_kernels import ORDER
from juxtum.nominal._spline_kernels import foot as spline_foot

NEARBY = 0.5
"""Cosine by which the normal at a foot may differ from that at the node where the search for it began."""


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
            # In the middle every direction is as near as another.
            x, y, z, r = ax, ay, az, 1.0
        for k, value in enumerate((x, y, z)):
            q[k] = row[k] + value / r * row[6]
            n[k] = sense * value / r
        return True
    rx, ry, rz = x - h * ax, y - h * ay, z - h * az
    r = np.sqrt(rx * rx + ry * ry + rz * rz)
    if r < 1e-12:
        # On the axis every direction is as near as another.
        if abs(az) < 0.9:
            rx, ry, rz = ay, -ax, 0.0
        else:
            rx, ry, rz = 0.0, az, -ay
        r = 0.0
        size = np.sqrt(rx * rx + ry * ry + rz * rz)
        rx, ry, rz = rx / size, ry / size, rz / size
    else:
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
            n_r, n_h = 0.0, -1.0 if s > 0 else 1.0
            if away > 1e-12:
                n_r, n_h = r / away, (h - h_to) / away
    else:
        d = np.sqrt((r - row[6]) ** 2 + h * h)
        n_r, n_h = 1.0, 0.0
        if d > 1e-12:
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
def feet_of_nodes(nodes, owners, uv, surfaces, feet, normals):
    """Foot and normal of each node on the surface of its own face; left as they are where there is none."""
    kinds, rows, shapes, boxes, knots, poles = surfaces
    work, out = np.empty((4, 6, ORDER)), np.empty((6, 3))
    q, n = np.empty(3), np.empty(3)
    for i in range(len(nodes)):
        face = owners[i]
        if face_foot(face, kinds, rows, shapes, boxes, knots, poles, nodes[i], uv[i], work, out, q, n):
            feet[i] = q
            normals[i] = n


@nb.njit(cache=True)
def _faces_away(nodes, places, normal):
    """Whether a normal looks away from the side to which a triangle looks."""
    a, b, c = nodes[0], nodes[1], nodes[2]
    ux, uy, uz = places[b, 0] - places[a, 0], places[b, 1] - places[a, 1], places[b, 2] - places[a, 2]
    vx, vy, vz = places[c, 0] - places[a, 0], places[c, 1] - places[a, 1], places[c, 2] - places[a, 2]
    return (uy * vz - uz * vy) * normal[0] + (uz * vx - ux * vz) * normal[1] + (ux * vy - uy * vx) * normal[2] < 0.0


@nb.njit(parallel=True, cache=True, nogil=True)
def project_inner(points, index, weights, rule, surfaces, mesh, border, feet, normals, faces, unsure):
    """First pass: the foot on the face of the nearest triangle; `unsure` marks what needs the second pass.

    rule: chord error, angular error.
    surfaces: kinds, rows, shapes, boxes, knots, poles.
    mesh: triangle nodes, face of each triangle, node uv, node positions.
    border: see `nearest_chord`.
    """
    kinds, rows, shapes, boxes, knots, poles = surfaces
    nodes, triangle_faces, uv, places = mesh
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
            apart, away = 0.0, 0.0
            for k in range(3):
                apart += (near[k] - feet[i, k]) ** 2
                away += (p[k] - feet[i, k]) ** 2
            if not good:
                normals[i] = 0.0
            # Seen from beyond its axis a round face is nearest at its back, which may be no part of it.
            back = _faces_away(nodes[t], places, normals[i])
            unsure[i] = not good or back or np.sqrt(away) < reach - 4 * rule[0] or apart > (3 * rule[0] + margin) ** 2
            if not unsure[i]:
                piece, _ = nearest_chord(face, border, near, beside * beside)
                unsure[i] = piece >= 0


@nb.njit(cache=True)
def _faces_at(corners, corner_starts, corner_entries, places, p, tried, seeds):
    """Faces that meet at some welded corners, each with its node nearest to p; returns how many."""
    count = 0
    for w in corners:
        for e in range(corner_starts[w], corner_starts[w + 1]):
            face, node = corner_entries[e, 0], corner_entries[e, 1]
            at = -1
            for j in range(count):
                if tried[j] == face:
                    at = j
            if at < 0:
                if count == len(tried):
                    continue
                at = count
                count += 1
                tried[at], seeds[at] = face, node
                continue
            old, new = 0.0, 0.0
            for k in range(3):
                old += (places[seeds[at], k] - p[k]) ** 2
                new += (places[node, k] - p[k]) ** 2
            if new < old:
                seeds[at] = node
    return count


@nb.njit(parallel=True, cache=True, nogil=True)
def project_border(
    points, directions, cosine, index, least, surfaces, mesh, border, feet, normals, faces, signs, kinds_of_foot
):
    """Second pass: all faces that meet near the nearest triangle compete with their feet and their borders.

    least: squared distance (N,) that a foot within a face has at least.
    border: the trees of `nearest_chord`, previous and next piece, welded places of both ends of each piece, corner starts,
    corner entries (face, node), welded place of each node. kinds_of_foot: 0 on a face, 1 on a border, -1 unchanged.
    """
    kinds, rows, shapes, boxes, knots, poles = surfaces
    nodes, uv, triangle_faces, places, node_normals = mesh
    trees, neighbours, ends, corner_starts, corner_entries, welded = border
    n = len(points)
    filtered = len(directions) == n
    for chunk in nb.prange((n + 31) // 32):
        work = np.empty((4, 6, ORDER))
        out = np.empty((6, 3))
        q, normal, c, t, m = np.empty(3), np.empty(3), np.empty(3), np.empty(3), np.empty(3)
        tried, seeds = np.empty(64, np.int32), np.empty(64, np.int64)
        corners = np.empty(5, np.int64)
        for i in range(chunk * 32, min(n, chunk * 32 + 32)):
            p = points[i]
            best = np.inf
            strongest = -1.0
            kinds_of_foot[i] = -1
            for k in range(3):
                corners[k] = welded[nodes[index[i], k]]
            beside, _ = nearest_chord(triangle_faces[index[i]], trees, p, np.inf)
            last = 3
            if beside >= 0:
                corners[3], corners[4] = ends[beside, 0], ends[beside, 1]
                last = 5
            count = _faces_at(corners[:last], corner_starts, corner_entries, places, p, tried, seeds)
            for j in range(count):
                face = tried[j]
                seed = uv[seeds[j]]
                if face_foot(face, kinds, rows, shapes, boxes, knots, poles, p, seed, work, out, q, normal):
                    agree = 1.0
                    if filtered:
                        agree = (
                            normal[0] * directions[i, 0] + normal[1] * directions[i, 1] + normal[2] * directions[i, 2]
                        )
                    d = (p[0] - q[0]) ** 2 + (p[1] - q[1]) ** 2 + (p[2] - q[2]) ** 2
                    known = node_normals[seeds[j]]
                    is_front = known[0] * normal[0] + known[1] * normal[1] + known[2] * normal[2] >= NEARBY
                    # Nearer than the triangles are, but for their chords, lies no face: such a foot is beyond its border.
                    if (
                        is_front
                        and d >= least[i]
                        and agree >= cosine
                        and d < best
                        and is_inside(face, trees, neighbours, q, normal, c, t, m)
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
                piece, s = nearest_border(face, trees, neighbours, p, c, t)
                if piece < 0:
                    continue
                d = (p[0] - c[0]) ** 2 + (p[1] - c[1]) ** 2 + (p[2] - c[2]) ** 2
                if d > best + 1e-12 and not (kinds_of_foot[i] == 1 and d <= best + 1e-5 * (1 + best)):
                    continue
                if not face_foot(face, kinds, rows, shapes, boxes, knots, poles, c, uv[seeds[j]], work, out, q, normal):
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
