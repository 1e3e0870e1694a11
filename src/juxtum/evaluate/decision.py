"""From a value and its uncertainty to a verdict (ISO 14253-1, JCGM 106)."""

from __future__ import annotations

import math
from dataclasses import dataclass
from enum import StrEnum


class DecisionRule(StrEnum):
    """How close to a limit a value may be taken to conform."""

    SIMPLE = "simple"
    GUARDED = "guarded"


class Verdict(StrEnum):
    """What is said of a characteristic."""

    CONFORMS = "conforms"
    DOES_NOT_CONFORM = "does not conform"
    NOT_DECIDED = "not decided"


@dataclass(frozen=True)
class Decision:
    """A verdict, the probability that the true value conforms (0 to 1), and the reason in words."""

    verdict: Verdict
    probability: float
    reason: str


def probability_conforming(value: float, standard: float, lower: float | None, upper: float | None) -> float:
    """Probability that a normal variable lies within the limits.

    Examples
    --------
    >>> probability_conforming(0.2, 0.01, None, 0.2)
    0.5
    """
    if standard <= 0:
        return float((lower is None or value >= lower) and (upper is None or value <= upper))
    above = 1.0 if upper is None else _normal((upper - value) / standard)
    below = 0.0 if lower is None else _normal((lower - value) / standard)
    return max(0.0, above - below)


def _normal(z: float) -> float:
    return 0.5 * math.erfc(-z / math.sqrt(2))


def decide(
    value: float,
    expanded: float,
    lower: float | None,
    upper: float | None,
    rule: DecisionRule,
    guard: float = 1.0,
) -> Decision:
    """Hold a value against its limits.

    Simple acceptance asks only on which side of the limits the value lies. Guarded acceptance asks for `guard` times
    the expanded uncertainty to spare before it says that something conforms, and for as much excess before it says
    that it does not.
    """
    probability = probability_conforming(value, expanded / 2, lower, upper)
    room = min(
        math.inf if upper is None else upper - value,
        math.inf if lower is None else value - lower,
    )
    limit = _limit_text(value, lower, upper)
    if rule is DecisionRule.SIMPLE:
        if room >= 0:
            return Decision(Verdict.CONFORMS, probability, f"{room:.3f} mm inside {limit}")
        return Decision(Verdict.DOES_NOT_CONFORM, probability, f"{-room:.3f} mm beyond {limit}")
    band = guard * expanded
    if room >= band:
        return Decision(
            Verdict.CONFORMS, probability, f"{room:.3f} mm inside {limit}, more than the guard band {band:.3f}"
        )
    if room < -band:
        return Decision(
            Verdict.DOES_NOT_CONFORM,
            probability,
            f"{-room:.3f} mm beyond {limit}, more than the guard band {band:.3f}",
        )
    side = "inside" if room >= 0 else "beyond"
    reason = f"{abs(room):.3f} mm {side} {limit}, less than the guard band {band:.3f}"
    return Decision(Verdict.NOT_DECIDED, probability, reason)


def _limit_text(value: float, lower: float | None, upper: float | None) -> str:
    if upper is None or (lower is not None and abs(value - lower) < abs(value - upper)):
        return f"the lower limit {lower:+.3f}" if lower is not None else "the limits"
    return f"the upper limit {upper:+.3f}"
