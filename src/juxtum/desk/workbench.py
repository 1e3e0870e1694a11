"""Work away from the interface: requests are computed one after another, answers come back as signals."""

from __future__ import annotations

import logging
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from typing import Any

from PyQt6.QtCore import QObject, Qt, pyqtSignal

from juxtum.errors import Cancelled, JuxtumError
from juxtum.progress import Progress

Work = Callable[[Progress], Any]
LOG = logging.getLogger("juxtum")


class Workbench(QObject):
    """Owns the one worker thread; at most one request runs, the others wait their turn."""

    progressed = pyqtSignal(str, float)
    busy_changed = pyqtSignal(bool)
    _answered = pyqtSignal(object, object, object)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._pool = ThreadPoolExecutor(1, thread_name_prefix="workbench")
        self._pending = 0
        self._running: Progress | None = None
        self._answered.connect(self._deliver, Qt.ConnectionType.QueuedConnection)

    @property
    def is_busy(self) -> bool:
        """Whether anything runs or waits."""
        return self._pending > 0

    def ask(self, work: Work, done: Callable[[Any], None], failed: Callable[[Exception], None]) -> None:
        """Compute `work(progress)`; then call `done` or `failed` on the interface thread."""
        self._pending += 1
        if self._pending == 1:
            self.busy_changed.emit(True)
        progress = Progress(self.progressed.emit)
        self._running = progress

        def run() -> None:
            try:
                progress.check()
                answer = work(progress)
            except Exception as problem:
                if not isinstance(problem, JuxtumError | Cancelled):
                    LOG.error("work failed", exc_info=problem)
                self._answered.emit(failed, problem, None)
            else:
                self._answered.emit(done, answer, None)

        self._pool.submit(run)

    def _deliver(self, callback: Callable[[Any], None], answer: Any, _: Any) -> None:
        self._pending -= 1
        if self._pending == 0:
            self._running = None
        try:
            callback(answer)
        finally:
            if self._pending == 0:
                self.busy_changed.emit(False)

    def cancel(self) -> None:
        """Ask what runs to stop."""
        if self._running is not None:
            self._running.cancel()

    def close(self) -> None:
        """Stop and wait for the worker."""
        self.cancel()
        self._pool.shutdown(wait=True, cancel_futures=True)
