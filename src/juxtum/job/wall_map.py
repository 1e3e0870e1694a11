"""The family of wall maps."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from juxtum.errors import JuxtumError
from juxtum.evaluate.characteristics import Judgement
from juxtum.evaluate.decision import Verdict
from juxtum.evaluate.quantity import LineResult
from juxtum.evaluate.uncertainty import Chain
from juxtum.evaluate.walls import WallLimits, WallMap, measure_walls
from juxtum.job.graph import Graph, Node, under_their_names
from juxtum.job.sources import deviation_map, doubts, handling
from juxtum.job.steps import WallsStep
from juxtum.job.steps.base import Outcomes, Source, alignment, surface
from juxtum.progress import Progress


@dataclass(frozen=True, eq=False)
class TakenWalls:
    """The walls of a part, or why they were not measured."""

    found: WallMap | None
    problem: str = ""
    is_limited: bool = False
    """Whether anything is asked of them."""

    @property
    def verdict(self) -> Verdict | None:
        """What is said of them; None where nothing is asked, not decided where they could not be measured."""
        if not self.is_limited:
            return None
        decision = None if self.found is None else self.found.decision
        return Verdict.NOT_DECIDED if decision is None else decision.verdict


def verdicts_of(ledger: Sequence[LineResult], walls: TakenWalls | None) -> tuple[Verdict, ...]:
    """Of every line, and of the walls where anything is asked of them."""
    asked = None if walls is None else walls.verdict
    return (*(line.verdict for line in ledger), *(() if asked is None else (asked,)))


def walls_node(graph: Graph, source: Source) -> Node:
    """How thick the walls are; nothing where that is not asked, and a reason where it cannot be had."""
    job, name = graph.job, source.name
    asked = job.procedure.of(WallsStep)
    if not asked:
        return Node((), {}, lambda _, __: None)
    step, decide, laid = asked[-1], job.procedure.decide, job.procedure.alignment(name).scan
    is_limited = step.limits != WallLimits()
    stated = (job.circumstances.objection, job.readiness.objection)

    def run(outcomes: Outcomes, progress: Progress) -> TakenWalls:
        progress.phase("measuring the walls")
        chain = Chain.of(job.circumstances, outcomes.of(handling(laid)))
        objection = "; ".join(filter(None, (*stated, *outcomes.of(doubts(name)).objections)))
        judgement = Judgement(outcomes.alignment(name), chain, decide.rule, decide.guard, objection)
        try:
            found = measure_walls(
                outcomes.of(deviation_map(name)), outcomes.scan(laid), step.way, step.limits, judgement
            )
        except JuxtumError as problem:
            return TakenWalls(None, problem.sentence, is_limited)
        return TakenWalls(found, "", is_limited)

    parts = (step, job.circumstances, decide.rule, decide.guard, *stated)
    reads = (deviation_map(name), surface(laid), alignment(name), handling(laid), doubts(name))
    return Node(parts, under_their_names(*reads), run)
