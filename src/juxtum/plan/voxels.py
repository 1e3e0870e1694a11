"""How fine a cabinet sees what lies in it: the wider the tray, the coarser the voxel, and the less sure every length."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from juxtum.geometry.arrays import Floats
from juxtum.instruments.models import InstrumentModel
from juxtum.plan.task import Task

EDGE = 0.1
"""A surface is found to this share of a voxel, as a standard uncertainty: what a fit to grey values gives on clean edges."""
GOOD_RATIO = 3.0
"""Tolerance width over 2 U from which an instrument is usable."""


@dataclass(frozen=True)
class Fineness:
    """What so wide a tray gives.

    Parameters
    ----------
    diameter : float
        Of all that lies in the beam, about the axis, mm.
    voxel : float
        mm.
    expanded : float
        Expanded uncertainty of a length of the whole part, mm.
    ratio : float
        Width of the tightest tolerance over 2 U; infinite where nothing is toleranced.
    """

    diameter: float
    voxel: float
    expanded: float
    ratio: float

    @property
    def is_enough(self) -> bool:
        """Whether the tightest tolerance can be told."""
        return self.ratio >= GOOD_RATIO

    @property
    def words(self) -> str:
        """For a list."""
        said = f"voxel {self.voxel:.2f} mm over \u00d8{self.diameter:.0f} mm, U {self.expanded:.3f} mm"
        if not np.isfinite(self.ratio):
            return said
        return f"{said}: the tightest tolerance is {self.ratio:.1f} times as wide as 2 U"


def fineness(model: InstrumentModel, task: Task, places: Floats, outline: Floats, length: float) -> Fineness:
    """How fine parts at some places are seen.

    The detector's pixels are spread over what lies in the beam: at the widest field the voxel is the coarsest of the
    mode, and it shrinks with the diameter down to the finest.

    Parameters
    ----------
    places : array (N, 3)
        Middles of the parts, from the axis, mm.
    outline : array (M, 2)
        Of one part's shadow about its middle.
    length : float
        Of one part, mm.

    Examples
    --------
    >>> from juxtum.instruments.models import Kind, shipped
    >>> from juxtum.plan.task import whole_part
    >>> square = np.array([[-20.0, -20], [20, -20], [20, 20], [-20, 20]])
    >>> one, four = (fineness(shipped(Kind.CABINET), whole_part(-0.1, 0.1), np.array(p, float), square, 40.0)
    ...              for p in ([[0, 0, 0]], [[25, 25, 0], [-25, 25, 0], [25, -25, 0], [-25, -25, 0]]))
    >>> one.voxel < four.voxel, one.expanded < four.expanded
    (True, True)
    """
    mode, chain = model.modes[0], model.chain()
    finest, coarsest = mode.spacing
    diameter = 2 * float(np.linalg.norm(places[:, None, :2] + outline[None], axis=2).max())
    voxel = max(finest, coarsest * diameter / mode.field[0])
    standard = np.linalg.norm([chain.error(length) / np.sqrt(3), chain.repeatability, EDGE * voxel])
    expanded = 2 * float(standard)
    # An angle asks little of a cabinet that its own length does not ask already.
    tightest = min((aim.width for aim in task.aims if aim.unit == "mm"), default=np.inf)
    return Fineness(diameter, voxel, expanded, float(tightest / (2 * expanded)))
