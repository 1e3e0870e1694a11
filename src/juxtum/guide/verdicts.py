"""The ledger in one line."""

from __future__ import annotations

from juxtum.evaluate import Verdict
from juxtum.job import Evaluation


def counts(evaluation: Evaluation) -> dict[Verdict, int]:
    """How many characteristics have which verdict."""
    return {v: sum(c.verdict is v for c in evaluation.ledger) for v in Verdict}


def headline(evaluation: Evaluation) -> str:
    """The ledger in one line, with what of it was not seen."""
    number = counts(evaluation)
    total = len(evaluation.ledger)
    if total == 0:
        return "no characteristics yet"
    if number[Verdict.CONFORMS] == total:
        return "all conform" if total > 1 else "conforms"
    parts = []
    if number[Verdict.DOES_NOT_CONFORM]:
        word = "do" if number[Verdict.DOES_NOT_CONFORM] > 1 or total > 1 else "does"
        parts.append(
            f"{number[Verdict.DOES_NOT_CONFORM]} of {total} {word} not conform" if total > 1 else "does not conform"
        )
    if number[Verdict.NOT_DECIDED]:
        parts.append(f"{number[Verdict.NOT_DECIDED]} not decided" if total > 1 else "not decided")
    unseen = [c.line.id for c in evaluation.ledger if c.area_seen < c.line.least_seen]
    if unseen:
        parts.append(f"too little seen of {', '.join(unseen[:6])}{' and more' if len(unseen) > 6 else ''}")
    return ", ".join(parts)
