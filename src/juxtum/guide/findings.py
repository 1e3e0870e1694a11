"""What the route and the worksheets say about a job: findings, states, next actions. No Qt here."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

from juxtum.evaluate import LineResult, Verdict
from juxtum.evaluate.foreign import ForeignPatch, PassedPatch
from juxtum.geometry import TriangleMesh
from juxtum.geometry.arrays import Floats
from juxtum.guide.known import Known
from juxtum.guide.verdicts import counts, headline
from juxtum.wording import percent, signed


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


@dataclass(frozen=True)
class NextAction:
    """The next sensible action: what, why, and the id of the action that does it."""

    text: str
    reason: str
    action: str
    button: str = "Do it"


def loose_pieces(d: Known) -> int:
    """Pieces of the scan besides the largest."""
    return 0 if d.pieces is None else len(d.pieces.areas) - 1


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
    if plan is None or not plan.targets:
        return Finding("no targets planned", State.OPEN)
    if plan.expected is None:
        return Finding(f"{len(plan.targets)} targets", State.OPEN)
    held = State.DONE if plan.expected.tracked >= plan.goal else State.OPEN
    return Finding(f"{len(plan.targets)} targets, {percent(plan.expected.tracked, 0)} tracked", held)


def _ready(d: Known) -> Finding:
    objection = d.job.readiness.objection
    if objection:
        return Finding(short(objection, 34), State.OPEN)
    ticked = len(d.job.prepared)
    if ticked == 0:
        return Finding("nothing prepared yet", State.OPEN)
    return Finding(
        f"{ticked} things prepared" if ticked > 1 else "1 thing prepared",
        State.DONE if "safe" in d.job.prepared else State.OPEN,
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
        return Finding(f"{loose} loose fragments", State.OPEN)
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
    if not d.evaluation.ledger:
        return Finding("no characteristics", State.OPEN)
    number = counts(d.evaluation)
    worst = (
        Verdict.DOES_NOT_CONFORM if number[Verdict.DOES_NOT_CONFORM]
        else Verdict.NOT_DECIDED if number[Verdict.NOT_DECIDED] else Verdict.CONFORMS
    )  # fmt: skip
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


def next_action(key: Key, d: Known) -> NextAction:
    """The next sensible action at a station."""
    return {
        Key.BRIEF: _next_brief,
        Key.PLAN: _next_plan,
        Key.READY: _next_ready,
        Key.CAPTURE: _next_capture,
        Key.ASSEMBLE: _next_assemble,
        Key.ALIGN: _next_align,
        Key.MEASURE: _next_measure,
        Key.REPORT: _next_report,
    }[key](d)


def _next_brief(d: Known) -> NextAction:
    if d.nominal is None:
        return NextAction(
            "bring the nominal",
            "everything is measured against it; CAD keeps its exact faces",
            "bring nominal",
            "Choose a file",
        )
    if not d.job.procedure.characteristics:
        return NextAction(
            "add the profile of the whole part",
            "without a characteristic nothing can conform or not",
            "add whole profile",
            "Add it",
        )
    if d.scan is None and not (d.job.plan and d.job.plan.targets):
        return NextAction(
            "plan the measurement",
            "nominal and characteristics are here, and nothing is scanned yet",
            "go plan",
            "Go to Plan",
        )
    if d.scan is None:
        return NextAction(
            "bring the scan", "the nominal, the characteristics and a plan are here", "bring scan", "Choose a file"
        )
    return NextAction(
        "look at the scan", "nominal, scan and characteristics are all here", "go assemble", "Go to Assemble"
    )


def _next_plan(d: Known) -> NextAction:
    del d
    return NextAction("plan the targets", "as few as hold every pose", "plan targets", "Plan them")


def _next_ready(d: Known) -> NextAction:
    del d
    return NextAction("go through the list", "what the plan asks for before the capture", "go capture", "Go to Capture")


def _next_capture(d: Known) -> NextAction:
    del d
    return NextAction("connect the scanner", "a stand-in ships with Juxtum", "connect device", "Connect")


def _next_assemble(d: Known) -> NextAction:
    if d.scan is None:
        return NextAction("bring the scan", "there is nothing to clean yet", "bring scan", "Choose a file")
    if d.table is not None:
        return NextAction(
            "trim off the table",
            "a flat region larger than the part lies under it and would be taken for the part",
            "trim table",
            "Trim it off",
        )
    if loose_pieces(d):
        number = loose_pieces(d)
        share = 1 - float(d.pieces.areas[0] / d.pieces.areas.sum()) if d.pieces is not None else 0
        words = f"{number} pieces hang in the air" if number > 1 else "1 piece hangs in the air"
        return NextAction(
            "remove loose fragments", f"{words}, {percent(share)} of the area", "drop pieces", "Remove loose fragments"
        )
    if d.nominal is None:
        return NextAction(
            "bring the nominal",
            "the scan is clean; it needs something to be held against",
            "bring nominal",
            "Choose a file",
        )
    return NextAction(
        "put it into part coordinates", "the table and the loose fragments are gone", "go align", "Go to Align"
    )


def _next_align(d: Known) -> NextAction:
    if d.nominal is None or d.scan is None:
        what = "nominal" if d.nominal is None else "scan"
        return NextAction(f"bring the {what}", "an alignment needs both sides", f"bring {what}", "Choose a file")
    kinds = {step.kind for step in d.job.procedure.alignments}
    if not kinds:
        return NextAction(
            "align automatically",
            "the pose is found from the shape, then fitted to all of it",
            "align automatically",
            "Align",
        )
    if d.evaluation is not None and d.evaluation.alignment.alternatives:
        number = len(d.evaluation.alignment.alternatives)
        words = f"{number} other pose{'s' if number > 1 else ''} fit as well; look at the stage, take the next one or pick pairs"
        return NextAction("see whether it lies right", words, "next pose", "Take the next pose")
    if "datums" not in kinds:
        return NextAction(
            "lock it to the drawing's datums",
            "a best fit spreads errors over the part; the drawing counts from its datums",
            "pick datums",
            "Pick datums",
        )
    return NextAction(
        "read the map", f"the alignment '{d.in_force}' leaves nothing free", "go measure", "Go to Measure"
    )


def _next_measure(d: Known) -> NextAction:
    if d.evaluation is None:
        return NextAction(
            "align the scan first",
            "deviations need scan and nominal in the same coordinates",
            "go align",
            "Go to Align",
        )
    if not d.evaluation.ledger:
        return NextAction(
            "add the profile of the whole part", "the map has no verdict yet", "add whole profile", "Add it"
        )
    if d.job.circumstances.instrument is None:
        return NextAction(
            "say what it was scanned with",
            "without an instrument no value has an uncertainty and nothing is decided",
            "go brief",
            "Go to Brief",
        )
    worst = worst_result(d)
    if worst is not None and worst.place is not None and not _has_reading_near(d, worst):
        text = f"pin a reading at {signed(worst.value)}"
        reason = f"the largest excess of {worst.line.title.lower()} lies there"
        return NextAction(text, reason, "pin worst", "Pin it")
    return NextAction("hand it over", f"{headline(d.evaluation)}; the readings are pinned", "go report", "Go to Report")


def worst_result(d: Known) -> LineResult | None:
    """The characteristic farthest beyond its limit for its width."""
    if d.evaluation is None:
        return None
    measured = [c for c in d.evaluation.ledger if c.points]
    return max(measured, key=lambda c: c.excess, default=None)


def _has_reading_near(d: Known, worst: LineResult) -> bool:
    assert d.evaluation is not None and worst.place is not None
    return any(float(((r.place - worst.place) ** 2).sum()) < 9.0 for r in d.evaluation.readings)


def _next_report(d: Known) -> NextAction:
    if d.evaluation is None:
        return NextAction("align and measure first", "there is nothing to hand over yet", "go align", "Go to Align")
    return NextAction(
        "write the report", "PDF, tables and the coloured scan go into one folder", "write report", "Write it"
    )


def alignment_facts(d: Known) -> list[tuple[str, str]]:
    """Numbers of the alignment in force."""
    if d.evaluation is None:
        return []
    a = d.evaluation.alignment
    share = float(d.evaluation.deviation.found.mean())
    return [
        ("method", a.method),
        ("RMS", f"{a.rms:.4f} mm"),
        ("points used", thousands(a.used)),
        ("scan near nominal", percent(share)),
    ]


def scan_facts(d: Known) -> list[tuple[str, str]]:
    """Numbers of the scan as it is now."""
    if d.scan is None:
        return []
    facts = [("points", thousands(len(d.scan.points))), ("spacing", f"{d.scan.spacing:.2f} mm")]
    if isinstance(d.scan, TriangleMesh):
        facts += [
            ("triangles", thousands(len(d.scan.triangles))),
            ("area", f"{thousands(round(d.scan.area))} mm\u00b2"),
        ]
    if d.pieces is not None:
        facts.append(("fragments", thousands(len(d.pieces.areas))))
    return facts


def map_facts(d: Known) -> list[tuple[str, str]]:
    """Statistics of the map."""
    if d.evaluation is None:
        return []
    s = d.evaluation.statistics
    return [
        ("mean", signed(s.mean, 4)), ("standard deviation", f"{s.sd:.4f}"), ("RMS", f"{s.rms:.4f}"),
        ("smallest, largest", f"{signed(s.min)}  {signed(s.max)}"),
        ("95 % of area between", f"{signed(s.percentiles['2.5'])}  {signed(s.percentiles['97.5'])}"),
        ("within the map's limits", percent(s.within_tolerance)), ("area seen", percent(s.area_seen)),
        ("outliers, left out", thousands(s.outliers)),
    ]  # fmt: skip


MOST_NUMBERED = 6
"""So many doubtful places are named on the worksheet and pinned on the stage; the report has them all."""


def doubtful_places(d: Known) -> list[Floats]:
    """Where surface is that is not drawn, or is missing, largest first."""
    if d.evaluation is None:
        return []
    deviation = d.evaluation.deviation
    patches: list[ForeignPatch | PassedPatch] = [*deviation.foreign, *deviation.passed]
    patches.sort(key=lambda p: -p.area)
    return [p.place for p in patches[:MOST_NUMBERED]]


def numbered_warnings(d: Known) -> list[str]:
    """Notes, then the doubtful places with the numbers of their pins."""
    if d.evaluation is None:
        return []
    places = d.evaluation.deviation.doubts_about(())
    words = [_sentence(note) for note in d.evaluation.doubts.notes]
    words += [f"{number}  {_sentence(text)}" for number, text in enumerate(places[:MOST_NUMBERED], 1)]
    return words + (
        [f"{len(places) - MOST_NUMBERED} smaller places are in the report."] if len(places) > MOST_NUMBERED else []
    )


def _sentence(text: str) -> str:
    return text[:1].upper() + text[1:] + "."


def short(text: str, longest: int = 28) -> str:
    """A text cut in its middle to a length."""
    half = (longest - 1) // 2
    return text if len(text) <= longest else f"{text[:half]}\u2026{text[-half:]}"


def thousands(number: int) -> str:
    """A count with thin spaces.

    Examples
    --------
    >>> thousands(1234567)
    '1\u202f234\u202f567'
    """
    return f"{number:,}".replace(",", "\u202f")
