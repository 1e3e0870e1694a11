"""Bringing files into the job, and taking jobs, procedures and reports out of it."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

from PyQt6.QtWidgets import QWidget

from juxtum.desk.action import Action
from juxtum.desk.asking import NOMINAL_SUFFIXES, SCAN_SUFFIXES, Asking, NominalDialog, UnitDialog, look_at
from juxtum.desk.demos import bring_drawing, open_demo
from juxtum.desk.handing_out import hand_out_procedure, hand_out_surface
from juxtum.desk.session import fresh_job
from juxtum.desk.stations.assemble import carried_over_words
from juxtum.errors import InputError, JuxtumError
from juxtum.exchange.cad import CAD_SUFFIXES
from juxtum.exchange.meshes import MeshFile
from juxtum.guide.findings import Key
from juxtum.job import InputFile, Job
from juxtum.job.planning import with_foreign_scan
from juxtum.job.revision import faces_named, named_fingerprints, revised
from juxtum.job.runner import Runner
from juxtum.job.store import SUFFIX
from juxtum.job.touching import touches_in
from juxtum.progress import Progress
from juxtum.units import Unit

GONE = "What a probe touched belonged to what was here before, and was taken out"

if TYPE_CHECKING:
    from juxtum.desk.desk import Desk


class Bringing:
    """What the desk does with files.

    Parameters
    ----------
    parent : QWidget
        Over which questions are put.
    """

    def __init__(self, desk: Desk, parent: QWidget, asking: Asking) -> None:
        self._desk, self._parent, self._asking = desk, parent, asking
        self._session = desk.session

    def own_actions(self) -> tuple[Action, ...]:
        """Jobs, nominals, scans, procedures."""
        session = self._session
        return (
            Action("new", "New job", "File/1", self.new_job, "Ctrl+N", "file-plus", "Start with nothing"),
            Action("open", "Open job\u2026", "File/1", self.ask_open, "Ctrl+O", "folder-open", "Open a .juxtum file"),
            Action("open demo", "Open the demo job", "File/Demo jobs/1", self.open_demo, "", "sparkles", "BC-220 bearing carrier with its scan"),
            Action("open demo beam", "Open the demo beam", "File/Demo jobs/1", lambda: self.open_demo("HB-36"), "", "sparkles",
                   "HB-36 sluice hinge beam, to be planned"),
            Action("open demo pieces", "Open the demo in pieces", "File/Demo jobs/1", lambda: self.open_demo("pieces"), "", "sparkles",
                   "BC-220 scanned in six pieces, to be joined"),
            Action("open demo tray", "Open the demo tray", "File/Demo jobs/1", lambda: self.open_demo("VC-8"), "", "sparkles",
                   "Eight VC-8 clips in one scan, told apart and measured by one procedure"),
            Action("open demo shaft", "Open the demo shaft", "File/Demo jobs/1", lambda: self.open_demo("PS-14"), "", "sparkles",
                   "PS-14, a turned shaft measured from the axis of both its journals"),
            Action("save", "Save", "File/2", self.save, "Ctrl+S", "save", "Save the job into its file"),
            Action("save as", "Save as\u2026", "File/2", self.ask_save, "Ctrl+Shift+S", "save"),
            Action("export procedure", "Export the procedure\u2026", "File/2", self.ask_procedure, "", "scroll-text",
                   "Steps as JSON, to be replayed on other scans", lambda: session.derived.nominal is not None),
            Action("export surface", "Export the surface\u2026", "Job/Assemble/3", self.ask_surface, "", "download",
                   "STL, OBJ, PLY or 3MF, where the part lies in its alignment; read back and compared",
                   lambda: session.derived.scan is not None),
            Action("bring nominal", "Import CAD model\u2026", "File/3", self.ask_nominal, "Ctrl+Shift+N", "import",
                   "STEP, IGES, STL, PLY, OBJ, OFF or 3MF"),
            Action("bring scan", "Import scan\u2026", "File/3", self.ask_scan, "Ctrl+Shift+I", "scan-line", "STL, PLY, OBJ, 3MF, OFF, XYZ or CSV"),
            Action("bring drawing", "Import drawing\u2026", "Job/Brief/2", self.ask_drawing, "", "scroll-text",
                   "Its characteristics as a table, see docs/drawing-format.md", lambda: session.derived.nominal is not None),
            Action("demo drawing", "Take the demo part's drawing", "Job/Brief/2", self.demo_drawing, "", "scroll-text",
                   "Twenty-eight characteristics of BC-220", lambda: "BC-220" in session.job.brief.part),
            Action("add scan", "Add another scan\u2026", "File/3", self.ask_further_scan, "", "scan-line",
                   "Beside the scan in force; the procedure is then carried out on it", lambda: bool(session.job.scans)),
        )  # fmt: skip

    def bring(self, paths: list[Path]) -> None:
        """Take files to where they belong, one after another: CAD first, so that a scan beside it finds its nominal."""
        waiting = sorted(paths, key=lambda p: p.suffix.lower() not in CAD_SUFFIXES)
        are_scans = len(waiting) > 1 and all(p.suffix.lower() in SCAN_SUFFIXES for p in waiting)
        if are_scans and self._session.job.nominal is None and not self._session.job.scans:
            self._bring_unnamed(waiting)
        elif are_scans:
            self.several_scans(waiting)
        elif waiting:
            self._bring_one(waiting[0], lambda: self.bring(waiting[1:]))

    def _bring_unnamed(self, paths: list[Path]) -> None:
        """Several meshes to a job that has nothing yet: one of them may be the nominal."""
        dialog = NominalDialog(self._parent, paths)
        if not dialog.exec():
            return
        if (chosen := dialog.nominal) is None:
            self.several_scans(paths)
        else:
            self.nominal(chosen, lambda: self.bring([path for path in paths if path != chosen]))

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
                InputError(
                    f"'{suffix or path.name}' files are not read",
                    str(path),
                    "Bring a job, CAD, a mesh or a list of points",
                )
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
                made, notes = _on_revision(self._session.runner, job, made, progress)
                told.extend(notes)
                told.extend(_gone(job, made))
                return made

            def done() -> None:
                self._desk.look_home()
                if told:
                    self._desk.announce(" ".join(f"{note}." for note in told))
                then()

            self._session.edit_slowly(f"bring nominal {path.name}", change, then=done)

        self._with_unit(path, 0.0, take)

    def scan(self, path: Path, then: Callable[[], None] = lambda: None) -> None:
        """Make a file the scan in force; ask for its unit when it names none."""
        self._scan(path, then, lambda job, file: job.with_scan(file))

    def further_scan(self, path: Path) -> None:
        """Put a scan to those that the job has, and carry the procedure out on it."""

        def add(job: Job, file: InputFile) -> Job:
            more = job.with_further(file) if job.scans else job.with_scan(file)
            return more if more.join_in_force is not None else more.on_scan(more.scans[-1].name)

        def told() -> None:
            if picked:
                self._desk.announce(carried_over_words(picked))

        picked = self._session.job.picked_for("")
        self._scan(path, told, add)

    def several_scans(self, paths: list[Path]) -> None:
        """Put several scans to those that the job has; a unit that is asked for counts for all of them."""

        def add(job: Job, file: InputFile) -> Job:
            for other in paths:
                unit = file.unit if other != paths[0] else None
                job = job.with_further(file if other == paths[0] else self._session.files.adopt(other, unit))
            return job

        def told() -> None:
            self._desk.announce(f"{len(self._session.job.scans)} scans are here: clean them, then join them.")

        self._scan(paths[0], told, add)

    def _scan(self, path: Path, then: Callable[[], None], put: Callable[[Job, InputFile], Job]) -> None:
        def take(unit: Unit | None) -> None:
            told: list[str] = []

            def change(job: Job, _: Progress) -> Job:
                made = with_foreign_scan(put(job, self._session.files.adopt(path, unit)))
                told.extend(f"{words}." for words in _gone(job, made))
                return made

            def done() -> None:
                self._desk.go(Key.ASSEMBLE)
                self._desk.look_home()
                for words in told:
                    self._desk.announce(words)
                then()

            self._session.edit_slowly(f"bring scan {path.name}", change, then=done)

        nominal = self._session.derived.nominal
        self._with_unit(path, nominal.diagonal if nominal else 0.0, take)

    def _with_unit(self, path: Path, reference: float, take: Callable[[Unit | None], None]) -> None:
        def done(answer: object) -> None:
            if not isinstance(answer, MeshFile) or answer.unit is not None:
                take(None)
                return
            dialog = UnitDialog(self._parent, path.name, answer, reference)
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
        path = self._asking.target(f"{name}{SUFFIX}")
        if path is not None:
            self._session.save(path)

    def ask_procedure(self) -> None:
        """Ask where, then write the procedure beside a copy of its nominal."""
        hand_out_procedure(self._desk, self._asking.procedure())

    def ask_surface(self) -> None:
        """Ask where, then hand out the surface as the part lies in the alignment in force."""
        title = self._session.job.title.replace("/", "-")
        hand_out_surface(self._desk, self._asking.surface(f"{title}.ply"))

    def new_job(self) -> None:
        """Start with nothing."""
        self._session.start(fresh_job(), then=lambda: self._desk.look_home())

    def open_demo(self, part: str = "BC-220") -> None:
        """A demo job; the scan of BC-220 is made on first use."""
        open_demo(self._desk, part)

    def ask_open(self) -> None:
        """Ask for a job and open it."""
        if (path := self._asking.job()) is not None:
            self._session.open(path)

    def ask_nominal(self) -> None:
        """Ask for a nominal and bring it."""
        if (path := self._asking.nominal()) is not None:
            self.nominal(path)

    def ask_drawing(self) -> None:
        """Ask for a drawing's table and take its characteristics."""
        if (path := self._asking.drawing()) is not None:
            self.drawing(path)

    def drawing(self, path: Path) -> None:
        """Take the characteristics of a drawing in place of those that there are."""
        bring_drawing(self._desk, path)

    def demo_drawing(self) -> None:
        """Take the characteristics of BC-220 as its drawing has them."""
        from juxtum.demo.world import drawing_path

        self.drawing(drawing_path())

    def ask_scan(self) -> None:
        """Ask for a scan and bring it."""
        found = self._asking.scans()
        if len(found) > 1:
            self.several_scans(found)
        elif found:
            self.scan(found[0])

    def ask_further_scan(self) -> None:
        """Ask for a scan and put it to those of the job."""
        found = self._asking.scans()
        if len(found) > 1:
            self.several_scans(found)
        elif found:
            self.further_scan(found[0])


def _gone(before: Job, after: Job) -> tuple[str, ...]:
    """A word where what was touched went with what it belonged to."""
    return (GONE,) if touches_in(before) and not touches_in(after) else ()


def _on_revision(runner: Runner, before: Job, made: Job, progress: Progress) -> tuple[Job, tuple[str, ...]]:
    """Where a nominal takes the place of another one, whatever names a face finds it again."""
    if before.nominal is None or before.nominal == made.nominal or not faces_named(before):
        return made, ()
    try:
        known = named_fingerprints(before, runner.nominal(before, progress))
    except JuxtumError:
        return made, (
            "The nominal before it could not be read: see whether every characteristic and datum has the right faces",
        )
    return revised(made, known, runner.nominal(made, progress))
