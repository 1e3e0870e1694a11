"""Scans of another program: whatever it writes into a folder becomes a scan of the job."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PyQt6.QtWidgets import QFileDialog, QWidget

from juxtum.capture.ways.watching import FolderWatch
from juxtum.desk.asking import look_at
from juxtum.desk.desk import Desk
from juxtum.desk.timers import timer
from juxtum.desk.widgets import Choice, button, column, form, label, row
from juxtum.errors import Cancelled, InputError, JuxtumError
from juxtum.job import Job
from juxtum.job.planning import with_foreign_scan
from juxtum.progress import Progress
from juxtum.units import Unit

EVERY = 1200
"""Milliseconds between looks."""


class WatchBox(QWidget):
    """A folder, the unit of files that name none, and what came.

    Parameters
    ----------
    desk : Desk
    """

    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self._desk = desk
        self._watch: FolderWatch | None = None
        self._job, self._waiting, self._count = "", list[Path](), 0
        self._is_taking = self._is_looking = False
        self._timer = timer(self, EVERY, self._look)
        lines = column(self)
        lines.addWidget(label("Scans of another program", "heading"))
        self._unit = Choice("Unit of watched files")
        self._unit.show_options([(u.value, u.plural) for u in Unit], Unit.MILLIMETRE.value)
        lines.addLayout(form([("Files without a unit", self._unit)]))
        self._button = button(
            "Watch a folder\u2026", self._toggle, tip="Each scan that is written there becomes a scan of this job"
        )
        self._button.setCheckable(True)
        lines.addLayout(row(self._button))
        self._words = label("", "soft", wrap=True)
        self._words.setAccessibleName("Watched folder")
        lines.addWidget(self._words)

    def _toggle(self) -> None:
        if self._watch is not None:
            self.stop()
            return
        name = QFileDialog.getExistingDirectory(self.window(), "Folder into which scans are written")
        self._button.setChecked(False)
        if name:
            self.watch(Path(name))

    def watch(self, folder: Path) -> None:
        """Begin; what is there already stays where it is."""
        try:
            self._watch = FolderWatch(folder)
        except InputError as problem:
            self._desk.session.failed.emit(problem)
            return
        self._job, self._count, self._waiting = self._desk.session.job.id, 0, []
        self._button.setChecked(True)
        self._timer.start()
        self._tell()

    def stop(self, why: str = "") -> None:
        """No more."""
        self._watch = None
        self._timer.stop()
        self._button.setChecked(False)
        self._words.setText(why)

    def _tell(self) -> None:
        if self._watch is not None:
            came = "nothing yet" if not self._count else f"{self._count} scan{'' if self._count == 1 else 's'} so far"
            self._words.setText(f"Watching {self._watch.folder}: {came}.")

    def _look(self) -> None:
        if self._watch is None:
            return
        if self._desk.session.job.id != self._job:
            self.stop("Another job is open: the folder is no longer watched.")
            return
        if not self._is_looking:
            # A folder of another machine may answer late: nobody waits for it here.
            self._is_looking, watch = True, self._watch
            self._desk.session.workbench.ask(
                lambda _: watch.look(), lambda paths: self._found(watch, paths), self._unreadable, is_quiet=True
            )

    def _unreadable(self, problem: Exception) -> None:
        self._is_looking = False
        if isinstance(problem, Cancelled):
            return
        self._desk.session.failed.emit(problem)
        self.stop("The folder cannot be read any more.")

    def _found(self, watch: FolderWatch, paths: tuple[Path, ...]) -> None:
        self._is_looking = False
        if self._watch is not watch:
            return
        self._waiting += paths
        if not self._desk.session.workbench.is_busy:
            # One that failed tells nobody here that it ended.
            self._is_taking = False
        self._take_next()

    def _take_next(self) -> None:
        """One after the other: each is read before the next is looked at."""
        if self._is_taking or not self._waiting or self._watch is None:
            return
        path, unit, session = self._waiting.pop(0), Unit(self._unit.currentData()), self._desk.session
        self._is_taking = True

        def look(progress: Progress) -> object:
            try:
                return look_at(path, progress)
            except JuxtumError as problem:
                return problem

        def seen(made: object) -> None:
            if isinstance(made, JuxtumError):
                self._is_taking = False
                session.failed.emit(made)
                return
            session.edit_slowly(f"scan {path.name} from the watched folder", self._with(path, unit, made), then=taken)

        def taken() -> None:
            self._is_taking = False
            self._count += 1
            self._tell()
            self._desk.announce(f"{path.name} came as a scan of this job")
            self._take_next()

        session.compute(look, seen)

    def _with(self, path: Path, unit: Unit, made: object) -> Callable[[Job, Progress], Job]:
        files = self._desk.session.files
        names_unit = getattr(made, "unit", None) is not None

        def change(job: Job, _: Progress) -> Job:
            file = files.adopt(path, None if names_unit else unit)
            more = job.with_further(file) if job.scans else job.with_scan(file)
            return with_foreign_scan(more.on_scan(more.scans[-1].name))

        return change
