"""Edits that take a while to work out: one after another, beside the quick ones."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING

from juxtum.job import Job
from juxtum.job.timeline import carried_over
from juxtum.progress import Progress

if TYPE_CHECKING:
    from juxtum.desk.session import Session

SlowChange = Callable[[Job, Progress], Job]


@dataclass(eq=False)
class SlowEdit:
    """What it is called, what it does, with what it merges, and what follows it."""

    label: str
    change: SlowChange
    merge: str
    then: Callable[[], None] | None


class SlowEdits:
    """Those that wait; what one of them made is carried over onto the job as it is by then.

    Parameters
    ----------
    session : Session
        Whose job they change.
    """

    def __init__(self, session: Session) -> None:
        self._session = session
        self._waiting: deque[SlowEdit] = deque()
        self._is_working = False

    def add(self, edit: SlowEdit) -> None:
        """Work on an edit when those before it are done."""
        self._waiting.append(edit)
        self._work_next()

    def clear(self) -> None:
        """Forget those that wait."""
        self._waiting.clear()

    def _work_next(self) -> None:
        if self._is_working or not self._waiting:
            return
        item, base, timeline = self._waiting.popleft(), self._session.job, self._session.timeline
        self._is_working = True

        def ended() -> bool:
            self._is_working = False
            return timeline is self._session.timeline

        def done(made: Job) -> None:
            if ended():
                self._session.edit(item.label, lambda job: carried_over(base, made, job), item.merge, item.then)
            self._work_next()

        def failed(problem: Exception) -> None:
            if ended():
                self._session.tell_failure(problem)
            self._work_next()

        self._session.workbench.ask(lambda progress: item.change(base, progress), done, failed)
