"""The family of features: measured on the scan, or made of others that stand earlier."""

from __future__ import annotations

from juxtum.errors import InputError, JuxtumError
from juxtum.evaluate.features import TakenFeature, build_feature, take_feature
from juxtum.evaluate.uncertainty import Chain
from juxtum.job.graph import Graph, Node, under_their_names
from juxtum.job.sources import deviation_map, feature, handling
from juxtum.job.steps import ConstructStep
from juxtum.job.steps.base import Outcomes, Source, alignment, surface
from juxtum.progress import Progress


def feature_node(graph: Graph, source: Source) -> Node:
    """A feature; one that cannot be had says why, and the rest goes on."""
    job, name, number = graph.job, source.name, int(source.part)
    step, circumstances = job.procedure.features[number], job.circumstances
    laid = job.procedure.alignment(name).scan
    found, scan = deviation_map(name), surface(laid)
    # The last of those of a name counts, and only what stands earlier: nothing can hang on itself.
    earlier = {other.label: k for k, other in enumerate(job.procedure.features[:number])}
    parts = [feature(name, earlier[label]) for label in step.parts if label in earlier]
    lost = [label for label in step.parts if label not in earlier]

    def run(outcomes: Outcomes, progress: Progress) -> TakenFeature:
        progress.phase(f"measuring {step.label}")
        given = outcomes.alignment(name), Chain.of(circumstances, outcomes.of(handling(laid)))
        try:
            others = _all_there([outcomes.of(part) for part in parts], lost, step.label)
            if isinstance(step, ConstructStep):
                made = build_feature(outcomes.of(found), given, step.recipe, others)
            else:
                made = take_feature(outcomes.of(found), outcomes.scan(laid), given, step.question, step.hold(others))
        except JuxtumError as problem:
            return TakenFeature(step.label, None, problem.sentence)
        return TakenFeature(step.label, made)

    reads = (found, scan, alignment(name), handling(laid), *parts)
    return Node((step, circumstances), under_their_names(*reads), run)


def _all_there(others: list[TakenFeature], lost: list[str], label: str) -> list[TakenFeature]:
    """The features that another one hangs on.

    Raises
    ------
    InputError
        When one of them is not there, or was not measured.
    """
    if lost:
        raise InputError(f"there is no feature '{lost[0]}' before it", label, "Name one that stands earlier")
    for other in others:
        if other.measured is None:
            raise InputError(f"{other.label} was not measured", label, "See why, and measure it first")
    return others
