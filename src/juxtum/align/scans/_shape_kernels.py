"""Compiled loops of looking for poses by shape: pairs of directed points that are alike, and how well a pose lays points."""

from __future__ import annotations

import numpy as np

from juxtum.compiled import numba

ANGLES = 13
FEW, SILENT, ENOUGH = 15, 0.65, 0.35
"""Fewer edges over the other scan say nothing, what is taken for their agreement then, and the share of a scan that may be in common
beyond which more is no proof: the two last as `edges.SILENT` and `body.PLENTY`, since what was compiled knows its own file only."""
FAR = np.float32(3e38)
QUICK = numba.njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
"""All numbers are finite here, and whether the last digit of a score is right decides nothing."""


@QUICK
def _bin(angle):  # type: ignore[no-untyped-def]
    # Right angles, which parts are full of, lie in the middle of a bin.
    return min(int(angle * (ANGLES - 1) / np.pi + 0.5), ANGLES - 1)


@QUICK
def _key(p, q, n, m, step, steps):  # type: ignore[no-untyped-def]
    """Number of the drawer for two directed points: distance, and three angles (Drost 2010)."""
    dx, dy, dz = q[0] - p[0], q[1] - p[1], q[2] - p[2]
    d = np.sqrt(dx * dx + dy * dy + dz * dz)
    k = int(d / step)
    if k < 2 or k >= steps:
        return -1
    dx, dy, dz = dx / d, dy / d, dz / d
    a = np.arccos(min(max(n[0] * dx + n[1] * dy + n[2] * dz, -1.0), 1.0))
    b = np.arccos(min(max(m[0] * dx + m[1] * dy + m[2] * dz, -1.0), 1.0))
    c = np.arccos(min(max(n[0] * m[0] + n[1] * m[1] + n[2] * m[2], -1.0), 1.0))
    # Two points of one plane fit everywhere on it and say nothing.
    if c < 0.15:
        return -1
    return ((k * ANGLES + _bin(a)) * ANGLES + _bin(b)) * ANGLES + _bin(c)


@QUICK
def fill(points, normals, step, steps):  # type: ignore[no-untyped-def]
    """All pairs of points (N, 3) in their drawers: first index of each drawer, and the pairs."""
    drawers = steps * ANGLES * ANGLES * ANGLES
    starts = np.zeros(drawers + 1, np.int64)
    n = len(points)
    for i in range(n):
        for j in range(n):
            if i != j:
                k = _key(points[i], points[j], normals[i], normals[j], step, steps)
                if k >= 0:
                    starts[k + 1] += 1
    for k in range(drawers):
        starts[k + 1] += starts[k]
    pairs = np.empty((starts[drawers], 2), np.int32)
    at = starts[:-1].copy()
    for i in range(n):
        for j in range(n):
            if i != j:
                k = _key(points[i], points[j], normals[i], normals[j], step, steps)
                if k >= 0:
                    pairs[at[k], 0], pairs[at[k], 1] = i, j
                    at[k] += 1
    return starts, pairs


@QUICK
def grid(points, origin, voxel, shape):  # type: ignore[no-untyped-def]
    """For each voxel the row of the point nearest to its middle, of those in it or beside it; -1 for none."""
    rows = np.full(shape, -1, np.int32)
    best = np.full(shape, FAR, np.float32)
    for r in range(len(points)):
        c = np.empty(3, np.int64)
        for k in range(3):
            c[k] = int((points[r, k] - origin[k]) / voxel)
        for i in range(max(c[0] - 1, 0), min(c[0] + 2, shape[0])):
            for j in range(max(c[1] - 1, 0), min(c[1] + 2, shape[1])):
                for k in range(max(c[2] - 1, 0), min(c[2] + 2, shape[2])):
                    x = origin[0] + (i + 0.5) * voxel - points[r, 0]
                    y = origin[1] + (j + 0.5) * voxel - points[r, 1]
                    z = origin[2] + (k + 0.5) * voxel - points[r, 2]
                    d = np.float32(x * x + y * y + z * z)
                    if d < best[i, j, k]:
                        best[i, j, k], rows[i, j, k] = d, r
    return rows


@QUICK
def _frame(p, q, n, out):  # type: ignore[no-untyped-def]
    """Axes of two directed points: along the first normal, and towards the second point; False where these are one."""
    dx, dy, dz = q[0] - p[0], q[1] - p[1], q[2] - p[2]
    h = dx * n[0] + dy * n[1] + dz * n[2]
    dx, dy, dz = dx - h * n[0], dy - h * n[1], dz - h * n[2]
    d = np.sqrt(dx * dx + dy * dy + dz * dz)
    if d < 0.2 * abs(h) + 1e-9:
        return False
    dx, dy, dz = dx / d, dy / d, dz / d
    out[0, 0], out[1, 0], out[2, 0] = n[0], n[1], n[2]
    out[0, 1], out[1, 1], out[2, 1] = dx, dy, dz
    out[0, 2] = n[1] * dz - n[2] * dy
    out[1, 2] = n[2] * dx - n[0] * dz
    out[2, 2] = n[0] * dy - n[1] * dx
    return True


@QUICK
def score(points, normals, weights, rotation, offset, rows, origin, voxel, targets, facing, least):  # type: ignore[no-untyped-def]
    """Weight of the points (N, 3) that a pose lays onto the other scan, facing alike; 0 where it will hardly reach `least`, a share of the whole."""
    total, looked = 0.0, 0.0
    limit = 1.5 * voxel
    for i in range(len(points)):
        # The points come in any order: a pose that begins badly does not end well.
        if (
            (i == 14 and total < 0.25 * least * looked)
            or (i == 40 and total < 0.4 * least * looked)
            or (i == 140 and total < 0.75 * least * looked)
        ):
            return 0.0
        looked += weights[i]
        x = rotation[0, 0] * points[i, 0] + rotation[0, 1] * points[i, 1] + rotation[0, 2] * points[i, 2] + offset[0]
        y = rotation[1, 0] * points[i, 0] + rotation[1, 1] * points[i, 1] + rotation[1, 2] * points[i, 2] + offset[1]
        z = rotation[2, 0] * points[i, 0] + rotation[2, 1] * points[i, 1] + rotation[2, 2] * points[i, 2] + offset[2]
        a, b, c = int((x - origin[0]) / voxel), int((y - origin[1]) / voxel), int((z - origin[2]) / voxel)
        if (
            x > origin[0]
            and y > origin[1]
            and z > origin[2]
            and a < rows.shape[0]
            and b < rows.shape[1]
            and c < rows.shape[2]
        ):
            r = rows[a, b, c]
            if r >= 0:
                u = rotation[0, 0] * normals[i, 0] + rotation[0, 1] * normals[i, 1] + rotation[0, 2] * normals[i, 2]
                v = rotation[1, 0] * normals[i, 0] + rotation[1, 1] * normals[i, 1] + rotation[1, 2] * normals[i, 2]
                w = rotation[2, 0] * normals[i, 0] + rotation[2, 1] * normals[i, 1] + rotation[2, 2] * normals[i, 2]
                agree = u * facing[r, 0] + v * facing[r, 1] + w * facing[r, 2]
                if agree > 0.85:
                    h = (
                        (x - targets[r, 0]) * facing[r, 0]
                        + (y - targets[r, 1]) * facing[r, 1]
                        + (z - targets[r, 2]) * facing[r, 2]
                    )
                    if abs(h) < 0.5 * limit:
                        total += weights[i] * (1.0 - abs(h) / limit)
    return total


@QUICK
def _agreement(edges, rotation, offset, rows, lined, origin, voxel):  # type: ignore[no-untyped-def]
    """Share of the edges (N, 3) that lie over the other scan which lie along its edges, too; something between where too few do."""
    over, on = 0, 0
    for i in range(len(edges)):
        x = rotation[0, 0] * edges[i, 0] + rotation[0, 1] * edges[i, 1] + rotation[0, 2] * edges[i, 2] + offset[0]
        y = rotation[1, 0] * edges[i, 0] + rotation[1, 1] * edges[i, 1] + rotation[1, 2] * edges[i, 2] + offset[1]
        z = rotation[2, 0] * edges[i, 0] + rotation[2, 1] * edges[i, 1] + rotation[2, 2] * edges[i, 2] + offset[2]
        if x <= origin[0] or y <= origin[1] or z <= origin[2]:
            continue
        a, b, c = int((x - origin[0]) / voxel), int((y - origin[1]) / voxel), int((z - origin[2]) / voxel)
        if a < rows.shape[0] and b < rows.shape[1] and c < rows.shape[2] and rows[a, b, c] >= 0:
            over += 1
            if lined[a, b, c]:
                on += 1
    return on / over if over >= FEW else SILENT


@QUICK
def agreements(poses, edges, rows, lined, origin, voxel):  # type: ignore[no-untyped-def]
    """For each pose (K, 3, 4) how many of the edges (N, 3) lie along those of the other scan, as a share of those over it."""
    shares = np.empty(len(poses))
    for k in range(len(poses)):
        shares[k] = _agreement(edges, poses[k, :, :3], poses[k, :, 3], rows, lined, origin, voxel)
    return shares


@QUICK
def search(  # type: ignore[no-untyped-def]
    chosen, p, n, sp, sn, weights, edges, starts, pairs, q, m, rows, lined, origin, voxel, targets, facing, step, steps, most
):  # fmt: skip
    """Poses that lay pairs of points of one scan onto pairs that are alike in the other, with their scores.

    chosen : pairs (K, 2) of rows of p; p, n : points of the source and their directions; sp, sn, weights : the points by
    which a pose is scored; edges : places along its edges, which tell places on one face apart; starts, pairs, q, m : drawers of
    the target's pairs and its points; rows, lined : its points, and where its edges are, by voxels.
    """
    found = np.empty((most, 13))
    count, best, floor = 0, 0.0, 0.0
    first, second = np.empty((3, 3)), np.empty((3, 3))
    rotation, offset = np.empty((3, 3)), np.empty(3)
    for c in range(len(chosen)):
        i, j = chosen[c, 0], chosen[c, 1]
        k = _key(p[i], p[j], n[i], n[j], step, steps)
        if k < 0 or not _frame(p[i], p[j], n[i], first):
            continue
        many = starts[k + 1] - starts[k]
        stride = max(1, many // 150)
        for e in range(starts[k], starts[k + 1], stride):
            u, v = pairs[e, 0], pairs[e, 1]
            if not _frame(q[u], q[v], m[u], second):
                continue
            for a in range(3):
                for b in range(3):
                    rotation[a, b] = (
                        second[a, 0] * first[b, 0] + second[a, 1] * first[b, 1] + second[a, 2] * first[b, 2]
                    )
            for a in range(3):
                offset[a] = q[u, a] - (rotation[a, 0] * p[i, 0] + rotation[a, 1] * p[i, 1] + rotation[a, 2] * p[i, 2])
            least = 0.35 * best
            s = score(sp, sn, weights, rotation, offset, rows, origin, voxel, targets, facing, least)
            if s > 0 and s >= least:
                best = max(best, s)
                s = min(s, ENOUGH) * (0.2 + 0.8 * _agreement(edges, rotation, offset, rows, lined, origin, voxel))
                if s <= floor:
                    continue
                if count == most:
                    # Full: the better half stays.
                    order = np.argsort(found[:, 0])
                    found[: most // 2] = found[order[most - most // 2 :]]
                    count = most // 2
                    floor = found[0, 0]
                found[count, 0] = s
                for a in range(3):
                    for b in range(3):
                        found[count, 1 + 3 * a + b] = rotation[a, b]
                    found[count, 10 + a] = offset[a]
                count += 1
    return found[:count]


@QUICK
def _step(points, normals, pose, rows, origin, voxel, targets, facing, reach, matrix, right):  # type: ignore[no-untyped-def]
    """Sums for a Gauss-Newton step onto the planes of the other scan; points on it, beside it, and in its voxels."""
    matrix[:] = 0.0
    right[:] = 0.0
    on, beside, there = 0, 0, 0
    rotation, offset = pose[:, :3], pose[:, 3]
    jacobian = np.empty(6)
    for i in range(len(points)):
        x = rotation[0, 0] * points[i, 0] + rotation[0, 1] * points[i, 1] + rotation[0, 2] * points[i, 2] + offset[0]
        y = rotation[1, 0] * points[i, 0] + rotation[1, 1] * points[i, 1] + rotation[1, 2] * points[i, 2] + offset[1]
        z = rotation[2, 0] * points[i, 0] + rotation[2, 1] * points[i, 1] + rotation[2, 2] * points[i, 2] + offset[2]
        if x <= origin[0] or y <= origin[1] or z <= origin[2]:
            continue
        a, b, c = int((x - origin[0]) / voxel), int((y - origin[1]) / voxel), int((z - origin[2]) / voxel)
        if a >= rows.shape[0] or b >= rows.shape[1] or c >= rows.shape[2]:
            continue
        r = rows[a, b, c]
        if r < 0:
            continue
        there += 1
        u = rotation[0, 0] * normals[i, 0] + rotation[0, 1] * normals[i, 1] + rotation[0, 2] * normals[i, 2]
        v = rotation[1, 0] * normals[i, 0] + rotation[1, 1] * normals[i, 1] + rotation[1, 2] * normals[i, 2]
        w = rotation[2, 0] * normals[i, 0] + rotation[2, 1] * normals[i, 1] + rotation[2, 2] * normals[i, 2]
        n0, n1, n2 = facing[r, 0], facing[r, 1], facing[r, 2]
        if u * n0 + v * n1 + w * n2 < 0.8:
            continue
        h = (x - targets[r, 0]) * n0 + (y - targets[r, 1]) * n1 + (z - targets[r, 2]) * n2
        if abs(h) > reach:
            beside += 1
            continue
        on += 1
        jacobian[0], jacobian[1], jacobian[2] = n0, n1, n2
        jacobian[3], jacobian[4], jacobian[5] = y * n2 - z * n1, z * n0 - x * n2, x * n1 - y * n0
        for k in range(6):
            right[k] -= jacobian[k] * h
            for m in range(6):
                matrix[k, m] += jacobian[k] * jacobian[m]
    return on, beside, there


@QUICK
def settle(poses, points, normals, rows, origin, voxel, targets, facing, size, rounds):  # type: ignore[no-untyped-def]
    """Lay each pose (K, 3, 4) onto the other scan; shares (K, 3) of the points (N, 3) on it, beside it, in its voxels."""
    shares = np.zeros((len(poses), 3))
    matrix, right = np.empty((6, 6)), np.empty(6)
    for p in range(len(poses)):
        pose = poses[p]
        for index in range(rounds):
            reach = voxel * (1.2 if index < rounds // 2 else 0.4)
            on, beside, there = _step(points, normals, pose, rows, origin, voxel, targets, facing, reach, matrix, right)
            shares[p, 0], shares[p, 1], shares[p, 2] = on / len(points), beside / len(points), there / len(points)
            if on < 12 or index == rounds - 1:
                break
            for k in range(6):
                matrix[k, k] += 1e-3 * on * (1.0 if k < 3 else size * size)
            step = np.linalg.solve(matrix, right)
            turn = min(np.sqrt(step[3] ** 2 + step[4] ** 2 + step[5] ** 2), 0.2)
            full = np.sqrt(step[3] ** 2 + step[4] ** 2 + step[5] ** 2)
            k0, k1, k2 = (step[3] / full, step[4] / full, step[5] / full) if full > 1e-12 else (0.0, 0.0, 1.0)
            co, si = np.cos(turn), np.sin(turn)
            turned = np.empty((3, 3))
            turned[0, 0], turned[0, 1], turned[0, 2] = (
                co + k0 * k0 * (1 - co),
                k0 * k1 * (1 - co) - k2 * si,
                k0 * k2 * (1 - co) + k1 * si,
            )
            turned[1, 0], turned[1, 1], turned[1, 2] = (
                k1 * k0 * (1 - co) + k2 * si,
                co + k1 * k1 * (1 - co),
                k1 * k2 * (1 - co) - k0 * si,
            )
            turned[2, 0], turned[2, 1], turned[2, 2] = (
                k2 * k0 * (1 - co) - k1 * si,
                k2 * k1 * (1 - co) + k0 * si,
                co + k2 * k2 * (1 - co),
            )
            pose[:, :] = turned @ pose
            pose[0, 3] += step[0]
            pose[1, 3] += step[1]
            pose[2, 3] += step[2]
    return shares
