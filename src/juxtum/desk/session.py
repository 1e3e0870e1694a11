"""The open job: its timeline, its results, its file, and the way edits are made."""

from __future__ import annotations

import logging
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import TypeVar

from PyQt6.QtCore import QObject, QSettings, pyqtSignal

from juxtum.desk.derived import Derived, Deriver
from juxtum.desk.recent import RecentJobs
from juxtum.desk.saving import save_session
from juxtum.desk.slow_edits import SlowChange, SlowEdit, SlowEdits
from juxtum.desk.timers import timer
from juxtum.desk.workbench import Lane, Workbench
from juxtum.errors import Cancelled, JuxtumError
from juxtum.job import FileStore, Job, Runner, load_job
from juxtum.job.document import default_procedure
from juxtum.job.files import inputs_folder
from juxtum.job.recovery import Recovered, Recovery
from juxtum.job.saving import Saved, as_on_disk
from juxtum.job.steps import Decide, Measure, Step
from juxtum.job.timeline import Draft, Timeline
from juxtum.progress import Progress

Edit = Callable[[Job], Job]
Then = Callable[[], None]
T = TypeVar("T")
LOG = logging.getLogger("juxtum")
AUTOSAVE_MS = 60_000


def fresh_job() -> Job:
    """A job with nothing but the settings that every job needs."""
    keep = (Measure, Decide)
    steps = tuple(s for s in default_procedure().steps if isinstance(s, keep))
    return Job().model_copy(update={"procedure": Job().procedure.model_copy(update={"steps": steps})})


def is_worth_keeping(job: Job) -> bool:
    """Whether losing a job would lose work."""
    fresh = fresh_job()
    return job.model_copy(update={"id": fresh.id}) != fresh


class Session(QObject):
    """Binds one job to the window. Edits are proposed at once, and recorded when their results are there."""

    changed = pyqtSignal()
    replaced = pyqtSignal()
    failed = pyqtSignal(object)
    news = pyqtSignal(str)

    def __init__(self, settings: QSettings, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.settings = settings
        self.workbench, self.files = Workbench(self), FileStore(inputs_folder())
        self.runner = Runner(self.files)
        self.deriver = Deriver(self.runner)
        self.timeline = Timeline(fresh_job())
        self.derived = Derived(self.job)
        self.recent = RecentJobs(settings)
        self.path: Path | None = None
        self.held_by: Callable[[], JuxtumError | None] = lambda: None
        """Why the job cannot be left now, if there is a reason."""
        self._deriving: Draft | None = None
        self._afterwards: dict[Draft, Callable[[], None]] = {}
        self._when_settled: list[Callable[[], None]] = []
        self._slow = SlowEdits(self)
        self._saved = self.job
        self.on_disk: Saved | None = None
        self.recovery = Recovery()
        self._autosave = timer(self, AUTOSAVE_MS, self.autosave)
        self._autosave.start()

    @property
    def job(self) -> Job:
        """The job with everything counted in that was asked for; its results may still be on their way."""
        return self.timeline.newest

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

    def edit(self, label: str, change: Edit, merge: str = "", then: Then | None = None) -> None:
        """Change the job by a pure function of it; it stays as it was when its results cannot be had."""
        try:
            draft = self.timeline.propose(label, change, merge)
        except Exception as problem:
            if not isinstance(problem, JuxtumError):
                LOG.error("an edit failed", exc_info=problem)
            self.tell_failure(problem)
            return
        if draft is None:
            self.changed.emit()
            if then is not None:
                then()
            return
        if then is not None:
            self._afterwards[draft] = then
        self._derive_next()

    def edit_slowly(self, label: str, change: SlowChange, merge: str = "", then: Then | None = None) -> None:
        """Change the job by work that takes a while; edits made meanwhile stay, and its result is put on top of them."""
        self._slow.add(SlowEdit(label, change, merge, then))

    def add(self, step: Step, label: str, then: Then | None = None) -> None:
        """Add a step to the procedure."""
        self.edit(label, lambda job: job.with_step_here(step), then=then)

    def note(self, fact: Edit) -> None:
        """Put something that happened into the job at once; undo does not take it back."""
        self.timeline.note(fact)
        self.derived = replace(self.derived, job=self.timeline.settled)
        self.autosave()
        self.changed.emit()

    def undo(self) -> None:
        """Take the last edit back."""
        self._travel(self.timeline.undo, "Undone")

    def redo(self) -> None:
        """Do it again."""
        self._travel(self.timeline.redo, "Done again")

    def _travel(self, propose: Callable[[], Draft | None], word: str) -> None:
        before = self.job
        draft = propose()
        if draft is not None and draft.job.capture != before.capture and self.is_held():
            # What comes from the scanner now would belong to a capture that the job no longer holds.
            self.timeline.drop(draft)
        elif draft is not None:
            self._afterwards[draft] = lambda: self.news.emit(f"{word}: {draft.label}")
            self._derive_next()

    def _derive_next(self) -> None:
        """Have the results of the oldest proposed edit derived, one at a time."""
        if self._deriving is not None:
            return
        draft = self._deriving = self.timeline.take()
        if draft is None:
            waiting, self._when_settled = self._when_settled, []
            for callback in waiting:
                callback()
            return
        timeline, job = self.timeline, draft.job

        def done(derived: Derived) -> None:
            if timeline is not self.timeline:
                return
            self._deriving = None
            timeline.settle(draft)
            # The timeline may know of facts that came in meanwhile; they change no result.
            self._show(replace(derived, job=timeline.settled))
            then = self._afterwards.pop(draft, None)
            if then is not None:
                then()
            self._derive_next()

        def failed(problem: Exception) -> None:
            if timeline is not self.timeline:
                return
            self._deriving = None
            timeline.drop(draft)
            self._afterwards.pop(draft, None)
            self.tell_failure(problem)
            self._derive_next()

        self.workbench.ask(lambda progress: self.deriver.derive(job, progress), done, failed, Lane.EDIT)

    def compute(self, work: Callable[[Progress], T], done: Callable[[T], object]) -> None:
        """Work that changes nothing in the job, such as writing a report."""
        self.workbench.ask(work, done, self.tell_failure)

    def _show(self, derived: Derived) -> None:
        self.derived = derived
        self.autosave()
        self.changed.emit()

    def tell_failure(self, problem: Exception) -> None:
        """Say why something did not come about; stopping is no failure."""
        if isinstance(problem, Cancelled):
            self.news.emit("Stopped; the job is as it was")
        else:
            self.failed.emit(problem)
        self.changed.emit()

    def autosave(self) -> None:
        """Note the job for recovery; into its own file the user saves."""
        job, path, is_saved = self.timeline.settled, self.path, self.is_saved

        def work(_: Progress) -> None:
            if is_saved:
                self.recovery.clear()
            else:
                self.recovery.note(job, path)

        self._quietly(work, self.failed.emit)

    def start(self, job: Job, path: Path | None = None, saved: Saved | None = None, then: Then | None = None) -> None:
        """Work on another job; refused while something runs that belongs to this one.

        A job that is left without having been saved is set aside, and can be gone on with.
        """
        if self.is_held():
            return

        def done(derived: Derived) -> None:
            if self.is_held():
                return
            self._leave()
            self.timeline = Timeline(job)
            self._deriving = None
            self._afterwards.clear()
            self._when_settled.clear()
            self._slow.clear()
            self.path, self.on_disk = path, saved
            self._saved = job if saved is not None else fresh_job()
            self._show(derived)
            self.replaced.emit()
            if then is not None:
                then()

        self.workbench.ask(lambda progress: self.deriver.derive(job, progress), done, self.tell_failure, Lane.EDIT)

    def _leave(self) -> None:
        """Set the job aside that is shown now, if it holds work that is saved nowhere."""
        job, path = self.job, self.path
        if self.is_saved or not is_worth_keeping(job):
            return
        self._quietly(lambda _: self.recovery.set_aside(job, path), self.failed.emit)
        self.news.emit(f"'{job.title}' was not saved; it is kept under File > Recent jobs")

    def open(self, path: Path) -> None:
        """Open a job file."""

        def done(answer: tuple[Saved, Job]) -> None:
            self.recent.put_first(path)
            self.start(answer[1], path, answer[0])

        files, folder = self.files, inputs_folder()
        self.workbench.ask(lambda _: (as_on_disk(path), load_job(path, files, folder)), done, self.tell_failure)

    def recover(self, found: Recovered) -> None:
        """Go on with a job that was open when its program ended, or that was left without being saved."""

        def done() -> None:
            found.note.unlink(missing_ok=True)
            self.news.emit(f"'{found.job.title}' is back as it was when it was left")

        self.start(found.job, found.path, then=done)

    def settled_then(self, callback: Callable[[], None]) -> None:
        """Go on once everything that was asked for is part of the job."""
        if self.timeline.is_waiting:
            self._when_settled.append(callback)
        else:
            callback()

    def save(self, path: Path) -> None:
        """Save the job into a file, once what was asked for is part of it; the job can go on being edited."""
        save_session(self, path)

    def saved_as(self, saved: Saved, job: Job) -> None:
        """The file holds this job now."""
        self.path, self._saved, self.on_disk = saved.path, job, saved
        self.recent.put_first(saved.path)
        self.autosave()

    def discard(self) -> None:
        """Count the job as saved, so that nothing of it is kept."""
        self._saved = self.job

    def _quietly(self, work: Callable[[Progress], None], failed: Callable[[Exception], None]) -> None:
        self.workbench.ask(work, lambda _: None, failed, Lane.DISK, is_quiet=True)

    def close(self, keep: bool) -> None:
        """End: stop the workers; a job that is not saved anywhere may be kept for the next start."""
        self._autosave.stop()
        job, path = self.job, self.path
        work = (lambda _: self.recovery.note(job, path)) if keep else (lambda _: self.recovery.clear())
        self._quietly(work, lambda _: None)
        self.workbench.close()
