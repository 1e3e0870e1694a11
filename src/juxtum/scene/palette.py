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


STYLES = ("steps", "graded", "verdict", "above", "below")
"""Steps of colour beyond the limits; colours that run into each other, within them too; within or not; only what is proud; only what is shy."""


@dataclass(frozen=True)
class MapScale:
    """The limits of the map, in mm or as shares of a tolerance, and how it is coloured."""

    lower: float
    upper: float
    style: str = "steps"
    span: tuple[float, float] | None = None
    """Lowest and highest value shown, where they do not follow from the limits: of thicknesses, which have no zero in the middle."""

    @property
    def ends(self) -> tuple[float, float]:
        """Lowest and highest deviation shown."""
        if self.span is not None:
            return self.span
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
    values = np.asarray(values, dtype=np.float64)
    if scale.style == "graded":
        return _graded(values, scale, look)
    index = np.searchsorted(np.array(scale.steps), values, side="left")
    # A value on the upper limit conforms, and so does one on the lower limit.
    index = np.where(values == scale.lower, STEPS, index)
    if scale.style == "verdict":
        index = STEPS + np.sign(index - STEPS) * 2
    elif scale.style == "above":
        index = np.maximum(index, STEPS)
    elif scale.style == "below":
        index = np.minimum(index, STEPS)
    ramp = np.array([rgb(c) for c in (*reversed(look.shy), look.in_tolerance, *look.proud)])
    return np.asarray(ramp[index])


def _graded(values: Floats, scale: MapScale, look: Look) -> Floats:
    """Colours that run into each other: paper in the middle of the limits, the first colour on either of them, the last at the ends."""
    low, high = scale.ends
    places = (
        *np.linspace(low, scale.lower, STEPS),
        (scale.lower + scale.upper) / 2,
        *np.linspace(scale.upper, high, STEPS),
    )
    ramp = np.array([rgb(c) for c in (*reversed(look.shy), look.in_tolerance, *look.proud)])
    return np.stack([np.interp(values, places, channel) for channel in ramp.T], axis=-1)
