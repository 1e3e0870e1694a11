"""Profile of a surface: the extreme deviations on both sides of its zone."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from juxtum.align import Alignment
from juxtum.evaluate.decision import DecisionRule, Verdict, decide
from juxtum.evaluate.deviation import Deviation, edge_margin
from juxtum.evaluate.quantity import LOWER, UPPER, Limits, Line, LineResult, Measured, SideMeasured, judged
from juxtum.evaluate.statistics import chosen_rows
from juxtum.evaluate.tiles import Rows, Tiles, choice_of_the_largest, make_tiles, tile_size
from juxtum.evaluate.uncertainty import Budget, Chain, Sampling, measured_length
from juxtum.geometry.arrays import Bools, Floats, frozen

PROFILE = "profile of a surface"
NOT_SHOWN = "the scan does not show it"
LEAST_CLEAR = 0.05
"""A face with a smaller share of its points clear of edges is too narrow to keep clear of them."""


@dataclass(frozen=True)
class Judgement:
    """What a verdict rests on besides the data."""

    alignment: Alignment
    chain: Chain
    rule: DecisionRule
    guard: float = 1.0
    objection: str = ""
    """Why the instrument may not be trusted; no verdict is given then."""


def meaning_of_profile(deviation: Deviation) -> str:
    """What the value of a profile means, in words."""
    margin = edge_margin(deviation.spacing)
    return (
        f"extreme of the means over tiles of {tile_size(deviation.spacing):.2g} mm, {margin:.2g} mm and more from sharp edges; "
        "what noise adds by the choice of the extreme is taken off"
    )


def profile(deviation: Deviation, line: Line, judgement: Judgement) -> LineResult:
    """Extreme deviations of a surface on both sides of its zone; the worse side is the line's value.

    Single points carry noise, so deviations are averaged over tiles first; points beside sharp edges, which scanners
    round, do not count unless the face is too narrow for anything else.
    """
    rows = counting_rows(deviation, line.faces)
    seen = deviation.area_seen_of(line.faces)
    if len(rows) == 0:
        sides = tuple(_unseen(side) for side in (UPPER, LOWER))
        return judged(line, Measured(sides, 0, seen), judgement.objection, ())
    distances = deviation.distances[rows] - judgement.chain.thickness_on(deviation.faces[rows])
    tiles = make_tiles(deviation, rows, distances)
    sides = tuple(_side(deviation, tiles, side, line.limits, judgement) for side in (UPPER, LOWER))
    measured = Measured(sides, len(rows), seen, meaning_of_profile(deviation))
    return judged(line, measured, judgement.objection, (*deviation.doubts_about(line.faces), *_unsure(line, judgement.alignment)))


def _unsure(line: Line, alignment: Alignment) -> tuple[str, ...]:
    """Faces cannot be told from each other while the scan may lie in another pose."""
    if not line.faces or not alignment.alternatives:
        return ()
    return (f"not sure which way the scan lies: {len(alignment.alternatives) + 1} poses fit, and each has other surface on these faces",)


def _unseen(side: str) -> SideMeasured:
    nothing = float("nan")
    return SideMeasured(side, nothing, Budget(()), None, Verdict.NOT_DECIDED, nothing, NOT_SHOWN)


def counting_rows(deviation: Deviation, faces: tuple[int, ...]) -> Rows:
    """Rows that count: clear of edges, or, on faces too narrow for that, in the middle third between them."""
    rows = chosen_rows(deviation, faces)
    rows = rows[~deviation.strays[rows]]
    if len(rows) == 0:
        return rows
    clear = deviation.clear[rows]
    owner = deviation.faces[rows]
    all_of, clear_of = np.bincount(owner), np.bincount(owner, clear)
    narrow = (clear_of < LEAST_CLEAR * all_of)[owner] & deviation.inner[rows]
    return np.asarray(rows[clear | (narrow & _in_the_middle(deviation, rows, narrow))])


def _in_the_middle(deviation: Deviation, rows: Rows, narrow: Bools) -> Bools:
    away = np.zeros(len(rows))
    if narrow.any():
        away[narrow] = deviation.nominal.edge_distances(deviation.feet[rows[narrow]], edge_margin(deviation.spacing))
    owner = deviation.faces[rows]
    most = np.zeros(int(owner.max()) + 1)
    np.maximum.at(most, owner, away)
    return np.asarray(away >= 0.65 * most[owner])


def _side(deviation: Deviation, tiles: Tiles, side: str, limits: Limits, judgement: Judgement) -> SideMeasured:
    """The extreme on one side, corrected for having been chosen, and its verdict over all tiles."""
    sign = 1.0 if side == UPPER else -1.0
    limit = limits.upper if side == UPPER else limits.lower
    correction = choice_of_the_largest(tiles, sign)
    heights = sign * tiles.means
    best = _deciding(heights, tiles.noise, sign * limit if limit is not None else np.inf, correction.bias)
    row = int(tiles.rows[best])
    spot, normal = deviation.feet[row], deviation.normals[row]
    spread = float(judgement.alignment.point_uncertainty(spot[None], normal[None])[0])
    length = measured_length(judgement.alignment, spot, deviation.nominal.mesh.bounds)
    standard = max(correction.standard, float(tiles.noise[best]))
    sampling = Sampling(standard, int(tiles.counts[best]), tiles.freedom)
    budget = judgement.chain.budget(length, sampling, spread, int(deviation.faces[row]) + 1)
    value = float(sign * (heights[best] - correction.bias))
    expanded = budget.expanded if budget.is_known else 0.0
    lower, upper = (None, limit) if side == UPPER else (limit, None)
    decision = decide(value, expanded, lower, upper, judgement.rule, judgement.guard)
    probability = decision.probability if budget.is_known else float("nan")
    return SideMeasured(side, value, budget, frozen(spot), decision.verdict, probability, decision.reason)


def _deciding(heights: Floats, noise: Floats, limit: float, bias: float) -> int:
    """The highest tile; where it is too uncertain to be beyond the limit, the one that is most surely beyond it."""
    highest = int(np.argmax(heights))
    sure = heights - bias - 2 * noise - limit
    surest = int(np.argmax(sure))
    return surest if sure[surest] > 0 and sure[highest] <= 0 else highest
