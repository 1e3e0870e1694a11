"""The families of outcomes: inputs, clean surfaces, alignments, maps, and what is said of them."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import partial

import numpy as np

from juxtum.align import Alignment
from juxtum.errors import JobError
from juxtum.evaluate import (
    Deviation,
    DeviationStatistics,
    LineResult,
    Reading,
    SearchRule,
    Verdict,
    measure_deviation,
    statistics,
    take_reading,
)
from juxtum.evaluate.features import TakenFeature
from juxtum.evaluate.sections import Section, SectionRule, take_section
from juxtum.evaluate.simulated import Simulated
from juxtum.evaluate.statistics import within
from juxtum.evaluate.stuck import find_stuck
from juxtum.evaluate.uncertainty import Chain
from juxtum.job.document import Job
from juxtum.job.doubts import Doubts, doubts_about_inputs, doubts_about_scan
from juxtum.job.files import FileStore
from juxtum.job.graph import Family, Graph, Node, under_their_names
from juxtum.job.inputs import LoadedScan, load_nominal, load_scan
from juxtum.job.lines import given_node, line_node, simulated_node
from juxtum.job.shapes import feature_node
from juxtum.job.shares import limits_of
from juxtum.job.sources import (
    deviation_map,
    doubts,
    facts,
    feature,
    handling,
    line,
    loaded,
    numbers,
    reading,
    section,
    told,
    touched,
    walls,
)
from juxtum.job.steps.base import NOMINAL, Coat, Outcomes, Source, alignment, surface
from juxtum.job.surfaces import (
    handling_node,
    join_named,
    joined_node,
    joining_node,
    part_node,
    parts_node,
    surface_node,
    tied_node,
    told_node,
    worked_node,
    working_node,
)
from juxtum.job.touches import touched_node
from juxtum.job.wall_map import TakenWalls, verdicts_of, walls_node
from juxtum.progress import Progress


@dataclass(frozen=True, eq=False)
class Evaluation:
    """All that a job says in one of its alignments."""

    name: str
    """Of the alignment."""
    alignment: Alignment
    deviation: Deviation
    statistics: DeviationStatistics
    readings: tuple[Reading, ...]
    ledger: tuple[LineResult, ...]
    doubts: Doubts
    sections: tuple[Section, ...] = ()
    features: tuple[TakenFeature, ...] = ()
    walls: TakenWalls | None = None
    simulated: tuple[Simulated, ...] = ()
    """Lines whose budget was checked by simulation, where somebody asked for it."""

    @property
    def verdicts(self) -> tuple[Verdict, ...]:
        """Of every line, and of the walls where anything is asked of them."""
        return verdicts_of(self.ledger, self.walls)

    @property
    def warnings(self) -> tuple[str, ...]:
        """Whatever has to be read beside the numbers: notes first, then places, largest first."""
        return (*self.doubts.notes, *self.deviation.doubts_about(()))


class Families:
    """Makes the nodes of all families.

    Parameters
    ----------
    files : FileStore
    """

    def __init__(self, files: FileStore) -> None:
        self._files = files
        self.all: dict[str, Family] = {
            "nominal": self._nominal, "scan": self._scan, "tied": tied_node, "parts": parts_node, "surface": surface_node,
            "joining": joining_node, "working": working_node, "handling": handling_node,
            "worked": worked_node, "told": told_node,
            "facts": _facts, "coats": _coats, "alignment": _alignment,
            "map": _map, "suspicion": _suspicion, "doubts": _doubts, "stuck": _stuck,
            "spread": _spread, "statistics": _statistics, "given": given_node, "line": line_node, "simulated": simulated_node,
            "reading": _reading, "section": _section,
            "feature": feature_node, "walls": walls_node,
            "evaluation": _evaluation, "touched": partial(touched_node, files),
        }  # fmt: skip

    def _nominal(self, graph: Graph, source: Source) -> Node:
        file = graph.job.nominal
        if file is None:
            raise JobError("the job has no nominal", graph.job.title, "Bring one in Brief")
        make = partial(load_nominal, unit=file.unit)
        return Node(
            (file.sha256, file.unit), {}, lambda _, progress: make(self._files.checked(file), progress=progress)
        )

    def _scan(self, graph: Graph, source: Source) -> Node:
        """Whether there is a nominal decides what is asked about units, not what the numbers are."""
        job = graph.job
        joined = join_named(graph, source.name)
        if joined is not None:
            return joined_node(joined)
        apart = job.procedure.separation
        if apart is not None and source.name in apart.names:
            return part_node(apart, apart.names.index(source.name))
        file = next((held.file for held in job.scans if held.name == source.name), None)
        if file is None:
            what = f"the job has no scan called '{source.name}'" if job.scans else "the job has no scan"
            known = ", ".join(job.scan_names)
            raise JobError(what, job.title, f"Scans are: {known}" if known else "Bring one in Assemble")
        factor = job.circumstances.environment.to_reference

        def run(outcomes: Outcomes, progress: Progress) -> LoadedScan:
            return load_scan(self._files.checked(file), file.unit, outcomes.nominal_if_any, factor, progress)

        return Node((file.sha256, file.unit, factor), {}, run, _if_any(job))


def _if_any(job: Job) -> tuple[Source, ...]:
    return () if job.nominal is None else (NOMINAL,)


def _facts(graph: Graph, source: Source) -> Node:
    reach, joined = graph.job.procedure.measure.limit, join_named(graph, source.name)
    behind = () if joined is None else tuple(facts(name) for name in joined.used)
    apart = graph.job.procedure.separation
    if apart is not None and source.name in apart.names:
        behind = (facts(apart.scan),)
    work = told(source.name)

    def run(outcomes: Outcomes, progress: Progress) -> tuple[str, ...]:
        brought: LoadedScan = outcomes.of(loaded(source.name))
        notes = [note for part in behind for note in outcomes.of(part)]
        notes += brought.problems
        return tuple(
            dict.fromkeys((*notes, *outcomes.of(work), *doubts_about_inputs(outcomes.nominal, brought, reach)))
        )

    return Node((reach,), under_their_names(NOMINAL, loaded(source.name), work, *behind), run)


def _coats(graph: Graph, source: Source) -> Node:
    """Thickness of what was on each face while it was measured."""
    circumstances = graph.job.circumstances

    def run(outcomes: Outcomes, progress: Progress) -> Coat:
        thickness = Chain.of(circumstances).thickness_on(np.arange(len(outcomes.nominal.faces)))
        return thickness if thickness.any() else None

    return Node(circumstances.coats_on, under_their_names(NOMINAL), run)


def _alignment(graph: Graph, source: Source) -> Node:
    step = graph.job.procedure.alignment(source.name)
    if step.start and (other := graph.job.procedure.alignment(step.start)).scan != step.scan:
        what = f"the alignment '{step.name}' lays {step.scan}, but starts from '{other.name}', which lays {other.scan}"
        raise JobError(what, "procedure", "Choose a start for the same scan")
    more = [read for read in step.may_read() if read != NOMINAL or graph.job.nominal is not None]
    return Node((step,), under_their_names(*step.reads(), *more), step.run, shelf="alignment" if step.reads() else "")


def _map(graph: Graph, source: Source) -> Node:
    job = graph.job
    laid = job.procedure.alignment(source.name).scan
    scan = surface(laid)
    rule = SearchRule(job.procedure.measure.limit, job.procedure.measure.angle)

    def run(outcomes: Outcomes, progress: Progress) -> Deviation:
        pose = outcomes.alignment(source.name).transform
        return measure_deviation(outcomes.scan(laid), outcomes.nominal, pose, rule, progress)

    return Node((rule.limit, rule.angle), under_their_names(NOMINAL, alignment(source.name), scan), run)


def _suspicion(graph: Graph, source: Source) -> Node:
    """Why a scan as a whole may not be judged."""
    laid = graph.job.procedure.alignment(source.name).scan
    scan = surface(laid)

    def run(outcomes: Outcomes, progress: Progress) -> tuple[str, ...]:
        progress.phase("seeing whether the scan is of this part")
        return doubts_about_scan(
            outcomes.scan(laid), outcomes.of(deviation_map(source.name)), outcomes.alignment(source.name), progress
        )

    return Node((), under_their_names(scan, deviation_map(source.name), alignment(source.name)), run, shelf="sentences")


def _doubts(graph: Graph, source: Source) -> Node:
    """All that must be told beside the numbers of an alignment."""
    about_file = facts(graph.job.procedure.alignment(source.name).scan)
    about_scan = Source("suspicion", source.name)
    told, touches, stuck = graph.job.circumstances.notes, touched(source.name), Source("stuck", source.name)

    def run(outcomes: Outcomes, progress: Progress) -> Doubts:
        objections, by_touch = outcomes.of(about_scan), outcomes.of(touches)
        notes = (*outcomes.of(about_file), *told, *outcomes.alignment(source.name).notes, *outcomes.of(stuck))
        return Doubts((*notes, *(by_touch.notes if by_touch is not None else ()), *objections), objections)

    return Node(told, under_their_names(about_file, alignment(source.name), about_scan, touches, stuck), run)


def _stuck(graph: Graph, source: Source) -> Node:
    """Targets that are still in the scan, as sentences."""
    found = deviation_map(source.name)

    def run(outcomes: Outcomes, progress: Progress) -> tuple[str, ...]:
        progress.phase("looking for targets in the scan")
        return tuple(stuck.sentence for stuck in (find_stuck(outcomes.of(found)),) if stuck is not None)

    return Node((), under_their_names(found), run, shelf="sentences")


def _spread(graph: Graph, source: Source) -> Node:
    """The statistics of a map but for what its limits say."""
    found = deviation_map(source.name)
    return Node((), under_their_names(found), lambda outcomes, _: statistics(outcomes.of(found), 0.0, 0.0))


def _statistics(graph: Graph, source: Source) -> Node:
    measure = graph.job.procedure.measure
    found, spread = deviation_map(source.name), Source("spread", source.name)

    def run(outcomes: Outcomes, progress: Progress) -> DeviationStatistics:
        known: DeviationStatistics = outcomes.of(spread)
        return replace(known, within_tolerance=within(outcomes.of(found), measure.lower, measure.upper))

    return Node((measure.lower, measure.upper), under_their_names(found, spread), run)


def _reading(graph: Graph, source: Source) -> Node:
    """The readings of a step, not yet judged."""
    step, circumstances = graph.job.procedure.readings[int(source.part)], graph.job.circumstances
    found, behind = deviation_map(source.name), handling(graph.job.procedure.alignment(source.name).scan)

    def run(outcomes: Outcomes, progress: Progress) -> tuple[Reading, ...]:
        deviation, pose = outcomes.of(found), outcomes.alignment(source.name)
        chain = Chain.of(circumstances, outcomes.of(behind))
        return tuple(
            take_reading(deviation, pose, chain, place, label) for label, place in step.places(deviation.nominal)
        )

    return Node((step, circumstances), under_their_names(found, alignment(source.name), behind), run)


def _section(graph: Graph, source: Source) -> Node:
    """The sections of a step."""
    job = graph.job
    step, circumstances = job.procedure.sections[int(source.part)], job.circumstances
    search = SearchRule(job.procedure.measure.limit, job.procedure.measure.angle)
    laid = job.procedure.alignment(source.name).scan
    found, scan = deviation_map(source.name), surface(laid)

    def run(outcomes: Outcomes, progress: Progress) -> tuple[Section, ...]:
        deviation = outcomes.of(found)
        given = outcomes.alignment(source.name), Chain.of(circumstances, outcomes.of(handling(laid)))
        planes, made = step.planes(deviation.nominal), []
        for index, plane in enumerate(planes):
            progress.phase(f"cutting {plane.name}", index / len(planes))
            made.append(take_section(deviation, outcomes.scan(laid), given, plane, SectionRule(search, step.along)))
        return tuple(made)

    return Node(
        (step, circumstances, search.limit, search.angle),
        under_their_names(found, scan, alignment(source.name), handling(laid)),
        run,
    )


def _evaluation(graph: Graph, source: Source) -> Node:
    """Map, statistics, readings, sections and ledger of an alignment.

    Each of them is an outcome by itself: other limits of the map change its statistics only, another limit of a
    characteristic its own line.
    """
    job, name = graph.job, source.name
    about_file = facts(job.procedure.alignment(name).scan)
    lines = [line(name, number) for number in range(len(job.procedure.characteristics))]
    taken = [reading(name, number) for number in range(len(job.procedure.readings))]
    shapes = [feature(name, number) for number in range(len(job.procedure.features))]
    cuts = [section(name, number) for number in range(len(job.procedure.sections))]

    def run(outcomes: Outcomes, progress: Progress) -> Evaluation:
        readings = (replace(one, limits=limits_of(job, one.face)) for read in taken for one in outcomes.of(read))
        return Evaluation(
            name, outcomes.alignment(name), outcomes.of(deviation_map(name)), outcomes.of(numbers(name)), tuple(readings),
            tuple(outcomes.of(read) for read in lines), outcomes.of(doubts(name)),
            tuple(one for read in cuts for one in outcomes.of(read)), tuple(outcomes.of(read) for read in shapes),
            outcomes.of(walls(name)),
        )  # fmt: skip

    # What is told of the file is asked for first: the scan as it was brought may be let go once it is clean.
    # How surely joined scans lie, and how far work moved their surface, comes of that, which is then not done again for it.
    reads = (
        about_file,
        handling(job.procedure.alignment(name).scan),
        alignment(name),
        deviation_map(name),
        numbers(name),
        doubts(name),
        *lines,
        *taken,
        *cuts,
        *shapes,
        walls(name),
    )
    return Node(job.procedure.judging, under_their_names(*reads), run)
