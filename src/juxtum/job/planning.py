"""From a job to what its plan rests on."""

from __future__ import annotations

from juxtum.evaluate.uncertainty import CoatLayer
from juxtum.job.document import Job
from juxtum.job.steps import Datums
from juxtum.plan.schedule import COATS
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


def coat_of(job: Job) -> CoatLayer | None:
    """The coat that the plan puts on the part: on the faces that are not matt, or on all where none is named."""
    if job.plan is None or job.plan.coat == "none":
        return None
    coat = COATS[job.plan.coat]
    return CoatLayer(tuple(face for face, _ in job.plan.finishes), coat.thickness, coat.spread)
