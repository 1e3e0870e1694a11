"""Jobs in which several scans become one."""

from __future__ import annotations

import re

from juxtum.job.document import Job, scan_behind
from juxtum.job.procedure import Procedure
from juxtum.job.steps import AlignModel, Join


def with_join(job: Job, step: Join) -> Job:
    """With several scans joined, and the procedure carried out on what comes of it.

    Cleaning stays with the scans it was done to; alignments go over to the joined one when it is new.
    """
    is_new = all(known.name != step.name for known in job.procedure.joins)
    made, before = job.with_step(step), job.scan_in_force
    if not is_new:
        return made
    moved = (
        s.model_copy(update={"scan": step.name}) if isinstance(s, AlignModel) and s.scan == before else s
        for s in made.procedure.steps
    )
    return made.model_copy(update={"procedure": Procedure(steps=tuple(moved))})


def join_of_all(job: Job) -> Join:
    """What joins all scans that a job has: the join that there is, with what came later, or a new one."""
    names = tuple(held.name for held in job.scans)
    known = job.procedure.joins[-1] if job.procedure.joins else None
    if known is None:
        return Join(scans=names, by_shape=True)
    return known.model_copy(update={"scans": (*known.scans, *(n for n in names if n not in known.scans))})


def naming_files(job: Job, words: str) -> str:
    """Words with the file behind each numbered scan that they name, for whoever gave files and no numbers."""
    files = {held.name: held.file.name for held in job.scans}

    def named(found: re.Match[str]) -> str:
        name = found.group()
        return f"{name} ({files[name]})" if name in files else name

    return re.sub(r"\bscan \d+\b", named, words)


def measured_title(job: Job) -> str:
    """The file of the scan in force, or the names of those that it is joined of, for lists; with the part in it that is meant."""
    names = [file.name for file in job.measured]
    title = ", ".join(names) if len(names) < 4 else f"{names[0]} and {len(names) - 1} more"
    return title if job.scan_in_force == scan_behind(job) else f"{title}, {job.scan_in_force}"
