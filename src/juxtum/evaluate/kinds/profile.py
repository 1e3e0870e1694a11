"""Profile of a surface (ISO 1101): the extreme deviations on both sides of its zone."""

from __future__ import annotations

from typing import ClassVar, Literal

import numpy as np
from pydantic import Field, model_validator

from juxtum.evaluate.characteristics import Judgement, counting_rows, extreme_of, meaning_of_extreme
from juxtum.evaluate.decision import decide
from juxtum.evaluate.deviation import Deviation
from juxtum.evaluate.fields import Finite
from juxtum.evaluate.given import Given
from juxtum.evaluate.kinds.base import Characteristic, Strokes, nothing_seen
from juxtum.evaluate.quantity import LOWER, UPPER, Aim, Limits, Measured, SideMeasured
from juxtum.evaluate.tiles import Tiles, make_tiles
from juxtum.evaluate.uncertainty import Sampling, measured_length
from juxtum.geometry.arrays import frozen

_ARC = tuple((0.5 - 0.5 * float(np.cos(t)), 0.75 - 0.5 * float(np.sin(t))) for t in np.linspace(0, np.pi, 25))


class Profile(Characteristic):
    """Profile of a surface of the whole part or of some faces, with its own limits on each side, mm.

    Single points carry noise, so deviations are averaged over tiles first; points beside sharp edges, which scanners
    round, do not count unless the face is too narrow for anything else. The worse side is the line's value.
    """

    tag: ClassVar[str] = "profile"
    name: ClassVar[str] = "profile of a surface"
    short: ClassVar[str] = "Profile"
    symbol: ClassVar[Strokes] = ((*_ARC, _ARC[0]),)
    method: ClassVar[str] = (
        "Every point of the surface lies between two offsets of the nominal (ISO 1101). Deviations are averaged over tiles of 2 mm (less on parts "
        "under 40 mm), clear of sharp edges, roundings and the ends of the scan; the value is the extreme of these means on the worse side."
    )

    kind: Literal["profile"] = "profile"
    lower: Finite = Field(-0.2, title="Lower limit")
    upper: Finite = Field(0.2, title="Upper limit")

    @model_validator(mode="after")
    def _ordered(self) -> Profile:
        if self.lower >= self.upper:
            raise ValueError("the lower limit must lie below the upper limit")
        return self

    @property
    def limits(self) -> Limits:
        """Both offsets."""
        return Limits(self.lower, self.upper)

    @property
    def zone(self) -> tuple[float, float]:
        """The same as the limits: its value is a deviation."""
        return self.lower, self.upper

    @property
    def aim(self) -> Aim:
        """The width of its zone, measured from the datums."""
        return Aim(self.id, self.title, self.upper - self.lower, self.faces)

    def measure(self, given: Given) -> Measured:
        """Extreme deviations on both sides."""
        deviation, judgement = given.deviation, given.judgement
        rows = counting_rows(deviation, self.faces)
        seen = deviation.area_seen_of(self.faces)
        if len(rows) == 0:
            return nothing_seen((UPPER, LOWER), seen)
        tiles = make_tiles(
            deviation, rows, deviation.distances[rows] - judgement.chain.thickness_on(deviation.faces[rows])
        )
        sides = tuple(_side(deviation, tiles, side, self.limits, judgement) for side in (UPPER, LOWER))
        return Measured(sides, len(rows), seen, meaning_of_extreme(deviation))


def _side(deviation: Deviation, tiles: Tiles, side: str, limits: Limits, judgement: Judgement) -> SideMeasured:
    """The extreme on one side, corrected for having been chosen, and its verdict over all tiles."""
    sign = 1.0 if side == UPPER else -1.0
    limit = limits.upper if side == UPPER else limits.lower
    found = extreme_of(tiles, sign, limit)
    row = int(tiles.rows[found.tile])
    spot, normal = deviation.feet[row], deviation.normals[row]
    spread = float(judgement.alignment.point_uncertainty(spot[None], normal[None])[0])
    length = measured_length(judgement.alignment, spot, deviation.nominal.mesh.bounds)
    sampling = Sampling(found.standard, int(tiles.counts[found.tile]), tiles.freedom)
    budget = judgement.chain.budget(length, sampling, spread, int(deviation.faces[row]) + 1)
    lower, upper = (None, limit) if side == UPPER else (limit, None)
    decision = decide(found.value, budget.usable, lower, upper, judgement.rule, judgement.guard)
    probability = decision.probability if budget.is_known else float("nan")
    return SideMeasured(side, found.value, budget, frozen(spot), decision.verdict, probability, decision.reason)
