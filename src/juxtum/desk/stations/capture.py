"""Capture: drive the scanner, see at once what it brings, keep it."""

from __future__ import annotations

from collections.abc import Callable

from juxtum.capture.dial import tone_of
from juxtum.capture.document import CaptureRecord
from juxtum.capture.points import capture_memory
from juxtum.capture.resume import check_device, take_up
from juxtum.capture.session import CaptureSession
from juxtum.capture.snapshot import Snapshot, take_snapshot
from juxtum.desk.action import Action
from juxtum.desk.capturing.actions import capture_actions
from juxtum.desk.capturing.controls import ScannerControls
from juxtum.desk.capturing.driver import CaptureDriver, Connection
from juxtum.desk.capturing.hand import HandDriver
from juxtum.desk.capturing.hosting import Hosting
from juxtum.desk.capturing.keeping import Keeper, captured, with_scan_of_capture
from juxtum.desk.capturing.painting import CoveragePicture, skin_of
from juxtum.desk.capturing.sound import ToneSpeaker
from juxtum.desk.capturing.steps import next_step
from juxtum.desk.capturing.ways import FRAMED, Panels, Way, way_bar
from juxtum.desk.stage_view import Mode
from juxtum.desk.stations.base import Station
from juxtum.desk.stations.findings import Key
from juxtum.devices.body import Pose
from juxtum.errors import JobError, JuxtumError
from juxtum.plan.planner import Planner
from juxtum.progress import Progress
from juxtum.scene.camera import View
from juxtum.scene.capture_layers import Skin
from juxtum.scene.dress import MAP_LAYERS
from juxtum.scene.stage import Hit


class CaptureStation(Station):
    """The worksheet of Capture."""

    key = Key.CAPTURE

    def build(self) -> None:
        """Ways on top, one panel each."""
        self.driver: CaptureDriver | None = None
        self.keeper: Keeper | None = None
        self.snapshot: Snapshot | None = None
        self.hosting = Hosting(self.session)
        self.speaker = ToneSpeaker(self)
        self.hand = HandDriver(self.view, self._hand_moved)
        self.coverage = CoveragePicture(self.view)
        self.scanner = ScannerControls(self)
        self._picking: Callable[[Hit], None] | None = None
        self._turned = 0
        self._settling = False
        self.session.held_by = self._holds
        self.session.replaced.connect(self._forget)
        self.photo_map: list[list[float]] = []
        """Targets as the photos found them, for the scanner; empty when there are none."""
        self.way = Way.SCAN
        bar, self._group = way_bar(self, self.way)
        self.body.insertLayout(1, bar)
        self.devices = Panels(self)
        self.panels = self.devices.by_way
        for way, panel in self.panels.items():
            panel.setVisible(way is self.way)
            self.body.addWidget(panel)

    def own_actions(self) -> tuple[Action, ...]:
        """What can be done here."""
        return capture_actions(self)

    def show_ways(self, ways: tuple[str, ...]) -> None:
        """Turn to the first of some ways of capturing, unless one of them is shown."""
        if ways and self.way not in ways:
            self.show_way(Way(ways[0]))

    # -- what there is ----------------------------------------------------------------------------------------

    @property
    def planner(self) -> Planner | None:
        """The planner of the job."""
        return self.desk.planner

    @property
    def is_live(self) -> bool:
        """Whether a capture runs or is paused."""
        return self.driver is not None

    def show_way(self, way: Way) -> None:
        """Turn to another way of capturing."""
        self.stop_picking()
        if self.way in FRAMED and way is not self.way:
            self.view.set_pins([])
            self.desk.look_home()
        self.way = way
        for name in ("gear", "rays"):
            self.view.put(name, None)
        for each, panel in self.panels.items():
            panel.setVisible(each is way)
        for button in self._group.buttons():
            button.setChecked(button.text() == way.value)
        self.refresh()
        self.dress()

    def follow(self) -> None:
        """What the ways to capture hold belongs to this job's capture."""
        for panel in self.panels.values():
            panel.follow()

    def refresh(self) -> None:
        """Show the job and the capture as they are now."""
        self.show_next()
        for panel in self.panels.values():
            panel.show_job()

    def show_next(self) -> None:
        """What is proposed next, and what makes sense now."""
        self.next.show_action(next_step(self))
        self.desk.enable_actions()

    def _holds(self) -> JuxtumError | None:
        """Another job may not take the place of this one while points come."""
        if self.driver is None:
            return None
        return JobError("the scanner is still connected", "capture", "Disconnect it first, so that what it brings stays with its job")

    def _forget(self) -> None:
        """What belongs to another job goes."""
        self.photo_map = []
        for panel in self.panels.values():
            panel.close_all()

    # -- connecting -------------------------------------------------------------------------------------------

    def connect_device(self, then: Callable[[], None] | None = None) -> None:
        """Prepare a session and start the stand-in."""
        planner, job = self.planner, self.derived.job
        if planner is None or self.driver is not None:
            return
        if not planner.plan.targets:
            self.desk.tell("the plan has no targets yet", "capture", "Plan the targets first")
            return
        try:
            check_device(job.capture, planner.model.kind.value)
        except JuxtumError as problem:
            self.session.failed.emit(problem)
            return

        def work(progress: Progress) -> tuple[CaptureSession, Skin]:
            progress.phase("preparing the capture")
            planner.ground(progress.part(0, 0.5))
            session = CaptureSession(planner, capture_memory())
            if job.capture is not None:
                progress.phase("taking up what is captured", 0.6)
                take_up(session, job.capture, self.session.files.locate)
            if self.photo_map:
                session.give_map(self.photo_map)
            assert len(session.poses.holds) > 0
            progress.phase("preparing the picture", 0.8)
            return session, skin_of(session)

        if job.capture is not None and job.capture.seed is not None:
            self.hosting.seed = job.capture.seed

        def done(made: object) -> None:
            assert isinstance(made, tuple)
            if self.driver is not None:
                return
            self.begin(made[0], made[1], self.hosting.for_scanner(job, planner), job.capture)
            if then is not None:
                then()

        self.session.compute(work, done)

    def begin(self, session: CaptureSession, skin: Skin, connect: Callable[[], Connection], record: CaptureRecord | None) -> None:
        """Start the thread that captures."""
        self.coverage.skin = skin
        keeper = Keeper(self.session.files, self.derived.job.id, session.planner.model.kind.value, self._tell_kept)
        keeper.seed = self.hosting.seed
        self.keeper = keeper
        if record is not None:
            keeper.know(record)
        self.driver = CaptureDriver(session, connect, self)
        self.driver.keep = keeper.keep
        self.driver.told.connect(self.show_snapshot)
        self.driver.failed.connect(self._failed)
        self.driver.kept.connect(self.keep_record)
        self.driver.settled.connect(self.use_capture)
        self.driver.finished.connect(self._ended)
        self.driver.start()
        self.show_snapshot(take_snapshot(session, None))
        self.dress()

    def _tell_kept(self, record: CaptureRecord) -> None:
        if self.driver is not None:
            self.driver.kept.emit(record)

    def take_map(self, rows: list[list[float]]) -> None:
        """The photos' targets are the scanner's map from now on; what was captured in another one must be let go first."""
        record = self.derived.job.capture
        if self.driver is not None or (record is not None and record.patches):
            what = "points were captured already, in a map of their own" if self.driver is None else "the scanner is connected and has a map of its own"
            self.desk.tell(what, "photos", "Disconnect the scanner and start a new capture, then give it the photos' targets")
            return
        self.photo_map = rows

    def disconnect_device(self) -> None:
        """Let the device go; what was captured stays in the job."""
        if self.driver is None:
            return
        self.hand.put_down()
        self.speaker.silence()
        self.driver.end()

    def _ended(self) -> None:
        driver, self.driver = self.driver, None
        if driver is not None:
            driver.close()
            # Its parent is the station, which would keep it and all its points.
            driver.deleteLater()
        self.snapshot = self.hand.snapshot = None
        self.view.handles = None
        self.hosting.close()
        self.refresh()
        self.dress()
        self.desk.enable_actions()

    def start_anew(self) -> None:
        """Take the capture out of the job, which can be undone; patches stay on disk as long as the job names them."""
        if self.driver is None and self.session.job.capture is not None:
            self.session.edit("new capture", lambda job: job.model_copy(update={"capture": None}))
            self.dress()

    def reconnect(self) -> None:
        """After the device was lost."""
        if self.driver is not None:
            self.driver.reconnect()

    def _failed(self, problem: object) -> None:
        self.session.failed.emit(problem)

    def keep_record(self, record: object) -> None:
        """A patch was kept: the job has it, in every state that undo can bring back."""
        assert isinstance(record, CaptureRecord)
        self.session.note(captured(record))

    # -- while it runs ----------------------------------------------------------------------------------------

    def show_snapshot(self, snapshot: Snapshot) -> None:
        """Show a moment: dial, facts, points, and now and then the coverage."""
        if self.driver is None:
            return
        before, self.snapshot = self.snapshot, snapshot
        self.hand.snapshot = snapshot
        self.speaker.play(tone_of(snapshot.dial))
        self.desk.show_floor(snapshot)
        if not self.is_here:
            return
        self.panels[self.way].show_snapshot(snapshot)
        if before is None or before.state is not snapshot.state or len(before.patches) != len(snapshot.patches) or before.view is not snapshot.view:
            self.show_next()
        if snapshot.position != self._turned:
            self._turned = snapshot.position
            self.view.look_from(View.BELOW if snapshot.position else View.CORNER)
        if self.driver.is_moving:
            self.view.stay_soft()
        self.coverage.draw(snapshot)
        self.view.update()

    def _hand_moved(self, pose: Pose | None) -> None:
        if self.driver is not None:
            self.driver.hold(pose)
        elif pose is not None:
            self.panels[self.way].pointed(self.hand)

    def hold_scanner(self) -> None:
        """Take the scanner into the hand, or put it down."""
        planner = self.planner
        if self.hand.is_holding:
            self.hand.put_down()
        elif planner is not None and self.driver is not None:
            self.driver.stop_plan()
            shot = self.snapshot
            if shot is None or not any(p.is_running for p in shot.patches):
                self.driver.do(lambda session: session.begin())
            self.hand.take_up(planner.nominal, planner.mode if shot is None else shot.mode)
        self.refresh()

    def run_plan(self) -> None:
        """Let the plan's path run, or stop it."""
        if self.driver is None:
            self.connect_device(then=self.run_plan)
        elif self.driver.runs_by_itself:
            self.driver.stop_plan()
        else:
            self.hand.put_down()
            self.driver.run_plan()
        self.refresh()

    def stop_patch(self) -> None:
        """Stop the patch that runs; it is kept."""
        if self.driver is not None:
            self.driver.stop_plan()
            self.driver.do(lambda session: session.accept())
            self.hand.put_down()

    # -- picking ----------------------------------------------------------------------------------------------

    def start_picking(self, caption: str, picked: Callable[[Hit], None]) -> None:
        """Let the next click on the part mean something."""
        self.hand.put_down()
        self._picking = picked
        self.view.set_mode(Mode.PICK, caption)

    def stop_picking(self) -> None:
        """Clicks mean nothing any more."""
        self._picking = None
        self.view.set_mode(Mode.LOOK)

    def picked(self, hit: Hit) -> None:
        """A click on the part."""
        if self._picking is not None:
            self._picking(hit)
        else:
            self.panels[self.way].clicked(hit)

    def escape(self) -> None:
        """Put down what is held."""
        if self.desk.is_floor:
            self.desk.toggle_floor()
        self.stop_picking()
        self.hand.put_down()
        self.refresh()

    # -- the scan of it ---------------------------------------------------------------------------------------

    def use_capture(self) -> None:
        """Make one surface of all patches and take it for the job's scan."""
        if self.driver is not None and not self._settling:
            self.hand.put_down()
            self._settling = True
            self.driver.settle()
            return
        self._settling = False
        if self.session.job.capture is None:
            return

        files = self.session.files
        self.session.edit_slowly("scan from the capture", lambda job, progress: with_scan_of_capture(job, files, progress), then=self.desk.show_scan)

    # -- the stage --------------------------------------------------------------------------------------------

    def enter(self) -> None:
        """The part with its coverage."""
        self.desk.cover_ledger()
        super().enter()
        self.view.handles = self.hand

    def leave(self) -> None:
        """Give the stage back; a capture goes on only while it is looked at."""
        self.stop_picking()
        self.hand.put_down()
        if self.driver is not None:
            self.driver.stop_plan()
        self.speaker.silence()
        super().leave()
        self.view.handles = None
        self.desk.uncover_ledger()
        self.coverage.clear()
        for name in ("ghost", "gear", "rays"):
            self.view.put(name, None)

    def dress(self) -> None:
        """Coverage on the part, or the part alone before anything runs."""
        if not self.is_here:
            return
        d, view = self.derived, self.view
        for name in (*MAP_LAYERS, "scan", "section scan"):
            view.put(name, None)
        view.set_legend(None, None)
        view.set_readings(())
        view.handles = self.hand
        self.hand.snapshot = self.snapshot
        view.put("edges", d.part_edges)
        if self.snapshot is not None and self.coverage.skin is not None:
            view.put("nominal", None)
            view.put("ghost", d.part_surface)
            self.coverage.draw_anew(self.snapshot)
        else:
            self.coverage.clear()
            view.put("ghost", None)
            view.put("nominal", d.part_surface)
        self.panels[self.way].dress()

    def show_large(self, is_large: bool) -> None:
        """Whether what is drawn over the stage has to be read from far away."""
        self.hand.is_large = is_large
        if is_large and self.snapshot is not None:
            self.desk.show_floor(self.snapshot)

    def close_all(self) -> None:
        """The window closes: what runs is accepted and kept first."""
        driver = self.driver
        if driver is not None:
            driver.end()
            driver.end()
            driver.join()
            if self.keeper is not None and self.keeper.record is not None:
                # What the thread told last waits for an event loop that does not run any more.
                self.keep_record(self.keeper.record)
            self._ended()
        for panel in self.panels.values():
            panel.close_all()
