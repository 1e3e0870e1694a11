"""The topics of Plan: what each computes and what it says. No Qt here."""

from __future__ import annotations

from dataclasses import dataclass, field, fields, replace
from enum import StrEnum
from typing import Any

import numpy as np

from juxtum.desk.derived import Derived
from juxtum.errors import JuxtumError
from juxtum.geometry import TriangleMesh
from juxtum.guide.next_actions import NextAction
from juxtum.instruments.models import InstrumentModel, Kind, shipped_instruments
from juxtum.instruments.owned import Owned
from juxtum.job import Job
from juxtum.job.planning import task_of
from juxtum.nominal import Nominal
from juxtum.plan.blind import BlindSpot, methods
from juxtum.plan.cost.spacing import SpacingAdvice, SpacingPrice, spacing_needs
from juxtum.plan.document import Plan
from juxtum.plan.equipping import equipment_for_ways
from juxtum.plan.equipping import ways as compare
from juxtum.plan.foretold import with_foretold
from juxtum.plan.grounds import Grounds
from juxtum.plan.photos.photos import PhotoPlan
from juxtum.plan.photos.worth import photo_words
from juxtum.plan.planner import EffortPlan, Planner, default_plan, tracked_coverage
from juxtum.plan.stations import StationPlan
from juxtum.plan.suitability import ChainChart, Fitness, SuitabilityTable, chain_chart
from juxtum.plan.targets.assess import Assessment
from juxtum.plan.targets.ground import Ground
from juxtum.plan.targets.ways import MINUTES_EACH, WayResult
from juxtum.plan.tray import TrayPlan
from juxtum.plan.turntable import TurntablePlan
from juxtum.progress import Progress
from juxtum.scene.drawables import Surface
from juxtum.scene.plan_layers import band_surfaces, bands_of, positions_of

MANY_TARGETS = 120
"""From so many targets on, another way is worth a look."""


class Topic(StrEnum):
    """What the station Plan is about at the moment."""

    FIT = "Suitability"
    TARGETS = "Targets"
    PHOTOS = "Bars and photos"
    STATIONS = "Stations"
    BLIND = "Blind spots"
    TURNTABLE = "Turntable"
    TRAY = "Tray"
    EFFORT = "Effort"


@dataclass(frozen=True, eq=False)
class FitAnswer:
    """Suitability, chart and prices."""

    table: SuitabilityTable
    chart: ChainChart
    needs: tuple[SpacingAdvice, ...]
    prices: tuple[SpacingPrice, ...]
    spacing: float


@dataclass(frozen=True, eq=False)
class TargetsAnswer:
    """Targets and what they do; the ways to go are filled in later, since they take longer."""

    ground: Ground
    assessment: Assessment
    coverage: float
    diameter: float
    bands: dict[str, Surface | None]
    """The part cut into bands by the targets in view, ready to be drawn."""


@dataclass(frozen=True, eq=False)
class StationsAnswer:
    """Tracker stations and the ground that they serve."""

    plan: StationPlan
    ground: Ground


@dataclass(frozen=True, eq=False)
class BlindAnswer:
    """What scanning will not give."""

    spots: tuple[BlindSpot, ...]
    ground: Ground


@dataclass(frozen=True, eq=False)
class EffortAnswer(EffortPlan):
    """The effort, and when which surface of the part is scanned."""

    bands: dict[str, Surface | None] = field(default_factory=dict)
    captions: tuple[tuple[str, str], ...] = ()
    """Of each band, with clock times."""


def plan_for(job: Job, nominal: Nominal) -> Plan:
    """The job's plan, or the one to begin with."""
    return job.plan or default_plan(nominal, task_of(job))


def planner_for(job: Job, nominal: Nominal, grounds: Grounds, owned: Owned) -> Planner:
    """The planner of a job in a shop that has what its register says."""
    return Planner(nominal, task_of(job), plan_for(job, nominal), grounds, owned)


def question(topic: Topic, planner: Planner) -> str:
    """What an answer depends on, as text; the same question has the same answer."""
    plan = planner.plan.model_copy(update={"expected": None})
    if topic not in (Topic.TARGETS, Topic.PHOTOS, Topic.EFFORT):
        plan = plan.model_copy(update={"targets": ()})
    known = (planner.owned, planner.grounds.foretold(planner.nominal, planner.task)) if topic is Topic.FIT else ""
    return f"{topic}|{id(planner.nominal)}|{planner.task}|{plan.model_dump_json()}|{known}"


def ways_question(planner: Planner) -> str:
    """What the comparison of the ways depends on: not on the targets that are placed, nor on the way that is gone."""
    items, _ = equipment_for_ways(planner)
    plan = planner.plan.model_copy(update={"equipment": items, "joined": "by targets"})
    return "ways" + question(Topic.BLIND, replace(planner, plan=plan))


def answer(topic: Topic, planner: Planner, progress: Progress) -> Any:
    """Compute a topic.

    Raises
    ------
    JuxtumError
        When it cannot be answered for this part and instrument.
    """
    if topic is Topic.FIT:
        return _fit(planner)
    if topic is Topic.TARGETS:
        assessment = planner.assess(progress)
        ground = planner.ground()
        names = bands_of(ground, assessment.tracking, assessment.covered)
        bands = band_surfaces(planner.nominal, ground.patches, names) if planner.plan.is_tracked else {}
        return TargetsAnswer(ground, assessment, tracked_coverage(ground, assessment), planner.rules().diameter, bands)
    if topic is Topic.PHOTOS:
        return planner.photos(progress=progress)
    if topic is Topic.STATIONS:
        return _stations(planner, progress)
    if topic is Topic.BLIND:
        return BlindAnswer(planner.blind(progress), planner.ground())
    if topic is Topic.TURNTABLE:
        return planner.turntable(progress=progress)
    return planner.tray() if topic is Topic.TRAY else _effort(planner, progress)


def _fit(planner: Planner) -> FitAnswer:
    own = planner.plan.instrument
    models = tuple(own if m.id == own.id else m for m in planner.owned.instruments_of(shipped_instruments()))
    models = models if own in models else (own, *models)
    table = planner.suitability(models)
    told = {made.needs: made for made in planner.grounds.foretold(planner.nominal, planner.task)}
    models = tuple(with_foretold(model, told) for model in models)
    return FitAnswer(
        table,
        chain_chart(table, models),
        spacing_needs(planner.nominal, planner.task),
        planner.prices(),
        planner.spacing(),
    )


def _stations(planner: Planner, progress: Progress) -> StationsAnswer:
    model = (
        planner.model
        if planner.model.tracker is not None
        else next(m for m in planner.owned.offered(shipped_instruments()) if m.kind is Kind.TRACKED)
    )
    made = planner.stations(model, progress)
    ground = planner.grounds.of(planner.nominal, planner.task, model, model.modes[0], planner.plan.stance, progress)
    return StationsAnswer(made, ground)


def _effort(planner: Planner, progress: Progress) -> EffortPlan:
    """With the surface of each position, where the scanner is led round the part and its targets are planned.

    Without targets nobody has looked at the part from all sides yet, and a few numbers need not wait for that.
    """
    made = planner.effort()
    scans = [entry for entry in made.schedule.entries if entry.what.startswith("scan")]
    if not scans or not planner.plan.is_tracked or planner.model.kind not in (Kind.HANDHELD, Kind.TRACKED):
        return made
    ground = planner.ground(progress)
    times = [f"from {entry.clock}" for entry in scans]
    captions = [("good", times[0]), ("three", times[-1]), ("enough", "both times")][: 1 if len(scans) == 1 else 3]
    known = {entry.name: getattr(made, entry.name) for entry in fields(EffortPlan)}
    names = positions_of(ground)
    return EffortAnswer(
        **known,
        bands=band_surfaces(
            planner.nominal, ground.patches, np.where(names == "blank", "blank", "good") if len(scans) == 1 else names
        ),
        captions=(*captions, ("blank", "not scanned")),
    )


def methods_of(made: Any, planner: Planner | None) -> dict[str, str]:
    """How each characteristic is to be measured, as Blind spots says; nothing where that is not answered."""
    if planner is None or not isinstance(made, BlindAnswer):
        return {}
    return {name: str(method) for name, method in methods(planner.task, made.spots).items()}


def ways(planner: Planner, progress: Progress) -> tuple[WayResult, ...]:
    """All ways to go with the part, each with the targets that it wants."""
    return compare(planner, progress)


def first_step(d: Derived) -> NextAction:
    """What to do while there is nothing to plan on."""
    if isinstance(d.scan, TriangleMesh):
        return NextAction(
            "plan on the scan",
            "there is no nominal yet; a first rough scan will do for the targets",
            "plan on scan",
            "Use the scan",
        )
    return NextAction(
        "bring the nominal", "a plan is made on the part as it is drawn", "bring nominal", "Choose a file"
    )


def next_step(topic: Topic, planner: Planner, made: object) -> NextAction:
    """The next sensible action of a topic with its reason."""
    if isinstance(made, JuxtumError):
        return NextAction("look at the next topic", made.sentence.rstrip("."), "next topic", "Next topic")
    if topic is Topic.TARGETS and not planner.plan.is_tracked:
        return NextAction(
            "plan the targets",
            "as few as hold every pose, clear of edges and of what is measured",
            "plan targets",
            "Plan them",
        )
    if isinstance(made, TargetsAnswer):
        return _next_target(made, planner)
    if isinstance(made, FitAnswer):
        return _next_fit(made, planner)
    if isinstance(made, BlindAnswer) and made.spots:
        worst = made.spots[0]
        faces = ", ".join(map(str, worst.faces[:4]))
        return NextAction(
            f"{worst.instead}: face {faces}", f"{worst.cause}: {worst.reason}", "next topic", "Next topic"
        )
    if topic is Topic.EFFORT and not planner.plan.is_tracked:
        return NextAction("plan the targets", "sticking them is not in the schedule yet", "go targets", "Go to Targets")
    if topic is Topic.EFFORT:
        return NextAction(
            "print the set-up sheet",
            "the plan is complete; the shop floor needs it on paper",
            "write setup sheet",
            "Write it\u2026",
        )
    if isinstance(made, PhotoPlan):
        reason = photo_words(made, planner.nominal, planner.model, planner.mode)
        return NextAction("see what a tracker would do", reason, "next topic", "Next topic")
    return NextAction(*_CALM[topic])


_CALM = {
    Topic.FIT: ("plan the targets", "the method is good enough", "go targets", "Go to Targets"),
    Topic.TARGETS: ("look at bars and photos", "the targets hold", "next topic", "Next topic"),
    Topic.PHOTOS: ("see what a tracker would do", "the network holds its lengths", "next topic", "Next topic"),
    Topic.STATIONS: ("see what scanning will not give", "the stations cover the part", "next topic", "Next topic"),
    Topic.BLIND: ("count the effort", "scanning gives everything that is asked", "go effort", "Go to Effort"),
    Topic.TURNTABLE: (
        "see the tray",
        "a head on a turntable is another way to scan small parts",
        "next topic",
        "Next topic",
    ),
    Topic.TRAY: ("count the effort", "a tray measures many equal parts at once", "next topic", "Next topic"),
    Topic.EFFORT: ("print the set-up sheet", "the plan is complete", "write setup sheet", "Write it\u2026"),
}


def _next_target(made: TargetsAnswer, planner: Planner) -> NextAction:
    a = made.assessment
    minutes = MINUTES_EACH * len(a.targets)
    if len(a.targets) > MANY_TARGETS and planner.model.kind is not Kind.TRACKED:
        reason = f"{len(a.targets)} targets take {minutes:.0f} min to stick; a tracked scanner needs a handful"
        return NextAction("see what a tracker would do", reason, "go stations", "Go to Stations")
    broken = [k + 1 for k, f in enumerate(a.facts) if f.problems]
    if broken:
        reason = a.facts[broken[0] - 1].problems[0]
        return NextAction(f"improve what is placed: target {broken[0]}", reason, "improve targets", "Improve the rest")
    if a.suggestion is not None and a.share < planner.plan.goal:
        words = "1 lost pose tracks" if a.gain == 1 else f"{a.gain} lost poses track"
        return NextAction(
            f"add target {len(a.targets) + 1} on face {a.suggestion.face}",
            f"with one more there {words}",
            "add suggested",
            "Add it",
        )
    if a.share < planner.plan.goal and planner.plan.joined == "by shape":
        reason = f"{_seen_words(a)}, {100 * planner.plan.goal:.0f} % are wanted, and nothing is stuck on the part"
        return NextAction("see which instrument suits", reason, "go suitability", "Go to Suitability")
    if a.share < planner.plan.goal:
        reason = f"{_seen_words(a)}, {100 * planner.plan.goal:.0f} % are wanted; allow a face that may carry targets, or go another way"
        return NextAction("allow a face", reason, "pick allowed", "Pick faces")
    return NextAction(
        "print the set-up sheet",
        f"{_seen_words(a)}; {sticking_words(len(a.targets))}",
        "write setup sheet",
        "Write it\u2026",
    )


def sticking_words(count: int) -> str:
    """How long sticking takes."""
    return f"{MINUTES_EACH * count:.0f} min to stick" if count else "nothing to stick"


def _seen_words(a: Assessment) -> str:
    return f"{100 * a.share:.1f} % of the area is seen while tracking"


def _next_fit(made: FitAnswer, planner: Planner) -> NextAction:
    own = made.table.of_chain(planner.model.name, planner.model.chain(planner.plan.chain).name)
    bad = [row for row in own if row.verdict is Fitness.NOT_SUITABLE]
    for row in bad:
        best = made.table.cheapest(row.aim.id)
        if best is not None and best.instrument == row.instrument and best.chain != row.chain:
            return NextAction(
                f"use '{best.chain}'",
                f"characteristic {row.aim.id} is not suitable without: {row.reason}",
                "use best chain",
                "Use it",
            )
    if bad:
        row = bad[0]
        best = made.table.cheapest(row.aim.id)
        other = f"{best.instrument}, {best.chain} is good" if best else "no method here is good for it"
        return NextAction(f"measure {row.aim.id} another way", f"{row.reason}; {other}", "go targets", "Go to Targets")
    return NextAction(
        "plan the targets", "the method is good enough for every characteristic", "go targets", "Go to Targets"
    )


Answer = (
    FitAnswer
    | TargetsAnswer
    | PhotoPlan
    | StationsAnswer
    | BlindAnswer
    | TurntablePlan
    | TrayPlan
    | EffortPlan
    | JuxtumError
)


def scanners(plan: Plan, owned: Owned) -> tuple[InstrumentModel, ...]:
    """The instruments that scan by hand or tracked, the shop's own first; the plan's own among them."""
    own, offered = plan.instrument, owned.offered(shipped_instruments())
    models = [own if m.id == own.id else m for m in offered if m.kind in (Kind.HANDHELD, Kind.TRACKED)]
    return tuple(models) if any(m.id == own.id for m in models) else (*models, own)


def best_chain(made: FitAnswer, planner: Planner) -> str:
    """The chain of the plan's instrument that is good for most characteristics."""

    def good(name: str) -> tuple[int, float]:
        rows = made.table.of_chain(planner.model.name, name)
        return sum(r.verdict is Fitness.GOOD for r in rows), -sum(r.cost for r in rows)

    return max((c.name for c in planner.model.chains), key=good)
