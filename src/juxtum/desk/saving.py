"""Saving the job of the window into a file that somebody else may have changed."""

from __future__ import annotations

import os
from pathlib import Path
from typing import TYPE_CHECKING

from juxtum.desk.workbench import Lane
from juxtum.errors import JobError
from juxtum.job.saving import Saved, save_beside_others
from juxtum.job.store import SUFFIX

if TYPE_CHECKING:
    from juxtum.desk.session import Session


def save_session(session: Session, path: Path) -> None:
    """Save the job into a file, once what was asked for is part of it."""
    target = path if path.suffix == SUFFIX else path.with_name(path.name + SUFFIX)
    if not os.access(target.parent, os.W_OK):
        problem = JobError("the folder cannot be written", str(target.parent), "Save somewhere else")
        session.failed.emit(problem)
        return
    session.settled_then(lambda: _save(session, target))


def _save(session: Session, target: Path) -> None:
    job, timeline = session.timeline.settled, session.timeline
    known = session.on_disk if target == session.path else None

    def done(saved: Saved) -> None:
        if timeline is not session.timeline:
            return
        session.saved_as(saved, job)
        other = f"; {target.name} was changed by somebody else and stays as it is" if saved.path != target else ""
        session.news.emit(f"Saved as {saved.path.name}{other}")
        session.changed.emit()

    session.workbench.ask(
        lambda _: save_beside_others(job, target, session.files, known), done, session.tell_failure, Lane.DISK
    )
