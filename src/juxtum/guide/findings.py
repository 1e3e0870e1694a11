"""What the route and the worksheets say about a job: findings, states, next actions. No Qt here."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

from juxtum.evaluate import Verdict
from juxtum.guide.facts import loose_pieces, short, thousands
from juxtum.guide.known import Known
from juxtum.guide.verdicts import counts, headline, worst_verdict
from juxtum.wording import percent


class Key(StrEnum):
    """The stations that work now, in the order of the work."""

    BRIEF = "brief"
    PLAN = "plan"
    READY = "ready"
    CAPTURE = "capture"
    ASSEMBLE = "assemble"
    ALIGN = "align"
    MEASURE = "measure"
    REPORT = "report"

    @property
    def caption(self) -> str:
        """As the route shows it."""
        return self.value.capitalize()


class State(StrEnum):
    """How far a station is."""

    OPEN = "open"
    DONE = "done"


@dataclass(frozen=True)
class Finding:
    """One computed line about a station, its state, and a verdict's mark where it has one."""

    text: str
    state: State
    verdict: Verdict | None = None


def finding(key: Key, d: Known) -> Finding:
    """What the route says under a station's name."""
    return {
        Key.BRIEF: _brief,
        Key.PLAN: _plan,
        Key.READY: _ready,
        Key.CAPTURE: _capture,
        Key.ASSEMBLE: _assemble,
        Key.ALIGN: _align,
        Key.MEASURE: _measure,
        Key.REPORT: _report,
    }[key](d)


def _brief(d: Known) -> Finding:
    if d.nominal is None:
        return Finding("no nominal yet", State.OPEN)
    number = len(d.job.procedure.characteristics)
    words = f"{number} characteristics" if number != 1 else "1 characteristic"
    return Finding(f"{len(d.nominal.faces)} faces, {words}", State.DONE if number else State.OPEN)


def _plan(d: Known) -> Finding:
    plan = d.job.plan
    if plan is None or not plan.is_tracked:
        return Finding("no targets planned", State.OPEN)
    if plan.expected is None:
        return Finding(plan.targets_words, State.OPEN)
    held = State.DONE if plan.expected.tracked >= plan.goal else State.OPEN
    return Finding(f"{plan.targets_words}, {percent(plan.expected.tracked, 0)} seen", held)


def _ready(d: Known) -> Finding:
    objection = d.job.readiness.objection
    if objection:
        return Finding(short(objection, 34), State.OPEN)
    ticked = len(d.job.prepared)
    if ticked == 0:
        return Finding("nothing prepared yet", State.OPEN)
    return Finding(
        f"{ticked} things prepared" if ticked > 1 else "1 thing prepared",
        State.DONE if d.job.tick("safe") is not None else State.OPEN,
    )


def _capture(d: Known) -> Finding:
    record = d.job.capture
    if record is None or not record.patches:
        return Finding("nothing captured yet", State.OPEN)
    goal = d.job.plan.expected.coverage if d.job.plan is not None and d.job.plan.expected is not None else 0.95
    words = (
        f"{len(record.patches)} patch{'' if len(record.patches) == 1 else 'es'}, {percent(record.coverage, 0)} covered"
    )
    return Finding(words, State.DONE if record.coverage >= goal - 0.1 else State.OPEN)


def _assemble(d: Known) -> Finding:
    if d.scan is None:
        return Finding("no scan yet", State.OPEN)
    if d.table is not None:
        return Finding("the table is still in the scan", State.OPEN)
    loose = loose_pieces(d)
    if loose:
        return Finding(f"{loose} loose fragment{'s' if loose != 1 else ''}", State.OPEN)
    return Finding(f"{thousands(len(d.scan.points))} points, clean", State.DONE)


def _align(d: Known) -> Finding:
    if d.evaluation is None:
        return Finding("not aligned yet", State.OPEN)
    a = d.evaluation.alignment
    if a.alternatives:
        return Finding("fits in more than one pose", State.OPEN)
    return Finding(f"{d.in_force}, RMS {a.rms:.3f}", State.DONE)


def _measure(d: Known) -> Finding:
    if d.evaluation is None:
        return Finding("nothing measured yet", State.OPEN)
    if not d.evaluation.verdicts:
        return Finding("no characteristics", State.OPEN)
    number, worst = counts(d.evaluation), worst_verdict(d.evaluation)
    if worst is Verdict.CONFORMS:
        return Finding(headline(d.evaluation), State.DONE, worst)
    parts = [f"{number[Verdict.DOES_NOT_CONFORM]} do not conform"] if number[Verdict.DOES_NOT_CONFORM] else []
    parts += [f"{number[Verdict.NOT_DECIDED]} open"] if number[Verdict.NOT_DECIDED] else []
    return Finding(", ".join(parts), State.DONE, worst)


def _report(d: Known) -> Finding:
    if d.evaluation is None:
        return Finding("nothing to report yet", State.OPEN)
    missing = [
        name for name, value in (("serial", d.job.brief.serial), ("operator", d.job.brief.operator)) if not value
    ]
    if missing:
        return Finding(f"no {' and no '.join(missing)} named", State.OPEN)
    return Finding("ready to be written", State.DONE)
