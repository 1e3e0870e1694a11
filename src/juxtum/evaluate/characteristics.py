"""Characteristics of the drawing and their verdicts: profile of a surface, each side of the zone on its own."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

import numpy as np
import numpy.typing as npt

from juxtum.align import Alignment
from juxtum.associate.gauss import effective_count
from juxtum.evaluate.decision import DecisionRule, Verdict, decide
from juxtum.evaluate.deviation import Deviation
from juxtum.evaluate.statistics import chosen_rows
from juxtum.evaluate.uncertainty import COVERAGE, Budget, Chain, measured_length
from juxtum.geometry.arrays import Floats, frozen

PATCH = 2.0
"""Deviations are averaged over patches of this size before the extreme is taken, mm."""
LEAST_SEEN = 0.5
"""A characteristic of which less than this share of area was seen is not decided."""


class Side(StrEnum):
    """Which limit of a profile zone."""

    UPPER = "upper"
    LOWER = "lower"


@dataclass(frozen=True)
class Characteristic:
    """One line of the drawing.

    Parameters
    ----------
    id : str
    title : str
    side : Side
    limit : float
        mm.
    faces : tuple of int
        Numbers of the nominal faces; the whole part when empty.
    """

    id: str
    title: str
    side: Side
    limit: float
    faces: tuple[int, ...] = ()

    @property
    def kind(self) -> str:
        """Profile of a surface, upper or lower side."""
        return f"profile {self.side}"

    @property
    def lower(self) -> float | None:
        """Lower limit, mm."""
        return self.limit if self.side is Side.LOWER else None

    @property
    def upper(self) -> float | None:
        """Upper limit, mm."""
        return self.limit if self.side is Side.UPPER else None


@dataclass(frozen=True, eq=False)
class CharacteristicResult:
    """A characteristic with its value, uncertainty and verdict.

    Parameters
    ----------
    value : float
        Extreme deviation on its side, mm; NaN when nothing was seen.
    place : array (3,), optional
        Where the extreme lies.
    area_seen : float
        0 to 1.
    """

    characteristic: Characteristic
    value: float
    budget: Budget
    place: Floats | None
    points: int
    area_seen: float
    verdict: Verdict
    probability: float
    reason: str

    @property
    def expanded(self) -> float:
        """Expanded uncertainty, mm."""
        return self.budget.expanded

    @property
    def k(self) -> float:
        """Coverage factor."""
        return COVERAGE


@dataclass(frozen=True)
class Judgement:
    """What a verdict rests on besides the data."""

    alignment: Alignment
    chain: Chain
    rule: DecisionRule
    guard: float = 1.0
    objection: str = ""
    """Why the instrument may not be trusted; no verdict is given then."""


@dataclass(frozen=True, eq=False)
class _Patches:
    means: Floats
    deviations: Floats
    """Standard uncertainty of each mean, mm."""
    rows: npt.NDArray[np.int64]
    """A point in each patch."""
    counts: npt.NDArray[np.int64]


def profile(deviation: Deviation, characteristic: Characteristic, judgement: Judgement) -> CharacteristicResult:
    """Extreme deviation of a surface on one side of the zone.

    Single points carry noise, so deviations are first averaged over patches of 2 mm; points beside sharp edges,
    which scanners round, do not count unless the face has nothing else.
    """
    rows = chosen_rows(deviation, characteristic.faces)
    clear = rows[deviation.clear[rows]]
    used = clear if len(clear) >= 10 else rows
    seen = deviation.area_seen_of(characteristic.faces)
    if len(used) == 0:
        reason = "the scan does not show it"
        empty = Budget(())
        return CharacteristicResult(characteristic, float("nan"), empty, None, 0, seen, Verdict.NOT_DECIDED, float("nan"), reason)
    patches = _patches(deviation, used, judgement.chain)
    means = patches.means
    best = int(np.argmax(means) if characteristic.side is Side.UPPER else np.argmin(means))
    row = int(patches.rows[best])
    spot, normal = deviation.feet[row], deviation.normals[row]
    spread = float(judgement.alignment.point_uncertainty(spot[None], normal[None])[0])
    length = measured_length(judgement.alignment, spot, deviation.nominal.mesh.bounds)
    budget = judgement.chain.budget(length, float(patches.deviations[best]), spread, int(patches.counts[best]), int(deviation.faces[row]) + 1)
    value = float(means[best])
    expanded = budget.expanded if budget.is_known else 0.0
    decision = decide(value, expanded, characteristic.lower, characteristic.upper, judgement.rule, judgement.guard)
    verdict, reason = decision.verdict, decision.reason
    doubts = deviation.doubts_about(characteristic.faces)
    if verdict is Verdict.CONFORMS and doubts:
        more = f"; {len(doubts) - 1} more such place{'s' if len(doubts) > 2 else ''}" if len(doubts) > 1 else ""
        verdict, reason = Verdict.NOT_DECIDED, doubts[0] + more
    if verdict is Verdict.CONFORMS and seen < LEAST_SEEN:
        verdict, reason = Verdict.NOT_DECIDED, f"only {100 * seen:.0f} % of it was seen"
    if judgement.objection:
        verdict, reason = Verdict.NOT_DECIDED, judgement.objection
    probability = decision.probability if budget.is_known else float("nan")
    return CharacteristicResult(characteristic, value, budget, frozen(spot), len(used), seen, verdict, probability, reason)


def _patches(deviation: Deviation, rows: npt.NDArray[np.int64], chain: Chain) -> _Patches:
    """Means over cubes of side `PATCH` on each face; thin patches are left out while there are full ones."""
    size = max(PATCH, 2.5 * deviation.spacing)
    cells = np.floor(deviation.feet[rows] / size).astype(np.int64)
    cells -= cells.min(0)
    span = cells.max(0) + 1
    keys = ((deviation.faces[rows] * span[0] + cells[:, 0]) * span[1] + cells[:, 1]) * span[2] + cells[:, 2]
    _, first, inverse, counts = np.unique(keys, return_index=True, return_inverse=True, return_counts=True)
    d, w = deviation.distances[rows], np.maximum(deviation.weights[rows], 1e-12)
    d = d - chain.thickness_on(deviation.faces[rows])
    total = np.bincount(inverse, w)
    means = np.bincount(inverse, w * d) / total
    variance = np.bincount(inverse, w * (d - means[inverse]) ** 2) / total
    independent = np.array([effective_count(int(n), size**2) for n in counts])
    spread = np.sqrt(variance * counts / np.maximum(counts - 1, 1) / independent)
    expected = size**2 / max(deviation.spacing**2, 1e-9)
    full = counts >= min(max(0.4 * expected, 3), counts.max())
    return _Patches(means[full], spread[full], rows[first][full], counts[full])
