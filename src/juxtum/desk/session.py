"""The open job: its history, its results, its file, and the way edits are made."""

from __future__ import annotations

import os
from collections.abc import Callable
from pathlib import Path

from PyQt6.QtCore import QObject, QSettings, QTimer, pyqtSignal

from juxtum.desk.derived import Derived, Deriver
from juxtum.desk.workbench import Workbench
from juxtum.errors import Cancelled, JobError, JuxtumError
from juxtum.job import FileStore, History, Job, Runner, load_job, save_job
from juxtum.job.document import default_procedure
from juxtum.job.files import cache_folder
from juxtum.job.recovery import Recovered, Recovery
from juxtum.job.steps import Decide, Measure, Step
from juxtum.job.store import SUFFIX
from juxtum.progress import Progress

Edit = Callable[[Job], Job]
AUTOSAVE_MS = 60_000
RECENT = 8


def fresh_job() -> Job:
    """A job with nothing but the settings that every job needs."""
    keep = (Measure, Decide)
    steps = tuple(s for s in default_procedure().steps if isinstance(s, keep))
    return Job().model_copy(update={"procedure": Job().procedure.model_copy(update={"steps": steps})})


class Session(QObject):
    """Binds one job to the window. All edits pass here, and are recorded after they succeeded."""

    changed = pyqtSignal()
    replaced = pyqtSignal()
    failed = pyqtSignal(object)
    news = pyqtSignal(str)

    def __init__(self, settings: QSettings, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.settings = settings
        self.workbench = Workbench(self)
        self.files = FileStore(cache_folder() / "inputs")
        self.runner = Runner(self.files)
        self._deriver = Deriver(self.runner)
        self.history = History(fresh_job())
        self.derived = Derived(self.history.job)
        self.path: Path | None = None
        self.held_by: Callable[[], JuxtumError | None] = lambda: None
        """Why the job cannot be left now, if there is a reason."""
        self._saved: Job = self.history.job
        self.recovery = Recovery()
        self._autosave = QTimer(self, interval=AUTOSAVE_MS)
        self._autosave.timeout.connect(self.autosave)
        self._autosave.start()

    @property
    def job(self) -> Job:
        """The job as it is now."""
        return self.history.job

    def is_held(self) -> bool:
        """Whether this job must stay, since something runs that belongs to it; says so."""
        problem = self.held_by()
        if problem is not None:
            self.failed.emit(problem)
        return problem is not None

    @property
    def is_saved(self) -> bool:
        """Whether the file holds the job as it is now."""
        return self.job == self._saved

    def edit(self, label: str, change: Edit, merge: str = "", then: Callable[[], None] | None = None) -> None:
        """Change the job; it stays as it was when the change cannot be carried out."""

        self.edit_slowly(label, lambda job, _: change(job), merge, then)

    def edit_slowly(
        self, label: str, change: Callable[[Job, Progress], Job], merge: str = "", then: Callable[[], None] | None = None
    ) -> None:
        """Change the job by work that takes a while, with progress and cancel."""

        def work(progress: Progress) -> tuple[Job, Derived]:
            changed = change(self.job, progress.part(0, 0.9))
            return changed, self._deriver.derive(changed, progress.part(0.9, 1))

        def done(answer: tuple[Job, Derived]) -> None:
            self.history.record(label, answer[0], merge)
            self._show(answer[1])
            if then is not None:
                then()

        self.workbench.ask(work, done, self._fail)

    def add(self, step: Step, label: str, then: Callable[[], None] | None = None) -> None:
        """Add a step to the procedure."""
        self.edit(label, lambda job: job.with_step(step), then=then)

    def compute(self, work: Callable[[Progress], object], done: Callable[[object], None]) -> None:
        """Work that changes nothing in the job, such as writing a report."""
        self.workbench.ask(work, done, self._fail)

    def undo(self) -> None:
        """Take the last edit back."""
        self._travel(self.history.undo, self.history.undo_label, "Undone")

    def redo(self) -> None:
        """Do it again."""
        self._travel(self.history.redo, self.history.redo_label, "Done again")

    def _travel(self, move: Callable[[], Job], label: str | None, word: str) -> None:
        if label is None or self.workbench.is_busy:
            return
        job = move()
        self.news.emit(f"{word}: {label}")
        self._rederive(job)

    def _rederive(self, job: Job, then: Callable[[], None] | None = None) -> None:
        def done(answer: Derived) -> None:
            self._show(answer)
            if then is not None:
                then()

        self.workbench.ask(lambda progress: self._deriver.derive(job, progress), done, self._fail)

    def _show(self, derived: Derived) -> None:
        self.derived = derived
        self.autosave()
        self.changed.emit()

    def _fail(self, problem: Exception) -> None:
        if isinstance(problem, Cancelled):
            self.news.emit("Stopped; the job is as it was")
        else:
            self.failed.emit(problem)
        self.changed.emit()

    def autosave(self) -> None:
        """Note the job for recovery; into its own file the user saves."""
        try:
            if self.is_saved:
                self.recovery.clear()
            else:
                self.recovery.note(self.job, self.path)
        except JuxtumError as problem:
            self.failed.emit(problem)

    def start(self, job: Job, path: Path | None = None, saved: bool = False, then: Callable[[], None] | None = None) -> None:
        """Work on another job; refused while something runs that belongs to this one."""
        if self.is_held():
            return

        def done(derived: Derived) -> None:
            self.history = History(job)
            self.path = path
            self._saved = job if saved else fresh_job()
            self._show(derived)
            self.replaced.emit()
            if then is not None:
                then()

        self.workbench.ask(lambda progress: self._deriver.derive(job, progress), done, self._fail)

    def open(self, path: Path) -> None:
        """Open a job file."""

        def done(answer: object) -> None:
            assert isinstance(answer, Job)
            self.remember(path)
            self.start(answer, path, saved=True)

        self.workbench.ask(lambda _: load_job(path, self.files, cache_folder() / "inputs"), done, self._fail)

    def recover(self, found: Recovered) -> None:
        """Go on with a job that was open when its program ended."""

        def done() -> None:
            found.note.unlink(missing_ok=True)
            self.news.emit(f"'{found.job.title}' is back as it was before the program ended")

        self.start(found.job, found.path, then=done)

    def save(self, path: Path) -> None:
        """Save the job into a file; the worker writes, the job can go on being edited."""
        job = self.job
        target = path if path.suffix == SUFFIX else path.with_name(path.name + SUFFIX)
        if not os.access(target.parent, os.W_OK):
            self.failed.emit(JobError("the folder cannot be written", str(target.parent), "Save somewhere else"))
            return

        def done(_: object) -> None:
            self.path, self._saved = target, job
            self.remember(target)
            self.autosave()
            self.news.emit(f"Saved as {target.name}")
            self.changed.emit()

        self.workbench.ask(lambda _: save_job(job, target, self.files), done, self._fail)

    @property
    def recent(self) -> list[Path]:
        """Jobs opened or saved lately that still exist."""
        stored = self.settings.value("recent", []) or []
        names = [stored] if isinstance(stored, str) else list(stored)
        return [Path(name) for name in names if Path(name).exists()]

    def remember(self, path: Path) -> None:
        """Put a job first among the recent ones."""
        names = [str(path.resolve()), *(str(p) for p in self.recent if p != path.resolve())]
        self.settings.setValue("recent", names[:RECENT])

    def discard(self) -> None:
        """Count the job as saved, so that nothing of it is kept."""
        self._saved = self.job

    def close(self, keep: bool) -> None:
        """End: stop the worker; a job that is not saved anywhere may be kept for the next start."""
        self._autosave.stop()
        self.workbench.close()
        if keep:
            self.recovery.note(self.job, self.path)
        else:
            self.recovery.clear()
