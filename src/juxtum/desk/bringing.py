"""Bringing files into the job, and taking jobs, procedures and reports out of it."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

from juxtum.desk.asking import NOMINAL_SUFFIXES, SCAN_SUFFIXES, Asking, UnitDialog, look_at
from juxtum.desk.session import fresh_job
from juxtum.errors import InputError, JuxtumError
from juxtum.exchange.cad import CAD_SUFFIXES
from juxtum.exchange.meshes import MeshFile
from juxtum.job import InputFile, Job
from juxtum.job.files import content_hash
from juxtum.job.planning import with_foreign_scan
from juxtum.job.revision import faces_named, named_fingerprints, revised
from juxtum.job.store import SUFFIX, save_procedure
from juxtum.progress import Progress
from juxtum.units import Unit

if TYPE_CHECKING:
    from juxtum.desk.window import MainWindow


class Bringing:
    """What the window does with files."""

    def __init__(self, window: MainWindow) -> None:
        self._window = window
        self._session = window.session
        self.asking = Asking(window, window.session)

    def bring(self, paths: list[Path]) -> None:
        """Take files to where they belong, one after another: CAD first, so that a scan beside it finds its nominal."""
        waiting = sorted(paths, key=lambda p: p.suffix.lower() not in CAD_SUFFIXES)
        if waiting:
            self._bring_one(waiting[0], lambda: self.bring(waiting[1:]))

    def _bring_one(self, path: Path, then: Callable[[], None]) -> None:
        """A job is opened, CAD is the nominal, a mesh is the scan once there is a nominal."""
        suffix = path.suffix.lower()
        if suffix == SUFFIX:
            self._session.open(path)
        elif suffix in CAD_SUFFIXES or (suffix in NOMINAL_SUFFIXES and self._session.job.nominal is None):
            self.nominal(path, then)
        elif suffix in SCAN_SUFFIXES:
            self.scan(path, then)
        else:
            self._session.failed.emit(
                InputError(f"'{suffix or path.name}' files are not read", str(path), "Bring a job, CAD, a mesh or a list of points")
            )

    def nominal(self, path: Path, then: Callable[[], None] = lambda: None) -> None:
        """Make a file the nominal; ask for its unit when it names none."""
        if self._session.is_held():
            return

        def take(unit: Unit | None) -> None:
            told: list[str] = []

            def change(job: Job, progress: Progress) -> Job:
                part = job.brief.part or path.stem
                brief = job.brief.model_copy(update={"part": part})
                made = job.with_nominal(self._session.files.adopt(path, unit)).model_copy(update={"brief": brief})
                made, notes = self._on_revision(job, made, progress)
                told.extend(notes)
                return made

            def done() -> None:
                self._window.look_home()
                if told:
                    self._window.announce(" ".join(f"{note}." for note in told))
                then()

            self._session.edit_slowly(f"bring nominal {path.name}", change, then=done)

        self._with_unit(path, 0.0, take)

    def _on_revision(self, before: Job, made: Job, progress: Progress) -> tuple[Job, tuple[str, ...]]:
        """Where a nominal takes the place of another one, whatever names a face finds it again."""
        if before.nominal is None or before.nominal == made.nominal or not faces_named(before):
            return made, ()
        runner = self._session.runner
        try:
            known = named_fingerprints(before, runner.nominal(before, progress))
        except JuxtumError:
            return made, ("The nominal before it could not be read: see whether every characteristic and datum has the right faces",)
        return revised(made, known, runner.nominal(made, progress))

    def scan(self, path: Path, then: Callable[[], None] = lambda: None) -> None:
        """Make a file the scan in force; ask for its unit when it names none."""
        self._scan(path, then, lambda job, file: job.with_scan(file))

    def further_scan(self, path: Path) -> None:
        """Put a scan to those that the job has, and carry the procedure out on it."""

        def add(job: Job, file: InputFile) -> Job:
            more = job.with_further(file) if job.scans else job.with_scan(file)
            return more.on_scan(more.scans[-1].name)

        self._scan(path, lambda: None, add)

    def _scan(self, path: Path, then: Callable[[], None], put: Callable[[Job, InputFile], Job]) -> None:
        def take(unit: Unit | None) -> None:
            def change(job: Job, _: Progress) -> Job:
                return with_foreign_scan(put(job, self._session.files.adopt(path, unit)))

            def done() -> None:
                self._window.show_scan()
                then()

            self._session.edit_slowly(f"bring scan {path.name}", change, then=done)

        nominal = self._session.derived.nominal
        self._with_unit(path, nominal.diagonal if nominal else 0.0, take)

    def _with_unit(self, path: Path, reference: float, take: Callable[[Unit | None], None]) -> None:
        def done(answer: object) -> None:
            if not isinstance(answer, MeshFile) or answer.unit is not None:
                take(None)
                return
            dialog = UnitDialog(self._window, path.name, answer, reference)
            if dialog.exec():
                take(dialog.unit)

        self._session.compute(lambda progress: look_at(path, progress), done)

    def save(self) -> None:
        """Save into the job's file, or ask for one."""
        if self._session.path is None:
            self.ask_save()
        else:
            self._session.save(self._session.path)

    def ask_save(self) -> None:
        """Ask where, then save."""
        brief = self._session.job.brief
        name = " ".join(w for w in (self._session.job.title, brief.serial) if w).replace("/", "-")
        path = self.asking.target(f"{name}{SUFFIX}")
        if path is not None:
            self._session.save(path)

    def ask_procedure(self) -> None:
        """Ask where, then write the procedure beside a copy of its nominal."""
        path = self.asking.procedure()
        nominal = self._session.job.nominal
        if path is None or nominal is None:
            return
        target = path if path.suffix else path.with_suffix(".json")
        job, place = self._session.job, self._session.files.locate(nominal)

        def work(_: object) -> None:
            import shutil

            copy = target.with_name(nominal.name)
            if copy.exists() and content_hash(copy) != nominal.sha256:
                copy = copy.with_name(f"{copy.stem} {nominal.sha256[:8]}{copy.suffix}")
            if not copy.exists():
                shutil.copyfile(place, copy)
            save_procedure(job, target, copy, named_fingerprints(job, self._session.runner.nominal(job)))

        self._session.compute(work, lambda _: self._window.announce(f"The procedure is in {target}"))

    def new_job(self) -> None:
        """Start with nothing."""
        self._session.start(fresh_job(), then=lambda: self._window.look_home())

    def open_demo(self, part: str = "BC-220") -> None:
        """A demo job; the scan of BC-220 is made on first use."""
        from juxtum.demo.beam_job import beam_job
        from juxtum.demo.capture import with_capture
        from juxtum.demo.job import demo_job

        if part == "HB-36":
            self._session.compute(lambda _: beam_job(self._session.files), lambda job: self._start(job))
            return
        self._session.compute(
            lambda progress: with_capture(demo_job(self._session.files, progress), self._session.files, progress), lambda job: self._start(job)
        )

    def _start(self, job: object) -> None:
        assert isinstance(job, Job)
        self._session.start(job, then=self._window.look_home)

    def ask_open(self) -> None:
        """Ask for a job and open it."""
        if (path := self.asking.job()) is not None:
            self._session.open(path)

    def ask_nominal(self) -> None:
        """Ask for a nominal and bring it."""
        if (path := self.asking.nominal()) is not None:
            self.nominal(path)

    def ask_scan(self) -> None:
        """Ask for a scan and bring it."""
        if (path := self.asking.scan()) is not None:
            self.scan(path)

    def ask_further_scan(self) -> None:
        """Ask for a scan and put it to those of the job."""
        if (path := self.asking.scan()) is not None:
            self.further_scan(path)

    def ask_sheet(self) -> None:
        """Ask for a folder and write the set-up sheet."""
        if (path := self.asking.folder()) is not None:
            self._window.plan.papers.write_sheet(path)

    def ask_instrument(self) -> None:
        """Ask for an instrument document and plan with it."""
        if (path := self.asking.instrument()) is not None:
            self._window.plan.papers.load_instrument(path)

    def ask_instrument_copy(self) -> None:
        """Ask where the instrument's document goes and write it."""
        if (path := self.asking.instrument_copy(f"{self._window.plan.plan.instrument.id}.json")) is not None:
            self._window.plan.papers.save_instrument(path)

    def ask_report(self) -> None:
        """Ask for a folder and write the report."""
        if (path := self.asking.folder()) is not None:
            self._window.report.write(path)
