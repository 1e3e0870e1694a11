"""Work away from the interface: lanes with a thread each; answers come back as signals."""

from __future__ import annotations

import logging
import threading
from collections import deque
from collections.abc import Callable
from dataclasses import dataclass, field
from enum import Enum
from typing import Any, TypeVar

from PyQt6.QtCore import QObject, Qt, pyqtSignal

from juxtum.errors import Cancelled, JuxtumError
from juxtum.progress import Progress

Work = Callable[[Progress], Any]
T = TypeVar("T")
LOG = logging.getLogger("juxtum")
PATIENCE = 20.0
"""Seconds that closing waits for work that was asked to stop."""


class Lane(Enum):
    """Work of one lane is done in its order; lanes do not wait for each other."""

    EDIT = "edit"
    """What the window shows of the job after an edit."""
    WORK = "work"
    """Plans, reports, reading files."""
    DISK = "disk"
    """Saving and notes for recovery; never cancelled, and finished before the program ends."""
    AHEAD = "ahead"
    """What nobody asked for yet; it gives way to all that somebody waits for."""


@dataclass(eq=False)
class _Task:
    work: Work
    done: Callable[[Any], object]
    failed: Callable[[Exception], None]
    progress: Progress
    is_quiet: bool
    answer: Any = field(default=None)
    problem: Exception | None = None


class _Thread:
    """One lane's thread; it ends when it is told to and, where it must, only after all that was asked."""

    def __init__(self, lane: Lane, answered: Callable[[_Task], None]) -> None:
        self._tasks: deque[_Task] = deque()
        self._ready = threading.Condition()
        self._answered = answered
        self._ends = False
        self.running: _Task | None = None
        self.thread = threading.Thread(target=self._run, name=f"workbench {lane.value}", daemon=True)
        self.thread.start()

    def put(self, task: _Task) -> None:
        with self._ready:
            self._tasks.append(task)
            self._ready.notify()

    @property
    def has_work(self) -> bool:
        """Whether something runs or waits."""
        with self._ready:
            return self.running is not None or bool(self._tasks)

    def cancel(self, *, waiting: bool) -> None:
        """Ask what runs to stop, and what waits too where that is wanted."""
        with self._ready:
            for task in (self.running, *(self._tasks if waiting else ())):
                if task is not None:
                    task.progress.cancel()

    def end(self, drop: bool) -> None:
        """End after what was asked; at once, and without what waits, when that may be dropped."""
        with self._ready:
            self._ends = True
            if drop:
                self._tasks.clear()
                if self.running is not None:
                    self.running.progress.cancel()
            self._ready.notify()

    def _run(self) -> None:
        while True:
            with self._ready:
                while not self._tasks and not self._ends:
                    self._ready.wait()
                if not self._tasks:
                    return
                task = self.running = self._tasks.popleft()
            try:
                task.progress.check()
                task.answer = task.work(task.progress)
            except Exception as problem:
                if not isinstance(problem, JuxtumError | Cancelled):
                    LOG.error("work failed", exc_info=problem)
                task.problem = problem
            with self._ready:
                self.running = None
            self._answered(task)


class Workbench(QObject):
    """Owns the worker threads."""

    progressed = pyqtSignal(str, float)
    busy_changed = pyqtSignal(bool)
    _answered = pyqtSignal(object)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._answered.connect(self._deliver, type=Qt.ConnectionType.QueuedConnection)  # type: ignore[call-arg]
        self._lanes = {lane: _Thread(lane, self._tell) for lane in Lane}
        self._pending = 0
        self._is_closed = False

    @property
    def is_busy(self) -> bool:
        """Whether anything runs or waits."""
        return self._pending > 0

    def is_working(self, lane: Lane) -> bool:
        """Whether something of a lane runs or waits, seen by anybody or not."""
        return self._lanes[lane].has_work

    def ask(
        self,
        work: Callable[[Progress], T],
        done: Callable[[T], object],
        failed: Callable[[Exception], None],
        lane: Lane = Lane.WORK,
        *,
        is_quiet: bool = False,
    ) -> None:
        """Compute `work(progress)`; then call `done` or `failed` on the interface thread.

        Parameters
        ----------
        is_quiet : bool
            Nobody needs to see that it runs.
        """
        progress = Progress(None if is_quiet else self.progressed.emit)
        if not is_quiet:
            self._lanes[Lane.AHEAD].cancel(waiting=True)
            self._pending += 1
            if self._pending == 1:
                self.busy_changed.emit(True)
        self._lanes[lane].put(_Task(work, done, failed, progress, is_quiet))

    def _tell(self, task: _Task) -> None:
        if not self._is_closed:
            self._answered.emit(task)

    def _deliver(self, task: _Task) -> None:
        if self._is_closed:
            return
        self._pending -= not task.is_quiet
        try:
            if task.problem is None:
                task.done(task.answer)
            else:
                task.failed(task.problem)
        finally:
            if self._pending == 0 and not task.is_quiet:
                self.busy_changed.emit(False)

    def cancel(self) -> None:
        """Ask what runs to stop, and work that waits; edits that wait stay, and what is being written to disk goes on."""
        self._lanes[Lane.EDIT].cancel(waiting=False)
        self._lanes[Lane.WORK].cancel(waiting=True)

    def close(self) -> None:
        """Stop what runs, finish what is being written, end the threads."""
        for lane, thread in self._lanes.items():
            thread.end(drop=lane is not Lane.DISK)
        self._lanes[Lane.DISK].thread.join()
        self._is_closed = True
        for thread in self._lanes.values():
            thread.thread.join(PATIENCE)
