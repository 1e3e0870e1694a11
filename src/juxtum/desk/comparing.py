"""What changes from the newest other alignment to the one in force."""

from __future__ import annotations

from typing import Any

from juxtum.errors import JuxtumError
from juxtum.job import Job, Runner
from juxtum.progress import Progress

START = ("rough", "as-scanned")
"""Kinds of alignments that only begin others."""


def worth_comparing(job: Job, name: str) -> list[str]:
    """Other alignments of the same scan that say something about the part, the newest first."""
    scan = job.procedure.alignment(name).scan
    worth = [step.name for step in job.procedure.alignments if step.scan == scan and step.kind not in START]
    return [other for other in reversed(worth) if other != name]


def compared(runner: Runner, job: Job, name: str, progress: Progress) -> dict[str, Any]:
    """The comparison with the newest other alignment, or why there is none, as fields of what is derived."""
    others = worth_comparing(job, name)
    if not others:
        return {"comparison": None, "uncompared": ""}
    try:
        return {"comparison": runner.compare(job, others[0], name, progress), "uncompared": ""}
    except JuxtumError as problem:
        return {"comparison": None, "uncompared": f"'{others[0]}' cannot be compared: {problem}"}
