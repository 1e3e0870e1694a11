"""What kinds of characteristics share: which points count, the extreme over tiles, and what a verdict rests on."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from juxtum.align import Alignment
from juxtum.evaluate.choice import choice_of_the_largest
from juxtum.evaluate.decision import DecisionRule
from juxtum.evaluate.deviation import Deviation
from juxtum.evaluate.statistics import chosen_rows
from juxtum.evaluate.tiles import Rows, Tiles
from juxtum.evaluate.uncertainty import Chain
from juxtum.geometry.arrays import Floats
from juxtum.nominal.clearance import edge_margin, or_in_the_middle


@dataclass(frozen=True)
class Judgement:
    """What a verdict rests on besides the data."""

    alignment: Alignment
    chain: Chain
    rule: DecisionRule
    guard: float = 1.0
    objection: str = ""
    """Why the instrument may not be trusted; no verdict is given then."""


def meaning_of_extreme(deviation: Deviation) -> str:
    """What an extreme over tiles means, in words."""
    margin = edge_margin(deviation.spacing, deviation.nominal.diagonal)
    return (
        f"extreme of the means over tiles of {deviation.tile:.2g} mm, {margin:.2g} mm and more from sharp edges and tight roundings, "
        "a spacing and more from where the scan ends; "
        "what noise adds by the choice of the extreme is taken off"
    )


def counting_rows(deviation: Deviation, faces: tuple[int, ...]) -> Rows:
    """Rows that count: clear of edges, or, on faces too narrow for that, in the middle third between them."""
    rows = chosen_rows(deviation, faces)
    rows = rows[~deviation.strays[rows]]
    if len(rows) == 0:
        return rows
    feet, margin = deviation.feet[rows], edge_margin(deviation.spacing, deviation.nominal.diagonal)
    counts = or_in_the_middle(deviation.nominal, deviation.clear[rows], feet, deviation.faces[rows], margin)
    return np.asarray(rows[counts & deviation.inner[rows]])


@dataclass(frozen=True)
class Extreme:
    """The extreme of the means over tiles on one side, corrected for having been chosen.

    Parameters
    ----------
    value, standard : float
        With its standard uncertainty by noise and choice, mm.
    tile : int
        Where it is.
    unsure : float
        The share of that uncertainty by which the choice is not known; the same way on both sides of a width.
    """

    value: float
    standard: float
    tile: int
    unsure: float = 0.0

    def across(self, other: Extreme) -> float:
        """Standard uncertainty of the width between two extremes, which scatter each for itself, mm."""
        own = [max(one.standard**2 - one.unsure**2, 0.0) for one in (self, other)]
        return float(np.sqrt(sum(own) + (self.unsure + other.unsure) ** 2))


def extreme_of(tiles: Tiles, sign: float, limit: float | None) -> Extreme:
    """The largest mean (sign 1) or the smallest (sign -1); near a limit, the tile that decides."""
    correction = choice_of_the_largest(tiles, sign)
    heights = sign * tiles.means
    best = _deciding(heights, tiles.noise, sign * limit if limit is not None else np.inf, correction.bias)
    return Extreme(
        float(sign * (heights[best] - correction.bias)),
        max(correction.standard, float(tiles.noise[best])),
        best,
        correction.unsure,
    )


def _deciding(heights: Floats, noise: Floats, limit: float, bias: float) -> int:
    """The highest tile; where it is too uncertain to be beyond the limit, the one that is most surely beyond it."""
    highest = int(np.argmax(heights))
    sure = heights - bias - 2 * noise - limit
    surest = int(np.argmax(sure))
    return surest if sure[surest] > 0 and sure[highest] <= 0 else highest
