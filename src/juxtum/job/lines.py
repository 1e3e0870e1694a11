"""The families of what characteristics are measured from, of what each says, and of each drawn many times over."""

from __future__ import annotations

from juxtum.evaluate import LineResult
from juxtum.evaluate.characteristics import Judgement
from juxtum.evaluate.kinds import Given
from juxtum.evaluate.simulated import Simulated, simulate
from juxtum.evaluate.uncertainty import Chain
from juxtum.job.graph import Graph, Node, under_their_names
from juxtum.job.sources import deviation_map, doubts, given, handling, touched
from juxtum.job.steps.base import Outcomes, Source, alignment
from juxtum.progress import Progress


def given_node(graph: Graph, source: Source) -> Node:
    """The scan held against the nominal, and what a verdict rests on besides."""
    job, decide = graph.job, graph.job.procedure.decide
    found, told, touches = deviation_map(source.name), doubts(source.name), touched(source.name)
    behind = handling(job.procedure.alignment(source.name).scan)
    stated = (job.circumstances.objection, job.readiness.objection)

    def run(outcomes: Outcomes, progress: Progress) -> Given:
        objection = "; ".join(filter(None, (*stated, *outcomes.of(told).objections)))
        judgement = Judgement(
            outcomes.alignment(source.name),
            Chain.of(job.circumstances, outcomes.of(behind)),
            decide.rule,
            decide.guard,
            objection,
        )
        return Given(outcomes.of(found), judgement, outcomes.of(touches))

    parts = (job.circumstances, decide.rule, decide.guard, *stated)
    return Node(parts, under_their_names(found, alignment(source.name), told, behind, touches), run)


def line_node(graph: Graph, source: Source) -> Node:
    """A characteristic: kept by itself, so that another limit of one measures none of the others again."""
    characteristic, behind = graph.job.procedure.characteristics[int(source.part)], given(source.name)

    def run(outcomes: Outcomes, progress: Progress) -> LineResult:
        return characteristic.result(outcomes.of(behind))

    return Node((characteristic,), under_their_names(behind), run)


def simulated_node(graph: Graph, source: Source) -> Node:
    """The budget of a characteristic checked by simulation."""
    characteristic, behind = graph.job.procedure.characteristics[int(source.part)], given(source.name)

    def run(outcomes: Outcomes, progress: Progress) -> Simulated:
        return simulate(characteristic, outcomes.of(behind), progress=progress)

    return Node((characteristic,), under_their_names(behind), run)
