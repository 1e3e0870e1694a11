"""What a measurement costs: points, memory and minutes."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from juxtum.instruments.models import InstrumentModel, Mode

OVERLAP = 1.6
"""Every place is passed over this often on average."""
PASSES = 4.0
"""Times the field travels over a place until it was seen from enough sides."""
HANDLING = 1.35
"""Turning, walking and looking take this much longer than the bare path."""
BYTES = {"capture": 40.0, "join": 110.0, "clean": 180.0, "evaluate": 460.0}
"""Bytes per point in each stage; the last is the measured peak of `inspect` (docs/measurements.md)."""
MESHING_RATE = 250_000.0
"""Points meshed per second on two cores."""
EVALUATION_RATE = 330_000.0


@dataclass(frozen=True)
class Effort:
    """Points, bytes of memory and minutes, in all and by stage."""

    points: float
    memory: dict[str, float]
    minutes: dict[str, float]

    @property
    def peak(self) -> float:
        """Largest memory of any stage, bytes."""
        return max(self.memory.values())

    @property
    def total(self) -> float:
        """Minutes in all."""
        return sum(self.minutes.values())

    @property
    def capture(self) -> float:
        """Minutes with the instrument in hand."""
        return self.minutes["capture"]


def estimate(pieces: Sequence[tuple[float, float]], model: InstrumentModel, mode: Mode) -> Effort:
    """The effort of scanning pieces of surface.

    Points are area * overlap / spacing^2; minutes are the path's length over the travel speed or the points over the
    rate, whichever is longer, and the time of meshing and evaluation.

    Parameters
    ----------
    pieces : sequence of (area in mm2, spacing in mm)
    """
    single = mode.pattern in ("touch", "photo")
    points = sum(area / spacing**2 * (1 if single else OVERLAP) for area, spacing in pieces)
    if mode.pattern == "volume" and model.cylinder is not None:
        seconds = 60 * model.cylinder.scan_minutes
    else:
        seconds = sum(_seconds(area, spacing, mode, single) for area, spacing in pieces)
    evaluated = sum(area / spacing**2 for area, spacing in pieces)
    memory = {stage: points * each for stage, each in BYTES.items() if stage in ("capture", "join")}
    memory |= {stage: evaluated * each for stage, each in BYTES.items() if stage in ("clean", "evaluate")}
    minutes = {
        "capture": seconds / 60,
        "mesh": points / MESHING_RATE / 60,
        "evaluate": evaluated / EVALUATION_RATE / 60,
    }
    return Effort(points, memory, minutes)


def _seconds(area: float, spacing: float, mode: Mode, single: bool) -> float:
    count = area / spacing**2
    if single:
        return count / mode.rate * HANDLING
    # A field as wide as the pattern travels over the surface; a fine spacing asks for a slower hand and more passes.
    width = 0.7 * mode.field[0]
    slowed = mode.speed * float(np.sqrt(min(spacing / mode.spacing[1], 1.0)))
    path = area * PASSES / width / slowed
    return float(max(path, count * OVERLAP / mode.rate) * HANDLING)
