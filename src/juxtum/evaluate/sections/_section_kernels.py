"""Compiled search for the piece of a curve that is nearest to points of a plane and faces the same way."""
# mypy: disable-error-code="untyped-decorator,no-untyped-def"

from __future__ import annotations

import numpy as np

from juxtum.compiled import numba as nb


@nb.njit(cache=True, nogil=True)
def nearest_pieces(points, outwards, pieces_at, limit, cosine):
    """Of points (N, 2) with two outward directions each (N, 4): the nearest piece that faces like one of them.

    Also its foot, and the distance.

    At a corner of a measured curve the two directions are those of what lies before and behind it.
    Piece -1 where none lies within the limit. The distance is signed: positive to
    the right of the piece, which is outside the material.
    """
    starts, ends = pieces_at
    count, pieces = len(points), len(starts)
    rows = np.full(count, -1, dtype=np.int64)
    feet = np.full((count, 2), np.nan)
    signed = np.full(count, np.nan)
    for i in range(count):
        x, y = points[i, 0], points[i, 1]
        best = limit * limit
        for k in range(pieces):
            ax, ay = starts[k, 0], starts[k, 1]
            dx, dy = ends[k, 0] - ax, ends[k, 1] - ay
            # Far off along either axis: the rest need not be asked.
            if min(abs(x - ax), abs(x - ax - dx)) > limit and (x - ax) * (x - ax - dx) > 0:
                continue
            if min(abs(y - ay), abs(y - ay - dy)) > limit and (y - ay) * (y - ay - dy) > 0:
                continue
            length2 = dx * dx + dy * dy
            if length2 == 0.0:
                continue
            s = ((x - ax) * dx + (y - ay) * dy) / length2
            s = min(max(s, 0.0), 1.0)
            fx, fy = ax + s * dx, ay + s * dy
            far = (x - fx) ** 2 + (y - fy) ** 2
            if far < best:
                # Outwards of a piece with material to the left is to the right of it.
                one = outwards[i, 0] * dy - outwards[i, 1] * dx
                two = outwards[i, 2] * dy - outwards[i, 3] * dx
                if max(one, two) < cosine * np.sqrt(length2):
                    continue
                best = far
                rows[i], feet[i, 0], feet[i, 1] = k, fx, fy
                side = (x - fx) * dy - (y - fy) * dx
                signed[i] = np.sqrt(far) if side >= 0 else -np.sqrt(far)
    return rows, feet, signed


@nb.njit(cache=True, nogil=True)
def pieces_along(points, outwards, pieces_at, limit, cosine, way):
    """The same along one direction (2,) only: where the line through each point meets the nearest piece."""
    starts, ends = pieces_at
    count, pieces = len(points), len(starts)
    rows = np.full(count, -1, dtype=np.int64)
    feet = np.full((count, 2), np.nan)
    signed = np.full(count, np.nan)
    for i in range(count):
        best = limit
        for k in range(pieces):
            ax, ay = starts[k, 0] - points[i, 0], starts[k, 1] - points[i, 1]
            dx, dy = ends[k, 0] - starts[k, 0], ends[k, 1] - starts[k, 1]
            across = dx * way[1] - dy * way[0]
            length = np.sqrt(dx * dx + dy * dy)
            # Nearly along the line itself a piece says nothing of how far off it is.
            if abs(across) < 0.1 * length or length == 0.0:
                continue
            s = -(ax * way[1] - ay * way[0]) / across
            if s < 0.0 or s > 1.0:
                continue
            t = (ax + s * dx) * way[0] + (ay + s * dy) * way[1]
            if abs(t) >= best:
                continue
            one = outwards[i, 0] * dy - outwards[i, 1] * dx
            two = outwards[i, 2] * dy - outwards[i, 3] * dx
            if max(one, two) < cosine * length:
                continue
            best = abs(t)
            rows[i], feet[i, 0], feet[i, 1] = k, points[i, 0] + t * way[0], points[i, 1] + t * way[1]
            outside = way[0] * dy - way[1] * dx
            signed[i] = -t if outside >= 0 else t
    return rows, feet, signed
