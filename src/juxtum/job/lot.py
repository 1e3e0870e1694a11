"""Jobs in which one scan holds many parts: one procedure for all of them, a row for each."""

from __future__ import annotations

from dataclasses import dataclass

from juxtum.errors import JuxtumError
from juxtum.evaluate import LineResult
from juxtum.evaluate.decision import Verdict
from juxtum.job.document import Job
from juxtum.job.outcomes import Evaluation
from juxtum.job.procedure import Procedure
from juxtum.job.runner import Runner
from juxtum.job.steps import AlignModel, Separate
from juxtum.job.wall_map import TakenWalls, verdicts_of
from juxtum.progress import Progress, silent


@dataclass(frozen=True, eq=False)
class LotRow:
    """What came of one part.

    Parameters
    ----------
    name : str
    ledger : tuple of LineResult
    rms : float
        Of its map, mm.
    problem : str
        Why nothing came of it; empty where something did.
    notes : tuple of str
        What has to be read beside its numbers.
    walls : TakenWalls, optional
        How thick its walls are, where that is asked.
    """

    name: str
    ledger: tuple[LineResult, ...] = ()
    rms: float = 0.0
    problem: str = ""
    notes: tuple[str, ...] = ()
    walls: TakenWalls | None = None

    @property
    def verdicts(self) -> tuple[Verdict, ...]:
        """Of every line, and of the walls where anything is asked of them."""
        return verdicts_of(self.ledger, self.walls)

    def count(self, verdict: Verdict) -> int:
        """How much of what is asked has a verdict."""
        return self.verdicts.count(verdict)


def row_of(name: str, made: Evaluation) -> LotRow:
    """What came of a part that was measured."""
    return LotRow(name, made.ledger, made.statistics.rms, notes=made.warnings, walls=made.walls)


def with_separation(job: Job, parts: int) -> Job:
    """With the scan in force separated into parts, and the procedure carried out on the first of them.

    Cleaning stays with the scan that holds them all; alignments go over to the part.
    """
    known = job.procedure.separation
    step = Separate(scan=known.scan if known is not None else job.scan_in_force, parts=parts)
    apart = job if known is None else without_separation(job)
    before, first = apart.scan_in_force, step.names[0]
    moved = (
        s.model_copy(update={"scan": first}) if isinstance(s, AlignModel) and s.scan == before else s
        for s in apart.procedure.steps
    )
    return apart.model_copy(update={"procedure": Procedure(steps=(*moved, step))})


def without_separation(job: Job) -> Job:
    """With all parts together again: alignments go back to the scan that holds them, cleaning of single parts goes."""
    step = job.procedure.separation
    if step is None:
        return job
    left = []
    for known in job.procedure.steps:
        if known == step or (getattr(known, "scan", "") in step.names and not isinstance(known, AlignModel)):
            continue
        is_theirs = isinstance(known, AlignModel) and known.scan in step.names
        left.append(known.model_copy(update={"scan": step.scan}) if is_theirs else known)
    return job.model_copy(update={"procedure": Procedure(steps=tuple(left))})


def as_one_scan(job: Job) -> Job:
    """With all parts together again and nothing aligned: all of them together lie nowhere on one nominal."""
    whole = without_separation(job)
    left = tuple(step for step in whole.procedure.steps if not isinstance(step, AlignModel))
    return whole.model_copy(update={"procedure": Procedure(steps=left)})


def lot_jobs(job: Job) -> tuple[tuple[str, Job], ...]:
    """The job on each part of its lot, by the name of the part; empty where one scan is one part."""
    step = job.procedure.separation
    return () if step is None else tuple((name, job.on_scan(name)) for name in step.names)


def measure_lot(job: Job, runner: Runner, progress: Progress | None = None) -> tuple[LotRow, ...]:
    """Carry the procedure out on each part of the lot; what fails of one is told in its row."""
    progress = progress or silent()
    jobs = lot_jobs(job)
    rows = []
    for number, (name, its) in enumerate(jobs):
        part = progress.part(number / len(jobs), (number + 1) / len(jobs))
        part.phase(f"measuring {name}")
        try:
            made = runner.evaluation(its, None, part)
        except JuxtumError as problem:
            rows.append(LotRow(name, problem=problem.sentence))
            continue
        rows.append(row_of(name, made))
    return tuple(rows)
