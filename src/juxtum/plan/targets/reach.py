"""How deep a mode of scanning sees into holes."""

from __future__ import annotations

import numpy as np

from juxtum.instruments.models import Mode

SMALL, LARGE = 8.0, 40.0
"""Diameters, mm, at which the two reaches of a mode are stated."""


def reach_of(mode: Mode, diameter: float) -> float:
    """Depth in diameters that a mode sees into a hole.

    A narrow hole shadows the line of sight to the camera sooner, so the reach grows with the diameter, between the
    two values that the instrument document states for holes of 8 and 40 mm.

    Examples
    --------
    >>> from juxtum.instruments.models import Kind, shipped
    >>> single = shipped(Kind.HANDHELD).mode("single line")
    >>> reach_of(single, 4.0), reach_of(single, 24.0), reach_of(single, 60.0)
    (2.0, 3.5, 5.0)
    """
    share = float(np.clip((diameter - SMALL) / (LARGE - SMALL), 0.0, 1.0))
    return mode.reach[0] + share * (mode.reach[1] - mode.reach[0])


def beside(mode: Mode) -> float:
    """How far beside the light the camera stands, mm: a mode that reaches deep into holes has it close by.

    Examples
    --------
    >>> from juxtum.instruments.models import Kind, shipped
    >>> beside(shipped(Kind.HANDHELD).mode("single line"))
    30.0
    """
    baseline = mode.stand_off[1] / (2 * max(mode.reach[1], 0.5))
    return float(min(baseline, 0.5 * mode.stand_off[1]))
