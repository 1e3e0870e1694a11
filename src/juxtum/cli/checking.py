"""Budgets checked by simulation, from the command line."""

from __future__ import annotations

import sys
from collections.abc import Sequence

from juxtum.errors import InputError
from juxtum.evaluate.simulated import Simulated
from juxtum.guide.simulated import simulated_words
from juxtum.job import Evaluation, Job, Runner
from juxtum.job.sources import simulated
from juxtum.progress import Progress


def known_lines(job: Job, ids: Sequence[str] | None) -> tuple[str, ...]:
    """Those of a job's lines that `--simulate` names, each once.

    Raises
    ------
    InputError
        When there is no such line.
    """
    known = [characteristic.id for characteristic in job.procedure.characteristics]
    unknown = [name for name in ids or () if name not in (*known, "all")]
    if unknown:
        named = ", ".join(known[:30])
        raise InputError(
            f"there is no characteristic '{unknown[0]}'", "--simulate", f"Name one of: {named}; or all of them: all"
        )
    return tuple(known if "all" in (ids or ()) else dict.fromkeys(ids or ()))


def simulated_lines(job: Job, runner: Runner, ids: Sequence[str], progress: Progress) -> tuple[Simulated, ...]:
    """The budgets of some lines checked; a line without a value is told and left out."""
    known = [characteristic.id for characteristic in job.procedure.characteristics]
    found = []
    for at, name in enumerate(ids):
        source = simulated(job.procedure.decide.alignment, known.index(name))
        try:
            found.append(runner.outcome(job, source, progress.part(at / len(ids), (at + 1) / len(ids))))
        except InputError as problem:
            print(f"note: {problem.sentence}", file=sys.stderr)
    return tuple(found)


def simulation_lines(evaluation: Evaluation) -> list[str]:
    """What came of it, a line each."""
    return [f"{found.line} by simulation: {simulated_words(found)}" for found in evaluation.simulated]
