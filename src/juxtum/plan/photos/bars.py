"""Scale bars beside the part: where they lie and how long they are at the temperature of the work."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from juxtum.errors import InputError
from juxtum.evaluate import Environment
from juxtum.geometry.arrays import Floats, frozen, unit
from juxtum.instruments.models import InstrumentModel, ScaleBar
from juxtum.nominal import Nominal


@dataclass(frozen=True, eq=False)
class LaidBar:
    """A scale bar where it lies: its two ends (2, 3), what it is, and its length at the temperature of the work."""

    bar: ScaleBar
    ends: Floats
    length: float
    uncertainty: float


LONGER = 1.2
"""A bar is best a little longer than the part, where the set has such a one."""


def _sized(bars: tuple[ScaleBar, ...], length: float) -> list[ScaleBar]:
    """The bars that suit a part of a length best, first."""
    return sorted(bars, key=lambda bar: abs(float(np.log(bar.length / (LONGER * length)))))


def lay_bars(nominal: Nominal, model: InstrumentModel, room: Environment, count: int) -> tuple[LaidBar, ...]:
    """Bars beside the part, along its long axis at both ends and leaning differently, corrected for temperature."""
    if count < 1 or len(model.bars) < count:
        what = f"{model.name} has {len(model.bars)} scale bars, {count} are asked for"
        raise InputError(what, "photos", "Ask for at least one, and not more than the set has")
    low, high = nominal.mesh.bounds
    order = np.argsort(-(high - low))
    along, across = np.eye(3)[order[0]], np.eye(3)[order[1] if order[1] != 2 else order[2]]
    rise = np.array([0.0, 0, 1]) if order[0] != 2 else np.eye(3)[order[2]]
    length = float((high - low)[order[0]])
    result = []
    for k, bar in enumerate(_sized(model.bars, length)[:count]):
        # On a long part every second bar leans on a stand; about a short one they lie at right angles to each other.
        is_short = length < bar.length
        lean = np.radians((0.0, 90.0 if is_short else 40.0, 80.0, 40.0)[k % 4])
        direction = unit(np.cos(lean) * along + np.sin(lean) * (across if is_short or k == 2 else rise))
        shift = (k - (count - 1) / 2) / max(count, 1) * max(length - bar.length, 0.0)
        side = 1.0 if k % 2 == 0 else -1.0
        beside = side * (0.5 * float((high - low) @ np.abs(across)) + 0.12 * bar.length + 60)
        sideways = along if is_short and k % 2 else across
        centre = (
            nominal.centre + shift * along + beside * sideways + rise * 0.5 * abs(float(direction @ rise)) * bar.length
        )
        ends = np.stack([centre - direction * bar.length / 2, centre + direction * bar.length / 2])
        warm = bar.expansion * 1e-6 * (room.expected_temperature - 20.0)
        heat = np.hypot(
            bar.expansion_u * 1e-6 * abs(room.expected_temperature - 20.0), bar.expansion * 1e-6 * room.temperature_u
        )
        spread = float(np.hypot(bar.uncertainty / 2, bar.length * heat))
        result.append(LaidBar(bar, frozen(ends), bar.length * (1 + warm), spread))
    return tuple(result)
