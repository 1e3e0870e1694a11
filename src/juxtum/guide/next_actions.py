"""The next sensible action at each station."""

from __future__ import annotations

from dataclasses import dataclass

from juxtum.align.result import AXES
from juxtum.evaluate import LineResult
from juxtum.guide.facts import loose_pieces
from juxtum.guide.findings import Key
from juxtum.guide.known import Known
from juxtum.guide.verdicts import headline, value_words
from juxtum.logbook.go_list import GoItem, is_go
from juxtum.wording import percent


@dataclass(frozen=True)
class NextAction:
    """The next sensible action: what, why, and the id of the action that does it."""

    text: str
    reason: str
    action: str
    button: str = "Do it"


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
        return _first_characteristic(d, "without a characteristic nothing can conform or not")
    if d.scan is None and not (d.job.plan and d.job.plan.is_tracked):
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


def _first_characteristic(d: Known, why: str) -> NextAction:
    """What the model asks for by itself, or the simplest of all."""
    stated = 0 if d.nominal is None else sum(line.kind != "datum" for line in d.nominal.lines)
    if stated:
        why = f"the model states {stated} for its faces, with their datums"
        return NextAction("take the model's tolerances", why, "take model tolerances", "Take them")
    return NextAction("add the profile of the whole part", why, "add whole profile", "Add it")


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
    if len(d.brought) > 1 and not d.job.procedure.alignments and (action := _next_joining(d)) is not None:
        return action
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


def _next_joining(d: Known) -> NextAction | None:
    """Several scans are cleaned, each by itself, then joined."""
    count = len(d.brought)
    if all(not d.job.procedure.cleaning_of(brought.name) for brought in d.brought):
        return NextAction(
            "clean every scan",
            f"the table and loose fragments of each of the {count} would be joined as well",
            "clean scans",
            "Clean them all",
        )
    if not d.job.procedure.joins:
        return NextAction(
            "join the scans", f"{count} scans are here, each in a place of its own", "join scans", "Join the scans"
        )
    return None


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
        "read the map", f"the alignment '{d.in_force}' leaves {_free_of(d)} free", "go measure", "Go to Measure"
    )


def _free_of(d: Known) -> str:
    """The motions that the alignment in force does not lock."""
    locked = d.evaluation.alignment.locked if d.evaluation is not None else {}
    return ", ".join(axis for axis in AXES if locked.get(axis, "free") in ("", "free")) or "nothing"


def _next_measure(d: Known) -> NextAction:
    if d.evaluation is None:
        return NextAction(
            "align the scan first",
            "deviations need scan and nominal in the same coordinates",
            "go align",
            "Go to Align",
        )
    if not d.evaluation.ledger:
        return _first_characteristic(d, "the map has no verdict yet")
    if d.job.circumstances.instrument is None:
        return NextAction(
            "say what it was scanned with",
            "without an instrument no value has an uncertainty and nothing is decided",
            "go brief",
            "Go to Brief",
        )
    worst = worst_result(d)
    if worst is not None and worst.place is not None and not _has_reading_near(d, worst):
        text = f"pin a reading at {value_words(worst.line.limits, worst.value, worst.expanded)}"
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


def next_for_ready(d: Known, items: tuple[GoItem, ...]) -> NextAction:
    """What to do next at Ready, by the go list as it stands."""
    if d.part is None:
        return NextAction(
            "bring the nominal", "what is to be made ready follows from it", "bring nominal", "Choose a file"
        )
    if d.job.plan is None or not d.job.plan.is_tracked:
        return NextAction("plan the targets", "the list follows from the plan", "plan targets", "Plan them")
    if items and is_go(items):
        return NextAction("capture", "everything on the list is done", "go capture", "Go to Capture")
    first = next((item for item in items if not item.is_done), None)
    if first is not None and first.title.endswith("calibrated"):
        return NextAction(f"calibrate the {first.title.split(' calibrated')[0]}", first.words, "calibrate", "Calibrate")
    if first is None:
        return NextAction("capture", "the logbook is being opened", "go capture", "Go to Capture")
    if not first.key:
        return NextAction("check on an artefact", first.words, "check artefact", "Check")
    return NextAction(first.title, first.words or "then it is off the list", "tick next", "It is done")
