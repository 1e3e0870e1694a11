"""Compiled loops of taking points in; they let other threads work meanwhile."""

from __future__ import annotations

import numpy as np

from juxtum.compiled import numba


@numba.njit(cache=True, nogil=True)
def take(points, rotation, offset, block, places):  # type: ignore[no-untyped-def]
    """Bring points from the device to the map: into a block of the store, and their places as float64."""
    for i in range(len(points)):
        p, q = points[i].place, points[i].normal
        for r in range(3):
            x = rotation[r, 0] * p[0] + rotation[r, 1] * p[1] + rotation[r, 2] * p[2] + offset[r]
            places[i, r] = x
            block[i].place[r] = x
            turned = rotation[r, 0] * q[0] + rotation[r, 1] * q[1] + rotation[r, 2] * q[2]
            block[i].normal[r] = np.int8(min(max(np.round(turned), -127.0), 127.0))
        block[i].quality = points[i].quality
