"""What a probe touched, among the inputs of a job."""

from __future__ import annotations

from juxtum.exchange.inputfile import InputFile
from juxtum.job.document import Job
from juxtum.job.roles import Input, Role


def touches_in(job: Job) -> tuple[Input, ...]:
    """What a probe touched, in order."""
    return tuple(held for held in job.inputs if held.role is Role.TOUCHES)


def with_touches(job: Job, name: str, file: InputFile) -> Job:
    """The job with what was touched under a name, in place of what was touched under it before."""
    kept = tuple(held for held in job.inputs if held.name != name)
    return job.model_copy(update={"inputs": (*kept, Input(name=name, role=Role.TOUCHES, file=file))})


def without_touches(job: Job) -> Job:
    """The job in which the scan counts again for everything."""
    return job.model_copy(update={"inputs": tuple(held for held in job.inputs if held.role is not Role.TOUCHES)})
