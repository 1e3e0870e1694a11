"""Features that are made of others, as lines on the stage."""

from __future__ import annotations

import numpy as np

from juxtum.geometry.arrays import Floats, orthonormal_frame
from juxtum.geometry.features import Circle, Feature, Line, Plane
from juxtum.scene.drawables import Lines, segments

ROUND = 96
CROSS, REACH = 0.02, 0.2
"""Half the arm of a point's cross and half of what is drawn of a plane, over the size of the part."""
BEYOND = 0.55
"""Half of what is drawn of a line, over the size of the part."""


def strokes_of(feature: Feature, size: float, ends: Floats | None = None) -> Lines:
    """A line, a frame, a ring or a cross.

    Parameters
    ----------
    size : float
        Of the part, mm.
    ends : array (2, 3), optional
        Of a line that is not endless.
    """
    place = np.asarray(feature.point)
    if ends is not None:
        return segments(ends[None])
    if isinstance(feature, Line):
        return segments((place + np.outer([-BEYOND, BEYOND], feature.axis) * size)[None])
    if isinstance(feature, Plane):
        u, v = REACH * size * orthonormal_frame(feature.normal)[:2]
        corners = place + np.stack([-u - v, u - v, u + v, -u + v])
        return segments(np.stack([corners, np.roll(corners, -1, axis=0)], axis=1))
    if isinstance(feature, Circle):
        u, v = feature.radius * orthonormal_frame(feature.axis)[:2]
        turn = np.linspace(0, 2 * np.pi, ROUND + 1)[:, None]
        ring = place + np.cos(turn) * u + np.sin(turn) * v
        return segments(np.stack([ring[:-1], ring[1:]], axis=1))
    arms = CROSS * size * np.eye(3)
    return segments(np.stack([place - arms, place + arms], axis=1))
