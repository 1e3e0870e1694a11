"""What of the points that come is kept: nothing while one only looks, nothing below a cut, nothing seen too flat."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from juxtum.devices.protocol import Points
from juxtum.geometry import RigidTransform
from juxtum.geometry.arrays import Bools, Floats, unit

FLAT = 55.0
"""Degrees between the line of sight and the surface's normal beyond which a point is too noisy to be called clean."""


@dataclass(frozen=True)
class Sieve:
    """What is kept.

    Parameters
    ----------
    is_preview : bool
        Whether points are shown and none is kept.
    is_clean : bool
        Whether points seen too flat, and those of frames in which the scanner is hardly tracked, are left out.
    cut : float, optional
        Height above what the part lies on below which nothing is kept, mm.
    """

    is_preview: bool = False
    is_clean: bool = False
    cut: float | None = None

    def kept(self, points: Points, heights: Floats | None) -> Bools:
        """Which of the points (N,) of a frame are kept.

        Parameters
        ----------
        points : structured array (N,)
            Places and normals in the coordinates of the scanner, which stands at their origin.
        heights : array (N,), optional
            Above what the part lies on, mm; none while nobody knows where the part is.

        Examples
        --------
        >>> from juxtum.devices.protocol import POINT
        >>> points = np.zeros(2, POINT)
        >>> points["place"], points["normal"] = [[0, 0, 300], [0, 0, 300]], [[0, 0, -127], [114, 0, -56]]
        >>> Sieve(is_clean=True).kept(points, None).tolist(), Sieve(cut=5.0).kept(points, np.array([4.0, 6.0])).tolist()
        ([True, False], [False, True])
        """
        if self.is_preview:
            return np.zeros(len(points), dtype=bool)
        kept = np.ones(len(points), dtype=bool)
        if self.is_clean:
            sight = unit(points["place"].astype(np.float64))
            facing = np.abs(np.einsum("ij,ij->i", sight, unit(points["normal"].astype(np.float64))))
            kept &= facing >= np.cos(np.radians(FLAT))
        if self.cut is not None and heights is not None:
            kept &= heights >= self.cut
        return kept


def cut_plane(cut: float, bounds: Floats, laid: RigidTransform) -> Floats:
    """Corners (4, 3) of a cut in part coordinates, a little wider than the part.

    Parameters
    ----------
    bounds : array (2, 3)
        Of the part as it is laid, table coordinates, mm.
    laid : RigidTransform
        From part to table coordinates.
    """
    wide = 0.08 * float(np.linalg.norm(bounds[1] - bounds[0]))
    low, high = bounds[0] - wide, bounds[1] + wide
    corners = np.array([[low[0], low[1]], [high[0], low[1]], [high[0], high[1]], [low[0], high[1]]])
    return laid.inverse.apply(np.column_stack([corners, np.full(4, bounds[0][2] + cut)]))
