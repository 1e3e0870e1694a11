"""Selections on a scan: an outline drawn on the screen and pushed through the part."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from juxtum.geometry.arrays import Bools, Floats


@dataclass(frozen=True, eq=False)
class Prism:
    """An outline on the screen and the view through which it was drawn.

    Parameters
    ----------
    view : array (4, 4)
        From scan coordinates to the screen: x and y from -1 to 1 after division by w.
    outline : array (K, 2)
        Corners on the screen, K >= 3.
    """

    view: Floats
    outline: Floats


def inside_prism(points: Floats, prism: Prism) -> Bools:
    """Which points (N, 3) appear inside the outline (even-odd rule)."""
    homogeneous = points @ prism.view[:, :3].T + prism.view[:, 3]
    w = homogeneous[:, 3]
    front = w > 0
    screen = homogeneous[:, :2] / np.where(front, w, 1.0)[:, None]
    x, y = screen.T
    inside = np.zeros(len(points), dtype=bool)
    corners = prism.outline
    for (x0, y0), (x1, y1) in zip(corners, np.roll(corners, -1, axis=0), strict=True):
        crosses = (y0 > y) != (y1 > y)
        if y1 != y0:
            inside ^= crosses & (x < x0 + (y - y0) * (x1 - x0) / (y1 - y0))
    return np.asarray(inside & front)
