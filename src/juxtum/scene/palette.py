"""Deviation colours: paper within tolerance, steps of teal below it and of ochre to rust above it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from juxtum.geometry.arrays import Floats
from juxtum.look import LIGHT, Look, rgb

STEPS = 3
SPREAD = 3.0
"""The map reaches this many times as far as the tolerance limits before its last colour."""


@dataclass(frozen=True)
class MapScale:
    """The limits of the map in mm."""

    lower: float
    upper: float

    @property
    def ends(self) -> tuple[float, float]:
        """Lowest and highest deviation shown."""
        reach = max(abs(self.lower), abs(self.upper), (self.upper - self.lower) / 2, 1e-6)
        return self.lower - (SPREAD - 1) * reach, self.upper + (SPREAD - 1) * reach

    @property
    def steps(self) -> tuple[float, ...]:
        """All borders between colours, rising."""
        low, high = self.ends
        below = np.linspace(low, self.lower, STEPS + 1)[1:]
        above = np.linspace(self.upper, high, STEPS + 1)[:-1]
        return tuple(float(x) for x in (*below, *above))


def colours(values: npt.ArrayLike, scale: MapScale, look: Look = LIGHT) -> Floats:
    """Colour (N, 3) from 0 to 1 of deviations (N,) in mm."""
    ramp = np.array([rgb(c) for c in (*reversed(look.shy), look.in_tolerance, *look.proud)])
    index = np.searchsorted(np.array(scale.steps), np.asarray(values), side="left")
    # A value on the upper limit conforms, and so does one on the lower limit.
    index = np.where(np.asarray(values) == scale.lower, STEPS, index)
    return np.asarray(ramp[index])
