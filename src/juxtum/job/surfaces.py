"""The families of outcomes that lead to a clean surface: scans joined or told apart, cleaned, worked on."""

from __future__ import annotations

import math

from juxtum.assemble.assembling import Tied
from juxtum.assemble.separating import Separated
from juxtum.errors import JobError
from juxtum.evaluate.uncertainty import Handling
from juxtum.job.graph import Graph, Node, under_their_names
from juxtum.job.inputs import LoadedScan
from juxtum.job.sources import joining, loaded, parts, tied, worked, working
from juxtum.job.steps import FinishingModel, Join, Separate, Smooth, Thin
from juxtum.job.steps.base import NOMINAL, Outcomes, Source, surface
from juxtum.progress import Progress
from juxtum.units import Unit


def join_named(graph: Graph, name: str) -> Join | None:
    return next((step for step in graph.job.procedure.joins if step.name == name), None)


def joined_node(step: Join) -> Node:
    """The surface of scans that are tied; those that are not are told."""
    made = tied(step.name)

    def run(outcomes: Outcomes, progress: Progress) -> LoadedScan:
        found: Tied = outcomes.of(made)
        return LoadedScan(step.surface(found, progress), Unit.MILLIMETRE, found.notes)

    return Node((step.spacing,), under_their_names(made), run)


def joining_node(graph: Graph, source: Source) -> Node:
    """Standard uncertainty of where a place lies by the joining of scans, mm; 0 for a scan that is joined of none."""
    name = _undivided(graph, source.name)
    if join_named(graph, name) is None:
        return Node((), {}, lambda _, __: 0.0)
    made = tied(name)
    return Node((), under_their_names(made), lambda outcomes, _: float(outcomes.of(made).spread), shelf="number")


def working_node(graph: Graph, source: Source) -> Node:
    """Standard uncertainty of where a surface lies by what smoothed or thinned it, also before scans were joined; mm."""
    name, steps = _undivided(graph, source.name), graph.job.procedure.cleaning_of(source.name)
    made = [worked(source.name, k) for k, step in enumerate(steps, 1) if isinstance(step, Smooth | Thin)]
    join = join_named(graph, name)
    behind = [working(used) for used in ((name,) if name != source.name else join.used if join is not None else ())]
    if not made and not behind:
        return Node((), {}, lambda _, __: 0.0)

    def run(outcomes: Outcomes, progress: Progress) -> float:
        own = [float(outcomes.of(read).shift) for read in made]
        before = [float(outcomes.of(read)) for read in behind]
        return math.hypot(*own, max(before, default=0.0))

    return Node((), under_their_names(*made, *behind), run, shelf="number")


def handling_node(graph: Graph, source: Source) -> Node:
    """What joining and work on the surface add together."""
    reads = (joining(source.name), working(source.name))
    return Node((), under_their_names(*reads), lambda outcomes, _: Handling(*(outcomes.of(read) for read in reads)))


def _undivided(graph: Graph, name: str) -> str:
    """The scan that a part was told apart in; otherwise the scan itself."""
    apart = graph.job.procedure.separation
    return apart.scan if apart is not None and name in apart.names else name


def parts_node(graph: Graph, source: Source) -> Node:
    step = graph.job.procedure.separation
    if step is None or step.scan != source.name:
        raise JobError(f"nothing tells the parts in '{source.name}' apart", graph.job.title, "Separate it in Assemble")
    return Node((step.parts,), under_their_names(*step.reads()), step.run)


def part_node(step: Separate, number: int) -> Node:
    """One of the parts in a scan, counted from 0."""
    made = parts(step.scan)

    def run(outcomes: Outcomes, progress: Progress) -> LoadedScan:
        found: Separated = outcomes.of(made)
        mine = (note for note in found.notes if note.startswith(f"part {number + 1} "))
        return LoadedScan(found.parts[number], Unit.MILLIMETRE, tuple(mine))

    return Node((number,), under_their_names(made), run)


def tied_node(graph: Graph, source: Source) -> Node:
    step = join_named(graph, source.name)
    if step is None:
        raise JobError(f"nothing joins '{source.name}'", graph.job.title, "Join scans in Assemble")
    missing = [name for name in step.used if name not in {held.name for held in graph.job.scans}]
    if missing:
        raise JobError(f"'{step.name}' is joined of '{missing[0]}', which the job does not have", graph.job.title,
                       "Bring that scan, or join those that there are")  # fmt: skip
    return Node((step.tying,), under_their_names(*step.reads()), step.run)


def surface_node(graph: Graph, source: Source) -> Node:
    """A scan after so many of its cleaning steps; after all of them when no number is named."""
    steps = graph.job.procedure.cleaning_of(source.name)
    count = int(source.part) if source.part else len(steps)
    if count == 0:
        brought = loaded(source.name)
        return Node((), under_their_names(brought), lambda outcomes, _: outcomes.of(brought).scan, consumes=(brought,))
    step, before = steps[count - 1], Source(source.family, source.name, str(count - 1))
    if isinstance(step, FinishingModel):
        made = worked(source.name, count)
        return Node((), under_their_names(made), lambda outcomes, _: outcomes.of(made).mesh)
    more = [read for read in step.may_read() if read != NOMINAL or graph.job.nominal is not None]
    return Node((step,), {surface(source.name): before, **under_their_names(*more)}, step.run, consumes=(before,))


def worked_node(graph: Graph, source: Source) -> Node:
    """Work on a surface, counted among the cleaning steps from 1."""
    step = graph.job.procedure.cleaning_of(source.name)[int(source.part) - 1]
    assert isinstance(step, FinishingModel)
    before = Source("surface", source.name, str(int(source.part) - 1))
    return Node((step,), {surface(source.name): before}, step.worked, consumes=(before,))


def told_node(graph: Graph, source: Source) -> Node:
    """What all work on a surface has to tell; kept on disk, so that nothing is done twice for it."""
    steps = graph.job.procedure.cleaning_of(source.name)
    made = [worked(source.name, k) for k, step in enumerate(steps, 1) if isinstance(step, FinishingModel)]

    def run(outcomes: Outcomes, progress: Progress) -> tuple[str, ...]:
        return tuple(note for read in made for note in outcomes.of(read).notes)

    return Node((), under_their_names(*made), run, shelf="sentences")
