"""Whether photos are worth taking for a part, and whether they give what is wanted, in words."""

from __future__ import annotations

import numpy as np

from juxtum.instruments.models import InstrumentModel, Mode
from juxtum.nominal import Nominal
from juxtum.plan.photos.photos import PhotoPlan

BELOW = 0.93
"""So much of the method's error is the most that photos may bring."""


def wanted_of(model: InstrumentModel, length: float) -> float:
    """U that photos have to give over a length in mm: a little below the error of the scanner's method with bars, or its first."""
    barred = next((chain for chain in model.chains if chain.needs == "bars"), model.chains[0])
    return BELOW * barred.error(length)


def fits_one_field(nominal: Nominal, mode: Mode) -> bool:
    """Whether a scanner sees all of a side of the part from one pose, so that no length grows over joints."""
    low, middle, high = np.sort(np.ptp(nominal.mesh.bounds, axis=0))
    near, _, far = mode.stand_off
    return bool(high <= max(mode.field) and middle <= min(mode.field) and low <= far - near)


def photo_words(plan: PhotoPlan, nominal: Nominal, model: InstrumentModel, mode: Mode) -> str:
    """Whether photos are needed, what they give against what is wanted, and what a missing bar would cost."""
    full = plan.variants[0].expanded
    reached = "as wanted" if plan.holds else f"{plan.wanted:.3f} mm are wanted: the network does not reach it"
    words = f"U {full:.3f} mm over the longest length, {reached}"
    missing = next((v for v in plan.variants if v.title == "one bar missing"), None)
    if missing is not None:
        worse = f"{missing.expanded:.3f} mm" if np.isfinite(missing.expanded) else "no length at all"
        words += f"; with one bar missing {worse}"
    if fits_one_field(nominal, mode):
        words = f"not needed: the part fits one field of view of {model.name}; {words}"
    return words
