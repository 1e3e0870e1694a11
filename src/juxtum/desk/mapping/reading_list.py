"""Readings of a list, all at once."""

from __future__ import annotations

from typing import TYPE_CHECKING

from juxtum.errors import JuxtumError
from juxtum.job import Job
from juxtum.job.steps import read_readings

if TYPE_CHECKING:
    from juxtum.desk.desk import Desk


def bring_readings(desk: Desk) -> None:
    """Ask for a list and put its readings to those that there are; one of the same name takes the place of the other."""
    path = desk.asking.point_list()
    if path is None:
        return
    try:
        made = read_readings(path)
    except JuxtumError as problem:
        desk.session.failed.emit(problem)
        return

    def change(job: Job) -> Job:
        for step in made:
            job = job.with_step(step)
        return job

    desk.session.edit(f"{len(made)} readings of {path.name}", change)
