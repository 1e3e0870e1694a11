"""Compiled: which points appear inside an outline or under a stroke on the screen."""
# mypy: disable-error-code="untyped-decorator,no-untyped-def"

from __future__ import annotations

import numpy as np

from juxtum.compiled import numba as nb


@nb.njit(cache=True, nogil=True, parallel=True)
def inside(points, view, edges, starts, listed, low, high, is_stroke):
    """Whether each point (N, 3) lies in an outline (even-odd rule), or within 1 of a stroke.

    Edges (K, 4) are in the numbers of the screen; those that may matter between two heights are listed strip by strip
    (`listed[starts[s]:starts[s + 1]]`), so that a long outline costs no more than a short one.
    """
    found = np.zeros(len(points), np.bool_)
    strips = len(starts) - 1
    scale = strips / (high - low)
    for p in nb.prange(len(points)):
        w = view[3, 0] * points[p, 0] + view[3, 1] * points[p, 1] + view[3, 2] * points[p, 2] + view[3, 3]
        if w <= 0:
            continue
        y = (view[1, 0] * points[p, 0] + view[1, 1] * points[p, 1] + view[1, 2] * points[p, 2] + view[1, 3]) / w
        if y < low or y >= high:
            continue
        x = (view[0, 0] * points[p, 0] + view[0, 1] * points[p, 1] + view[0, 2] * points[p, 2] + view[0, 3]) / w
        strip = min(int((y - low) * scale), strips - 1)
        odd = False
        for i in range(starts[strip], starts[strip + 1]):
            e = listed[i]
            x0, y0, x1, y1 = edges[e, 0], edges[e, 1], edges[e, 2], edges[e, 3]
            if is_stroke:
                dx, dy = x1 - x0, y1 - y0
                length = dx * dx + dy * dy
                t = 0.0 if length == 0.0 else ((x - x0) * dx + (y - y0) * dy) / length
                t = min(max(t, 0.0), 1.0)
                if (x - x0 - t * dx) ** 2 + (y - y0 - t * dy) ** 2 <= 1.0:
                    odd = True
                    break
            elif (y0 > y) != (y1 > y) and x < x0 + (y - y0) * (x1 - x0) / (y1 - y0):
                odd = not odd
        found[p] = odd
    return found
