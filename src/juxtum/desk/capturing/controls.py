"""What the person with the scanner can tell it."""

from __future__ import annotations

from functools import partial
from typing import TYPE_CHECKING

from juxtum.capture.live.patch import State, Zone
from juxtum.capture.live.promised import Promise, hold_against
from juxtum.capture.live.sieve import Sieve
from juxtum.desk.capturing.driver import turn_over
from juxtum.desk.capturing.hand import AGAINST, COVERED
from juxtum.desk.capturing.keeping import with_scan_of_capture
from juxtum.desk.capturing.scan_panel import ScanPanel
from juxtum.desk.capturing.ways import Way
from juxtum.devices.protocol import Message
from juxtum.guide.findings import Key
from juxtum.progress import Progress
from juxtum.scene.picking import Hit

if TYPE_CHECKING:
    from juxtum.desk.stations.capture import CaptureStation


class ScannerControls:
    """Hold, pause, light, mode, patches, zones and targets, the plan's path, and the surface of it all."""

    def __init__(self, station: CaptureStation) -> None:
        self._station = station
        self._settling = False
        self.sieve = Sieve()
        """What of the points is kept; also for the next scanner that is connected."""

    def use_sieve(self, sieve: Sieve) -> None:
        """Keep other points from now on."""
        self.sieve = sieve
        if self._station.driver is not None:
            self._station.driver.do(lambda session: setattr(session, "sieve", sieve))

    def record(self) -> None:
        """Keep what comes from now on, after only looking."""
        panel = self._station.panels[Way.SCAN]
        assert isinstance(panel, ScanPanel)
        panel.keeping.record()

    def pause(self) -> None:
        """Pause the scanner, or go on."""
        if self._station.driver is not None and self._station.snapshot is not None:
            self._station.driver.ask(Message("pause", {"on": self._station.snapshot.state is not State.PAUSED}))

    def change_exposure(self, step: int) -> None:
        """More or less light."""
        if self._station.driver is not None and self._station.snapshot is not None:
            self._station.driver.ask(
                Message("exposure", {"level": min(max(self._station.snapshot.exposure + step, 1), 9)})
            )

    def next_mode(self) -> None:
        """The scanner's next mode."""
        planner = self._station.planner
        if self._station.driver is not None and self._station.snapshot is not None and planner is not None:
            names = [m.name for m in planner.model.modes]
            name = names[(names.index(self._station.snapshot.mode.name) + 1) % len(names)]
            self._station.driver.use_mode(name)
            self._station.hand.mode = planner.model.mode(name)

    def hold_against(self) -> None:
        """Show place by place what the plan promised and what came; once more, and the coverage is shown again."""
        station, driver = self._station, self._station.driver
        if driver is None:
            return
        if station.coverage.promised is not None:
            self._show_promise(None)
            return
        session = driver.session

        def work(progress: Progress) -> Promise:
            progress.phase("holding the capture against the plan")
            return hold_against(session)

        station.session.compute(work, self._show_promise)

    def _show_promise(self, made: Promise | None) -> None:
        station = self._station
        words = ""
        if made is not None and station.derived.part is not None:
            title = station.derived.part.face
            lines = [f"{title(s.face).title}, {s.area / 100:.1f} cm\u00b2: {s.why}." for s in made.shortfalls]
            words = "\n".join([made.words, *lines])
        station.coverage.promised = None if made is None else made.promised
        station.hand.legend = COVERED if made is None else AGAINST
        panel = station.panels[Way.SCAN]
        assert isinstance(panel, ScanPanel)
        panel.show_promise(words)
        if station.snapshot is not None and station.is_here:
            station.coverage.draw_anew(station.snapshot)

    def new_patch(self) -> None:
        """Stop the patch that runs and start another."""
        if self._station.driver is not None:
            self._station.driver.do(lambda session: session.begin())
            # After a finer zone the usual spacing again.
            self._station.driver.ask(Message("spacing", {"mm": self._station.driver.session.spacing}))

    def discard(self, number: int) -> None:
        """Let a patch go."""
        if self._station.driver is not None:
            self._station.driver.do(lambda session: session.discard(number))

    def turn_over(self) -> None:
        """The part lies on its other side now."""
        if self._station.driver is not None:
            turn_over(self._station.driver)

    def refine(self, radius: float, spacing: float) -> None:
        """Pick a zone that is scanned again, finer."""

        def picked(hit: Hit) -> None:
            x, y, z = (float(v) for v in hit.place)
            zone = Zone((x, y, z), radius)
            if self._station.driver is not None:
                self._station.driver.do(lambda session: session.refine(zone, spacing))
                self._station.driver.ask(Message("spacing", {"mm": spacing}))
            self._station.stop_picking()

        self._station.start_picking("Click the middle of the zone; Esc ends", picked)

    def measure_references(self) -> None:
        """Let the tracker measure the reference targets that it sees from where it stands."""
        if self._station.driver is not None:
            self._station.driver.ask(Message("reference"))

    def stick_target(self) -> None:
        """Stick another target in mid-scan: the scanner finds and joins it."""
        nominal = self._station.derived.nominal

        def picked(hit: Hit) -> None:
            if nominal is not None and self._station.driver is not None:
                found = nominal.projector.project(hit.place[None])
                edge = float(nominal.edge_distances(found.feet, 30.0)[0])
                place, normal = ([float(v) for v in rows[0]] for rows in (found.feet, found.normals))
                self._station.driver.ask(Message("stick", {"place": place, "normal": normal, "edge": edge}))
            self._station.stop_picking()

        self._station.start_picking("Click where the target is stuck; Esc ends", picked)

    def hold_scanner(self) -> None:
        """Take the scanner into the hand, or put it down."""
        planner = self._station.planner
        if self._station.hand.is_holding:
            self._station.hand.put_down()
        elif planner is not None and self._station.driver is not None:
            self._station.driver.stop_plan()
            shot = self._station.snapshot
            if shot is None or not any(p.is_running for p in shot.patches):
                self._station.driver.do(lambda session: session.begin())
            self._station.hand.take_up(planner.nominal, planner.mode if shot is None else shot.mode)
        self._station.refresh()

    def run_plan(self) -> None:
        """Let the plan's path run, or stop it."""
        if self._station.driver is None:
            self._station.link.connect_device(then=self.run_plan)
        elif self._station.driver.runs_by_itself:
            self._station.driver.stop_plan()
        else:
            self._station.hand.put_down()
            self._station.driver.run_plan()
        self._station.refresh()

    def stop_patch(self) -> None:
        """Stop the patch that runs; it is kept."""
        if self._station.driver is not None:
            self._station.driver.stop_plan()
            self._station.driver.do(lambda session: session.accept())
            self._station.hand.put_down()

    def use_capture(self) -> None:
        """Make one surface of all patches and take it for the job's scan."""
        if self._station.driver is not None and not self._settling:
            self._station.hand.put_down()
            self._settling = True
            self._station.driver.settle()
            return
        self._settling = False
        session = self._station.session
        if session.job.capture is not None:
            made = partial(with_scan_of_capture, files=session.files)
            session.edit_slowly(
                "scan from the capture",
                lambda job, progress: made(job, progress=progress),
                then=self._show_scan,
            )

    def _show_scan(self) -> None:
        self._station.desk.go(Key.ASSEMBLE)
        self._station.desk.look_home()

    def disconnect_device(self) -> None:
        """Let the device go; what was captured stays in the job."""
        if self._station.driver is not None:
            self._station.hand.put_down()
            self._station.speaker.silence()
            self._station.driver.end()

    def start_anew(self) -> None:
        """Take the capture out of the job, which can be undone."""
        if self._station.link.start_anew():
            self._station.dress()
