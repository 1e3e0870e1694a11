"""What the tables and fact lists of Plan say. No widgets here."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from juxtum.desk.planning.topics import Answer, BlindAnswer, FitAnswer, StationsAnswer, TargetsAnswer, sticking_words
from juxtum.guide.facts import short, thousands
from juxtum.plan.blind import methods
from juxtum.plan.photos.photos import PhotoPlan
from juxtum.plan.photos.walk import LEAST_ANGLE, LEAST_RAYS, check_walk, incidences, target_table
from juxtum.plan.planner import EffortPlan, Planner
from juxtum.plan.suitability import Fitness, Suitability
from juxtum.plan.targets.covering import ALLOWANCE
from juxtum.plan.tray import TrayPlan
from juxtum.plan.turntable import TurntablePlan
from juxtum.wording import percent, uncertainty


@dataclass(frozen=True)
class Cell:
    """A text, whether it is a number, and the token of its colour."""

    text: str
    is_number: bool = False
    token: str = "ink"  # noqa: S105
    tip: str = ""


Table = tuple[Sequence[str], Sequence[Sequence[Cell]], int]
TOKENS = {Fitness.GOOD: "conforms", Fitness.USABLE: "undecided", Fitness.NOT_SUITABLE: "not_conforming"}
MARKS = {Fitness.GOOD: "\u25cf", Fitness.USABLE: "\u25c6", Fitness.NOT_SUITABLE: "\u25a0"}


def table_of(made: Answer, planner: Planner) -> Table | None:
    """Titles, rows and the column that takes what room there is; None when a topic has no table."""
    if isinstance(made, FitAnswer):
        return _fit(made, planner)
    if isinstance(made, TargetsAnswer):
        return _targets(made) if made.assessment.targets or made.ground.gear is None else None
    if isinstance(made, PhotoPlan):
        return _photos(made)
    if isinstance(made, StationsAnswer):
        return _stations(made)
    if isinstance(made, BlindAnswer):
        return _blind(made, planner)
    return _schedule(made) if isinstance(made, EffortPlan) else None


def _text(text: str, token: str = "ink", tip: str = "") -> Cell:  # noqa: S107
    return Cell(text, token=token, tip=tip)


def _number(text: str) -> Cell:
    return Cell(text, is_number=True)


def _fit(made: FitAnswer, planner: Planner) -> Table:
    chain = planner.model.chain(planner.plan.chain).name
    rows = []
    for row in made.table.of_chain(planner.model.name, chain):
        best = made.table.cheapest(row.aim.id)
        other = (
            "this one"
            if best is not None and best.key == row.key
            else f"{best.instrument}, {best.chain}"
            if best
            else "none here"
        )
        rows.append(
            (
                _number(row.aim.id), _text(row.aim.title, tip=row.reason), _number(f"{row.length:.0f}"), _number(uncertainty(row.expanded)),
                _number(f"{row.ratio:.1f}"), Cell(f"{MARKS[row.verdict]} {row.verdict}", token=TOKENS[row.verdict], tip=row.reason),
                _text(other, "ink_soft"),
            )
        )  # fmt: skip
    return ("No.", "Characteristic", "Length", "U", "Ratio", "Verdict", "Cheapest that is good"), rows, 6


def every_chain(row: Suitability) -> tuple[str, str]:
    """An instrument's chain and how it does, short."""
    model = row.instrument.split()[-1]
    value = (
        f"{uncertainty(row.expanded)} {MARKS[row.verdict]}"
        if row.verdict is not Fitness.NOT_SUITABLE or row.ratio < 3
        else f"cannot {MARKS[row.verdict]}"
    )
    return f"{model}, {row.chain}", value


def _targets(made: TargetsAnswer) -> Table:
    rows = []
    for k, (target, facts) in enumerate(zip(made.assessment.targets, made.assessment.facts, strict=True)):
        nearest = f"{facts.nearest:.1f}" if math.isfinite(facts.nearest) else "\u2013"
        lost = "nothing" if facts.cost < 0.0005 else f"{100 * facts.cost:.1f} % of the area"
        kept = ", ".join(
            word for word, said in (("must not be lost", facts.cost > ALLOWANCE), ("locked", target.is_locked)) if said
        )
        state = "; ".join(facts.problems) or kept
        rows.append(
            (
                _number(str(k + 1)), _text(f"face {target.face}"), _number(f"{target.edge:.1f}"), _number(nearest),
                _number(str(facts.seen_by)), _text(lost), _text(state, "not_conforming" if facts.problems else "ink_soft"),
            )
        )  # fmt: skip
    return ("No.", "Sits on", "From edge", "To nearest", "Seen from poses", "If it falls off", "Remark"), rows, 6


def rays_table(made: PhotoPlan) -> Table:
    """Every target of a network by its rays and its largest angle."""
    kinds = ("code on the part", "target on the part", "end of a bar")
    first_bar = len(made.points) - 2 * len(made.bars)
    rows = []
    for t in target_table(made.points, made.views.eyes, made.seen):
        kind = kinds[0] if t.number <= made.codes else kinds[2] if t.number > first_bar else kinds[1]
        words = "enough" if t.is_enough else f"{LEAST_RAYS} rays and {LEAST_ANGLE:.0f}\u00b0 are wanted"
        token = "ink_soft" if t.is_enough else "not_conforming"
        rows.append(
            (
                _number(str(t.number)),
                _text(kind),
                _number(str(t.rays)),
                _number(f"{t.angle:.0f}\u00b0"),
                _text(words, token),
            )
        )
    return ("Target", "What", "Rays", "Largest angle", "Remark"), rows, 4


def _photos(made: PhotoPlan) -> Table:
    verdicts = check_walk(made.camera, made.seen, made.codes, incidences(made.points, made.normals, made.views.eyes))
    rows = [
        (
            _number(str(k + 1)), _text("rolled" if made.rolled[k] else "upright"), _number(str(v.targets)), _number(str(v.codes)),
            _number(str(v.shared)), _number(f"{v.angle:.0f}\u00b0"), _text(v.words, "ink_soft" if v.is_enough else "not_conforming"),
        )
        for k, v in enumerate(verdicts)
    ]  # fmt: skip
    return ("Photo", "Camera", "Targets", "Codes", "Shared", "Angle", "Verdict"), rows, 6


def _stations(made: StationsAnswer) -> Table:
    rows = [
        (
            _number(str(k + 1)),
            *(_number(f"{v:.0f}") for v in s.place),
            _number(str(s.poses)),
            _text(_ties(made, k + 1), "ink_soft"),
        )
        for k, s in enumerate(made.plan.stations)
    ]
    return ("Station", "X", "Y", "Z", "Poses", "Reference targets"), rows, 5


def _ties(made: StationsAnswer, number: int) -> str:
    words = [f"{n} shared with station {b if a == number else a}" for a, b, n in made.plan.ties if number in (a, b)]
    return ", ".join(words) or "none needed"


def _blind(made: BlindAnswer, planner: Planner) -> Table:
    how = methods(planner.task, made.spots)
    rows = [
        (
            _text(str(s.cause)), _text(short(", ".join(map(str, s.faces)), 24)), _text(", ".join(s.aims) or "\u2013"), _text(s.reason, "ink_soft"),
            _text(s.instead), _text(str(s.method)),
        )
        for s in made.spots
    ]  # fmt: skip
    if not rows:
        rows = [
            (
                _text("nothing"),
                _text(""),
                _text(", ".join(how)),
                _text("scanning gives all of it", "ink_soft"),
                _text(""),
                _text("scan"),
            )
        ]
    return ("What", "Faces", "For", "Why", "Instead", "Method"), rows, 3


def _schedule(made: EffortPlan) -> Table:
    rows = [(_number(e.clock), _number(f"{e.minutes:.0f} min"), _text(e.what)) for e in made.schedule.entries]
    end = made.schedule
    rows.append((_number(_clock(end.end)), _number(f"{end.total:.0f} min"), _text("done", "ink_soft")))
    return ("At", "Takes", "Work"), rows, 2


def _clock(minutes: float) -> str:
    from juxtum.plan.cost.schedule import clock

    return clock(minutes)


def facts_of(made: Answer, planner: Planner) -> list[tuple[str, str]]:
    """Names and numbers for the worksheet."""
    if isinstance(made, TargetsAnswer):
        a = made.assessment
        return [
            ("targets", f"{len(a.targets)}, {sticking_words(len(a.targets))}" if a.targets else sticking_words(0)),
            ("seen well while tracking", percent(a.share)), ("seen at all", percent(made.coverage)), ("disc", f"{made.diameter:g} mm"),
            ("must not be lost", ", ".join(map(str, a.indispensable)) or "none"), ("break a rule", str(a.broken)),
        ]  # fmt: skip
    if isinstance(made, PhotoPlan):
        table = target_table(made.points, made.views.eyes, made.seen)
        weak = sum(not t.is_enough for t in table)
        return [
            ("photos", f"{len(made.views)}, {int(made.rolled.sum())} rolled"), ("codes on the part", str(made.codes)), ("bars", str(len(made.bars))),
            ("targets with too few rays", str(weak)), ("U of any length", f"{made.a:.3f} + {made.b:.3f} L/m"),
            ("redundancy", thousands(made.prediction.redundancy)), ("walk", f"{made.minutes:.0f} min"),
        ]  # fmt: skip
    if isinstance(made, StationsAnswer):
        p = made.plan
        return [
            ("stations", f"{len(p.stations)}" + (", proven fewest" if p.is_proven else "")), ("poses served", percent(p.share)),
            ("reference targets", str(len(p.references))), ("range", f"{p.nearest / 1000:.1f} to {p.farthest / 1000:.1f} m"),
            ("error at mean range", f"{p.usual_error:.3f} mm"), ("error at farthest range", f"{p.worst_error:.3f} mm"),
            *([] if p.turns is None or len(p.stations) < 2 else [("or the part turned before one", f"{len(p.turns.degrees) - 1} times")]),
        ]  # fmt: skip
    if isinstance(made, BlindAnswer):
        how = methods(planner.task, made.spots)
        return [(f"characteristic {name}", str(method)) for name, method in how.items()]
    if isinstance(made, TurntablePlan):
        return [
            ("steps of a turn", str(made.steps)), ("positions of the part", str(len(made.tilts))), ("shots", str(made.shots)),
            ("surface seen", percent(made.coverage)), ("could be seen at most", percent(made.reachable)),
            ("least overlap", percent(made.overlap, 0)), ("minutes", f"{made.minutes:.0f}"),
        ]  # fmt: skip
    if isinstance(made, TrayPlan):
        return [
            ("parts in the tray", str(made.count)), ("tilt", f"{made.tilt:g}\u00b0"), ("gap", f"{made.gap:g} mm"),
            ("minutes a part", f"{made.minutes_each:.1f}"), ("one by one", f"{made.minutes_single:.0f} min each"),
            *([] if made.fineness is None else [
                ("voxel", f"{made.fineness.voxel:.2f} mm over \u00d8{made.fineness.diameter:.0f}"), ("U of a length", f"{made.fineness.expanded:.3f} mm"),
            ]),
            ("in the beam", f"{made.path:.0f} mm, {made.steel:.0f} mm of steel" if np.isfinite(made.steel) else "not known"),
        ]  # fmt: skip
    return _effort(made) if isinstance(made, EffortPlan) else []


def laid(tilt: tuple[float, float]) -> str:
    """How the part is laid down, in words."""
    if tilt == (0.0, 0.0):
        return "upright"
    axis, angle = ("X", tilt[0]) if tilt[0] else ("Y", tilt[1])
    return f"{angle:+.0f}\u00b0 about {axis}".replace("-", "\u2212")


def _effort(made: EffortPlan) -> list[tuple[str, str]]:
    e = made.effort
    facts = [("points", f"{e.points / 1e6:.1f} M")]
    facts += [(f"minutes to {stage}", f"{minutes:.1f}") for stage, minutes in e.minutes.items()]
    if made.pace is not None:
        facts += [(f"your pace, last {made.pace.captures} captures", made.pace.words)]
    facts += [(f"memory to {stage}", f"{v / 1e9:.2f} GB") for stage, v in e.memory.items()]
    return [
        *facts,
        ("memory here", f"{made.memory / 1e9:.0f} GB"),
        ("finest spacing that fits", f"{made.finest:.2f} mm"),
    ]
