"""Capture: drive the scanner, see at once what it brings, keep it."""

from __future__ import annotations

from collections.abc import Callable

from juxtum.capture.live.dial import sound_of
from juxtum.capture.live.session import CaptureSession
from juxtum.capture.live.snapshot import Snapshot, take_snapshot
from juxtum.desk.action import Action
from juxtum.desk.capturing.actions import capture_actions
from juxtum.desk.capturing.controls import ScannerControls
from juxtum.desk.capturing.driver import CaptureDriver
from juxtum.desk.capturing.hand import HandDriver
from juxtum.desk.capturing.linking import Linking
from juxtum.desk.capturing.painting import CoveragePicture
from juxtum.desk.capturing.sound import ToneSpeaker
from juxtum.desk.capturing.steps import DENSE_SLACK, SLACK, next_step
from juxtum.desk.capturing.ways import FRAMED, Panels, Way, way_bar
from juxtum.desk.stage_pointer import Mode
from juxtum.desk.stations.base import Station
from juxtum.devices.body import Pose
from juxtum.guide.findings import Key
from juxtum.plan.planner import Planner
from juxtum.scene.camera import View
from juxtum.scene.capture_layers import Skin
from juxtum.scene.map_layers import MAP_LAYERS
from juxtum.scene.picking import Hit


class CaptureStation(Station):
    """The worksheet of Capture."""

    key = Key.CAPTURE

    def build(self) -> None:
        """Ways on top, one panel each."""
        self.link, self.scanner = Linking(self.desk, self), ScannerControls(self)
        self.snapshot: Snapshot | None = None
        self.speaker = ToneSpeaker(self)
        self.hand = HandDriver(self.view, self._hand_moved)
        self.coverage = CoveragePicture(self.view)
        self._picking: Callable[[Hit], None] | None = None
        self._turned = 0
        self.link.begun.connect(self._begun)
        self.link.ended.connect(self._ended)
        self.link.told.connect(self.show_snapshot)
        self.link.settled.connect(self.scanner.use_capture)
        self.session.replaced.connect(self._close_panels)
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

    # -- connected or not -------------------------------------------------------------------------------------

    @property
    def driver(self) -> CaptureDriver | None:
        """The thread that captures; None while nothing is connected."""
        return self.link.driver

    def _begun(self, session: CaptureSession, skin: Skin) -> None:
        self.coverage.skin = skin
        session.sieve = self.scanner.sieve
        self.show_snapshot(take_snapshot(session, None))
        self.dress()

    def _ended(self) -> None:
        self.snapshot = self.hand.snapshot = self.coverage.promised = None
        self.view.handles = None
        self.refresh()
        self.dress()

    def _close_panels(self) -> None:
        for panel in self.panels.values():
            panel.close_all()

    # -- while it runs ----------------------------------------------------------------------------------------

    def show_snapshot(self, snapshot: Snapshot) -> None:
        """Show a moment: dial, facts, points, and now and then the coverage."""
        if self.driver is None:
            return
        before, self.snapshot = self.snapshot, snapshot
        self.hand.snapshot = snapshot
        done = snapshot.one_pass >= snapshot.goal - SLACK and snapshot.coverage >= snapshot.goal - DENSE_SLACK
        self.speaker.play(sound_of(snapshot.dial, (snapshot.targets, snapshot.needed), is_done=done))
        self.desk.show_floor(snapshot)
        if not self.is_here:
            return
        self.panels[self.way].show_snapshot(snapshot)
        if (
            before is None
            or before.state is not snapshot.state
            or len(before.patches) != len(snapshot.patches)
            or before.view is not snapshot.view
        ):
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
        self.link.close()
        self._close_panels()
