"""The ledger in one line."""

from __future__ import annotations

from juxtum.evaluate import Verdict
from juxtum.evaluate.quantity import Limits
from juxtum.job import Evaluation
from juxtum.wording import measured, tolerance


def counts(evaluation: Evaluation) -> dict[Verdict, int]:
    """How many of all that is asked have which verdict."""
    return {v: evaluation.verdicts.count(v) for v in Verdict}


def worst_verdict(evaluation: Evaluation) -> Verdict:
    """Of all that is asked; not decided where nothing is."""
    found = set(evaluation.verdicts)
    if Verdict.DOES_NOT_CONFORM in found:
        return Verdict.DOES_NOT_CONFORM
    return Verdict.CONFORMS if found == {Verdict.CONFORMS} else Verdict.NOT_DECIDED


def headline(evaluation: Evaluation) -> str:
    """The ledger in one line, with what of it was not seen."""
    number = counts(evaluation)
    total = len(evaluation.verdicts)
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


def limit_words(limits: Limits) -> str:
    """Limits as a drawing writes them: about their nominal where they have one.

    Examples
    --------
    >>> limit_words(Limits(71.95, 72.1, 72.0))
    '72 +0.1 / \u22120.05'
    """
    if not limits.nominal:
        return tolerance(limits.lower, limits.upper)
    lower, upper = (
        None if limit is None else round(limit - limits.nominal, 9) for limit in (limits.lower, limits.upper)
    )
    unit = "" if limits.unit == "mm" else limits.unit
    return f"{limits.nominal:g}{unit} {tolerance(lower, upper)}"


def value_words(limits: Limits, value: float, expanded: float) -> str:
    """A value to the last place of its uncertainty: with a sign where it can be on either side of nothing."""
    text = measured(value, expanded)
    if limits.nominal or limits.lower is None:
        text = text.removeprefix("+")
    return text if limits.unit == "mm" else f"{text}{limits.unit}"
