"""From a job to what its plan rests on."""

from __future__ import annotations

from juxtum.job.document import Job
from juxtum.job.steps import Datums
from juxtum.plan.task import Aim, Task


def task_of(job: Job) -> Task:
    """The job's characteristics, its datum system and its room."""
    aims = tuple(Aim(p.id, p.title, p.lower, p.upper, p.faces) for p in job.procedure.profiles)
    systems = job.procedure.of(Datums)
    chosen = next((s for s in systems if s.name == job.procedure.decide.frame), systems[-1] if systems else None)
    datums = tuple(dict.fromkeys(n for d in chosen.datums for n in d.faces)) if chosen is not None else ()
    if chosen is None and job.plan is not None:
        datums = job.plan.datums
    return Task(aims, datums, job.brief.environment)
