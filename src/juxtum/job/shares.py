"""Which tolerance counts on which face, and the map as shares of it."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from juxtum.evaluate import Deviation
from juxtum.geometry.arrays import frozen
from juxtum.job.document import Job


def limits_of(job: Job, face: int) -> tuple[float, float] | None:
    """The tightest zone of those characteristics that name the face, or else of those of the whole part."""
    zones = [(c.faces, c.zone) for c in job.procedure.characteristics if c.zone is not None and not c.lost]
    naming = [zone for faces, zone in zones if face in faces] or [zone for faces, zone in zones if not faces]
    return min(naming, key=lambda both: both[1] - both[0], default=None)


@dataclass(frozen=True, eq=False)
class ShownMap:
    """The map as it is shown.

    Parameters
    ----------
    deviation : Deviation
        Its distances are mm, or shares of a tolerance: 1 on the upper limit, -1 on the lower one, NaN where there is none.
    lower, upper : float
        Limits of the map in that unit.
    colours : str
        How it is coloured.
    unit : str
        For its legend.
    """

    deviation: Deviation
    lower: float
    upper: float
    colours: str
    unit: str = "mm"
    every: float | None = None
    """Lines of the same value at each multiple of this."""


def shown_map(job: Job, deviation: Deviation) -> ShownMap:
    """The map as the job asks for it."""
    measure = job.procedure.measure
    if measure.shown == "mm":
        return ShownMap(deviation, measure.lower, measure.upper, measure.colours, every=measure.lines)
    return ShownMap(as_shares(job, deviation), -1.0, 1.0, measure.colours, "share", measure.lines)


def as_shares(job: Job, deviation: Deviation) -> Deviation:
    """A map whose distances are shares of the tolerance of the face on which each lies."""
    count = len(deviation.nominal.faces)
    zones = [limits_of(job, number + 1) or (np.nan, np.nan) for number in range(count)]
    lower, upper = np.array(zones, dtype=float).reshape(-1, 2).T
    faces = np.maximum(deviation.faces, 0)
    middle, half = (lower + upper) / 2, np.maximum((upper - lower) / 2, 1e-9)
    values = np.where(deviation.faces >= 0, (deviation.distances - middle[faces]) / half[faces], np.nan)
    return replace(
        deviation, distances=frozen(values), faces=frozen(np.where(np.isfinite(values), deviation.faces, -1), np.int64)
    )
