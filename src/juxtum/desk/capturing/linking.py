"""The link to the scanner: the thread that captures, what it brings into the job, and how it ends."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import TYPE_CHECKING

from PyQt6.QtCore import QObject, pyqtSignal

from juxtum.capture.kept.document import CaptureRecord
from juxtum.capture.kept.resume import check_device, take_up
from juxtum.capture.live.points import capture_memory
from juxtum.capture.live.session import CaptureSession
from juxtum.desk.capturing.driver import CaptureDriver, Connection
from juxtum.desk.capturing.hosting import Hosting
from juxtum.desk.capturing.keeping import Keeper, captured
from juxtum.desk.desk import Desk
from juxtum.errors import JobError, JuxtumError
from juxtum.plan.planner import Planner
from juxtum.progress import Progress
from juxtum.scene.capture_layers import Skin

if TYPE_CHECKING:
    from juxtum.logbook.captures import CaptureEntry


class Linking(QObject):
    """Connects the scanner, keeps what it brings, and lets it go.

    Signals
    -------
    begun : CaptureSession, Skin
        A capture begins.
    ended
        The scanner was let go.
    told : Snapshot
        A moment of the capture.
    settled
        Everything that was captured is kept.
    """

    begun = pyqtSignal(object, object)
    ended = pyqtSignal()
    told = pyqtSignal(object)
    settled = pyqtSignal()

    def __init__(self, desk: Desk, parent: QObject) -> None:
        super().__init__(parent)
        self._desk, self._session = desk, desk.session
        self.driver: CaptureDriver | None = None
        self.hosting = Hosting(self._session)
        self.photo_map: list[list[float]] = []
        """Targets as the photos found them, for the scanner; empty when there are none."""
        self._keeper: Keeper | None = None
        self._session.held_by = self._holds
        self._session.replaced.connect(self._forget)

    def _holds(self) -> JuxtumError | None:
        """Another job may not take the place of this one while points come."""
        if self.driver is None:
            return None
        return JobError(
            "the scanner is still connected",
            "capture",
            "Disconnect it first, so that what it brings stays with its job",
        )

    def _forget(self) -> None:
        self.photo_map = []

    def connect_device(self, then: Callable[[], None] | None = None) -> None:
        """Prepare a session and start the stand-in."""
        planner, job = self._desk.planner, self._session.derived.job
        if planner is None or self.driver is not None:
            return
        if not planner.plan.is_tracked:
            self._desk.tell("the plan has no targets yet", "capture", "Plan the targets first")
            return
        try:
            check_device(job.capture, planner.model.kind.value)
        except JuxtumError as problem:
            self._session.failed.emit(problem)
            return

        if job.capture is not None and job.capture.seed is not None:
            self.hosting.seed = job.capture.seed

        try:
            connect = self.hosting.for_scanner(job, planner)
        except JuxtumError as problem:
            self._session.failed.emit(problem)
            return

        def done(made: tuple[CaptureSession, Skin]) -> None:
            if self.driver is not None:
                return
            self.begin(*made, connect, job.capture)
            if then is not None:
                then()

        self._session.compute(partial(self._prepared, planner, job.capture), done)

    def _prepared(
        self, planner: Planner, record: CaptureRecord | None, progress: Progress
    ) -> tuple[CaptureSession, Skin]:
        """A session that goes on with what is captured, and its picture."""
        from juxtum.desk.capturing.painting import skin_of

        progress.phase("preparing the capture")
        planner.ground(progress.part(0, 0.5))
        session = CaptureSession(planner, capture_memory())
        if record is not None:
            progress.phase("taking up what is captured", 0.6)
            take_up(session, record, self._session.files.locate)
        if self.photo_map:
            session.map.give(self.photo_map)
        assert len(session.poses.holds) > 0
        progress.phase("preparing the picture", 0.8)
        return session, skin_of(session)

    def begin(
        self, session: CaptureSession, skin: Skin, connect: Callable[[], Connection], record: CaptureRecord | None
    ) -> None:
        """Start the thread that captures."""
        keeper = Keeper(
            self._session.files, self._session.derived.job.id, session.planner.model.kind.value, self._tell_kept
        )
        keeper.seed = self.hosting.seed
        self._keeper = keeper
        if record is not None:
            keeper.know(record)
        self.driver = CaptureDriver(session, connect, self)
        self.driver.keep = keeper.keep
        self.driver.told.connect(self.told)
        self.driver.failed.connect(self._session.failed)
        self.driver.kept.connect(self.keep_record)
        self.driver.settled.connect(self.settled)
        self.driver.finished.connect(self._ended)
        self.driver.start()
        self.begun.emit(session, skin)

    def _tell_kept(self, record: CaptureRecord) -> None:
        if self.driver is not None:
            self.driver.kept.emit(record)

    def keep_record(self, record: object) -> None:
        """A patch was kept: the job has it, in every state that undo can bring back."""
        assert isinstance(record, CaptureRecord)
        self._session.note(captured(record))

    def take_map(self, rows: list[list[float]]) -> None:
        """The photos' targets are the scanner's map from now on; what was captured in another one must be let go first."""
        record = self._session.derived.job.capture
        if self.driver is not None or (record is not None and record.patches):
            what = (
                "points were captured already, in a map of their own"
                if self.driver is None
                else "the scanner is connected and has a map of its own"
            )
            self._desk.tell(
                what, "photos", "Disconnect the scanner and start a new capture, then give it the photos' targets"
            )
            return
        self.photo_map = rows

    def start_anew(self) -> bool:
        """Take the capture out of the job, which can be undone; whether there was one.

        Patches stay on disk as long as the job names them.
        """
        if self.driver is not None or self._session.job.capture is None:
            return False
        self._session.edit("new capture", lambda job: job.model_copy(update={"capture": None}))
        return True

    def reconnect(self) -> None:
        """After the device was lost."""
        if self.driver is not None:
            self.driver.reconnect()

    def _ended(self) -> None:
        driver, self.driver = self.driver, None
        if driver is not None:
            self._write_down(driver.session.planner)
            driver.close()
            # Its parent would keep it and all its points.
            driver.deleteLater()
        self.hosting.close()
        self.ended.emit()

    def _write_down(self, planner: Planner) -> None:
        """How long it took goes into the logbook: later plans count with it."""
        record, job = self._keeper.record if self._keeper is not None else None, self._session.job
        if record is None or record.stand_in:
            return
        shop = self._desk.shop

        def write(entry: CaptureEntry | None) -> None:
            from juxtum.logbook.captures import write_capture

            # Another job may have another logbook: what was captured for this one is not written into that.
            if shop.book is None or entry is None or self._session.job.id != job.id:
                return
            try:
                write_capture(shop.book, planner.model, entry)
                shop.look_again()
            except JuxtumError as problem:
                self._session.failed.emit(problem)

        def timed(_: Progress) -> CaptureEntry | None:
            from juxtum.logbook.captures import entry_of

            return entry_of(job, planner, record)

        shop.open(lambda: self._session.compute(timed, write))

    def close(self) -> None:
        """The window closes: what runs is accepted and kept first."""
        driver = self.driver
        if driver is None:
            return
        driver.end()
        driver.end()
        driver.join()
        if self._keeper is not None and self._keeper.record is not None:
            # What the thread told last waits for an event loop that does not run any more.
            self.keep_record(self._keeper.record)
        self._ended()
