"""How far the part moves between two alignments."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from juxtum.geometry import RigidTransform
from juxtum.geometry.arrays import Floats
from juxtum.nominal import Nominal


@dataclass(frozen=True, eq=False)
class FrameComparison:
    """The movement of the part from one frame to another.

    Parameters
    ----------
    shift : array (3,)
        Of the part's centre, mm.
    angle : float
        Degrees.
    axis : array (3,)
        Unit axis of the turn.
    largest : float
        Largest movement anywhere on the part, mm.
    """

    shift: Floats
    angle: float
    axis: Floats
    largest: float


def compare(first: RigidTransform, second: RigidTransform, nominal: Nominal) -> FrameComparison:
    """What changes from the first alignment to the second, in part coordinates."""
    motion = second @ first.inverse
    points = nominal.mesh.points
    largest = float(np.linalg.norm(motion.apply(points) - points, axis=1).max())
    return FrameComparison(motion.apply(nominal.centre) - nominal.centre, motion.angle, motion.axis, largest)
