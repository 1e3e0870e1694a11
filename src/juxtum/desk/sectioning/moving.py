"""Sections of a job: their names, and where they are moved to."""

from __future__ import annotations

import numpy as np

from juxtum.job import Job
from juxtum.job.steps import SectionStep

AXES = {"x": (1.0, 0.0, 0.0), "y": (0.0, 1.0, 0.0), "z": (0.0, 0.0, 1.0)}


def where_of(step: SectionStep) -> str:
    """Across which axis it cuts, or that it goes by a face or its axis; across Z where neither tells."""
    if step.face is not None:
        return "axis" if step.series == "radial" else "face"
    return next((axis for axis, normal in AXES.items() if step.normal == normal), "z")


def free_label(stem: str, job: Job) -> str:
    """A name that no section of the job bears yet."""
    used = {s.label for s in job.procedure.sections}
    name, number = stem, 2
    while name in used:
        name, number = f"{stem} ({number})", number + 1
    return name


def moved_to(step: SectionStep, value: float, job: Job) -> SectionStep:
    """The same across another place of its axis, or so far out of its face; named after it where it was before."""
    if step.face is not None:
        update: dict[str, object] = {"offset": value}
    else:
        normal = np.array(step.normal) / np.linalg.norm(step.normal)
        point = np.array(step.point) + (value - float(np.array(step.point) @ normal)) * normal
        update = {"point": tuple(float(v) for v in point)}
    name = _renamed(step, value)
    return step.model_copy(update=update | {"label": name if name == step.label else free_label(name, job)})


def _renamed(step: SectionStep, value: float) -> str:
    stem, sign, _ = step.label.partition(" = ")
    if sign and stem in AXES:
        return f"{stem} = {value:g}"
    by_face = step.face is not None and step.label.startswith(f"face {step.face}")
    return f"face {step.face} {value:+g}" if by_face else step.label


def exchanged(job: Job, old: SectionStep, new: SectionStep) -> Job:
    """A step put where another one was."""
    steps = tuple(new if step == old else step for step in job.procedure.steps)
    return job.model_copy(update={"procedure": job.procedure.model_copy(update={"steps": steps})})
