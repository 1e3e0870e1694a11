"""The main window: route, stage, worksheet and ledger about one job."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
from PyQt6.QtCore import QSettings, Qt, QTimer
from PyQt6.QtGui import QCloseEvent, QDragEnterEvent, QDropEvent, QResizeEvent
from PyQt6.QtWidgets import QHBoxLayout, QMainWindow, QSplitter, QStackedWidget, QVBoxLayout, QWidget

from juxtum.capture.snapshot import Snapshot
from juxtum.desk.actions import ACTIONS
from juxtum.desk.appearance import Appearance
from juxtum.desk.bringing import Bringing
from juxtum.desk.capturing.switch import FloorSwitch
from juxtum.desk.controls import StageControls
from juxtum.desk.desk_book import DeskBook
from juxtum.desk.first_steps import FirstSteps
from juxtum.desk.going import Going
from juxtum.desk.helping import Help
from juxtum.desk.ledger import Ledger
from juxtum.desk.menus import Menus
from juxtum.desk.notice import Notice
from juxtum.desk.palette import CommandPalette
from juxtum.desk.route import Route
from juxtum.desk.session import Session, is_worth_keeping
from juxtum.desk.stage_view import StageView
from juxtum.desk.stations.align import AlignStation
from juxtum.desk.stations.assemble import AssembleStation
from juxtum.desk.stations.base import Station
from juxtum.desk.stations.brief import BriefStation
from juxtum.desk.stations.capture import CaptureStation
from juxtum.desk.stations.findings import Key, finding
from juxtum.desk.stations.measure import MeasureStation
from juxtum.desk.stations.plan import PlanStation
from juxtum.desk.stations.ready import ReadyStation
from juxtum.desk.stations.report import ReportStation
from juxtum.desk.status import StatusStrip
from juxtum.desk.strip import Strip
from juxtum.errors import InputError
from juxtum.evaluate import DecisionRule
from juxtum.evaluate.kinds import Profile
from juxtum.logbook import Logbook
from juxtum.scene.camera import View
from juxtum.scene.stage import Hit


class MainWindow(QMainWindow):
    """One job on one desk."""

    def __init__(self, settings: QSettings) -> None:
        super().__init__()
        self.settings = settings
        self.session = Session(settings, self)
        self.view = StageView()
        self.selected_line = ""
        self.selected_reading = ""
        self._station: Station | None = None
        self.desk_book = DeskBook(self.session)
        self.going = Going(self)
        self.setAcceptDrops(True)
        self.bringing = Bringing(self)
        self._build()
        self.help = Help(self)
        self.menus = Menus(self)
        self.menus.fill_recent()
        self._connect()
        self._restore()
        self.go(Key.BRIEF)
        self.refresh()

    # -- building ---------------------------------------------------------------------------------------------

    def _build(self) -> None:
        self.strip, self.route, self.ledger, self.status = Strip(), Route(), Ledger(), StatusStrip()
        # What floats over the stage comes first: stations place their own bars below it.
        self.notice, self.guide = Notice(self.view), FirstSteps(self.view)
        self.controls = StageControls(self.view, lambda: self.station.dress(), self.perform)
        self.brief, self.plan, self.assemble = BriefStation(self), PlanStation(self), AssembleStation(self)
        self.ready, self.capture = ReadyStation(self), CaptureStation(self)
        self.align, self.measure, self.report = AlignStation(self), MeasureStation(self), ReportStation(self)
        all_stations = (self.brief, self.plan, self.ready, self.capture, self.assemble, self.align, self.measure, self.report)
        self.stations: dict[Key, Station] = {s.key: s for s in all_stations}
        self.sheets = QStackedWidget()
        self.sheets.setObjectName("worksheet")
        self.sheets.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        for station in self.stations.values():
            self.sheets.addWidget(station)
        self.middle = QSplitter(Qt.Orientation.Vertical)
        self.middle.addWidget(self.view)
        self.middle.addWidget(self.ledger)
        self.middle.addWidget(self.plan.table)
        self.middle.setStretchFactor(0, 1)
        self.middle.setCollapsible(0, False)
        self.middle.setSizes([560, 150, 150])
        across = QHBoxLayout()
        across.setSpacing(0)
        for widget, stretch in ((self.route, 0), (self.middle, 1), (self.sheets, 0)):
            across.addWidget(widget, stretch)
        central = QWidget()
        down = QVBoxLayout(central)
        down.setContentsMargins(0, 0, 0, 0)
        down.setSpacing(0)
        down.addWidget(self.strip)
        down.addLayout(across, 1)
        down.addWidget(self.status)
        self.setCentralWidget(central)
        self.floor = FloorSwitch(self, down)
        self.setMinimumSize(1000, 640)
        self.appearance = Appearance(self)
        self.appearance.resize_to_scale()

    def _connect(self) -> None:
        session, view = self.session, self.view
        session.changed.connect(self.refresh)
        session.replaced.connect(self.menus.fill_recent)
        session.failed.connect(self.notice.tell_failure)
        session.news.connect(self.announce)
        session.workbench.busy_changed.connect(self._busy)
        session.workbench.progressed.connect(self.status.show_progress)
        self.status.cancel_wanted.connect(lambda: self.perform("stop"))
        self.route.chosen.connect(self.go)
        self.strip.frame_chosen.connect(self.choose_frame)
        self.strip.rule_chosen.connect(self._choose_rule)
        self.strip.palette_wanted.connect(self.show_palette)
        self.ledger.chosen.connect(self.select_line)
        view.picked.connect(self._picked)
        view.hovered.connect(self._hovered)
        view.outlined.connect(lambda outline, matrix: self._station and self._station.outlined(outline, matrix))
        view.limits_dragged.connect(self._limits_dragged)
        view.limits_chosen.connect(lambda low, high: self.measure.set_limits(low, high))
        view.card_clicked.connect(self.select_reading)
        view.resized.connect(self.place_floating)
        self.notice.log_wanted.connect(self.help.show_log)
        self.guide.station_wanted.connect(self.go)
        self.guide.action_wanted.connect(self.perform)

    # -- actions ----------------------------------------------------------------------------------------------

    def perform(self, name: str) -> None:
        """Run an action by its id, if it makes sense now."""
        item = next((a for a in ACTIONS if a.id == name), None)
        if item is None:
            return
        if item.enabled(self):
            item.run(self)
        else:
            self.announce(f"'{item.title}' makes no sense yet")
        self.menus.enable()

    def show_palette(self) -> None:
        """Find an action by its letters."""
        palette = CommandPalette(self, ACTIONS, lambda a: a.enabled(self))
        palette.chosen.connect(self.perform)
        palette.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        corner = self.mapToGlobal(self.rect().topLeft())
        palette.move(corner.x() + (self.width() - palette.width()) // 2, corner.y() + 90)
        palette.open()

    # -- where we are -----------------------------------------------------------------------------------------

    def go(self, key: Key) -> None:
        """Go to a station."""
        if self._station is not None:
            self._station.leave()
        before, self._station = self._station, self.stations[key]
        self.route.show_station(key)
        self.sheets.setCurrentWidget(self._station)
        self.controls.clear_section()
        self._station.refresh()
        self._station.enter()
        if before is None or self._scene_of(before.key) != self._scene_of(key):
            self.look_home()
        self.menus.enable()
        self.controls.show_states()

    def _scene_of(self, key: Key) -> str:
        """Stations that show the same thing keep the view."""
        if key in (Key.BRIEF, Key.PLAN, Key.READY, Key.CAPTURE, Key.ASSEMBLE):
            return "nominal" if key is not Key.ASSEMBLE else key.value
        return "map" if self.session.derived.map_surface is not None else f"{key.value} without map"

    @property
    def station(self) -> Station:
        """Where the user is."""
        assert self._station is not None
        return self._station

    def look_home(self) -> None:
        """The view from the corner that shows everything."""
        self.view.look_from(View.CORNER)

    def show_scan(self) -> None:
        """Go where a new scan is looked at."""
        self.go(Key.ASSEMBLE)
        self.look_home()

    def refresh(self) -> None:
        d = self.session.derived
        self.strip.show_job(d, self.session.is_saved)
        self.route.show_findings({key: finding(key, d) for key in Key})
        ids = [p.id for p in d.job.procedure.characteristics]
        if self.selected_line not in ids:
            self.selected_line = ""
        self.status.show_counts(d, self.session.is_saved)
        self._show_ledger()
        for station in self.stations.values():
            station.follow()
        # The others are shown afresh when somebody goes there.
        self.station.refresh()
        had_map = self.view.stage.has("map")
        self.station.dress()
        if had_map != self.view.stage.has("map"):
            self.look_home()
        self.controls.cut()
        self.menus.enable()
        self.controls.show_states()
        self.guide.job_changed(d)
        title = d.job.title + (f" {d.job.brief.serial}" if d.job.brief.serial else "")
        self.setWindowTitle(f"{title}[*] \u2013 Juxtum")
        self.setWindowModified(not self.session.is_saved)

    def _show_ledger(self) -> None:
        d = self.session.derived
        measured = {c.line.id: c for c in d.evaluation.ledger} if d.evaluation else {}
        rows = [(p.line, measured.get(p.id)) for p in d.job.procedure.characteristics]
        self.ledger.set_methods(self.plan.methods())
        self.ledger.set_rows(rows, self.selected_line)

    # -- selection --------------------------------------------------------------------------------------------

    def select_line(self, name: str) -> None:
        """Frame a characteristic on the stage and open how its number came to be."""
        self.selected_line, self.selected_reading = name, ""
        d = self.session.derived
        step = next((p for p in d.job.procedure.characteristics if name == p.id), None)
        if step is None or d.nominal is None:
            return
        if d.evaluation is not None and self.station.key is not Key.MEASURE:
            self.go(Key.MEASURE)
        if step.faces:
            mesh = d.nominal.face_mesh(step.faces)
            normal = mesh.triangle_normals.T @ mesh.triangle_areas
            flat = float(np.linalg.norm(normal)) > 0.5 * mesh.area
            self.view.frame(mesh.bounds, normal / np.linalg.norm(normal) if flat else None)
        else:
            self.look_home()
        self.measure.show_results()
        self.measure.dress() if self.station is self.measure else None

    def select_reading(self, name: str) -> None:
        """Show a reading in the worksheet, the list and on the stage."""
        self.selected_reading = name
        self.view.cards.selected = name
        self.view.update()
        self.measure.show_results()

    def _picked(self, hit: Hit) -> None:
        self.station.picked(hit)

    def _hovered(self, hit: Hit | None) -> None:
        self.status.show_place(hit, self.session.derived)

    def let_go(self) -> None:
        """End picking or drawing; otherwise close what lies over the stage."""
        if self.notice.isVisible():
            self.notice.hide()
        self.station.escape()

    # -- frame, rule, limits ----------------------------------------------------------------------------------

    def choose_frame(self, name: str) -> None:
        """Put another alignment in force; map and ledger follow."""
        decide = self.session.job.procedure.decide
        if name and name != decide.alignment:
            self.session.add(decide.model_copy(update={"alignment": name}), f"frame {name}")

    def next_frame(self) -> None:
        """The alignment after the one in force."""
        names = [s.name for s in self.session.job.procedure.alignments]
        now = self.session.derived.in_force
        if names:
            self.choose_frame(names[(names.index(now) + 1) % len(names)] if now in names else names[0])

    def _choose_rule(self, name: str) -> None:
        decide = self.session.job.procedure.decide
        self.session.add(decide.model_copy(update={"rule": DecisionRule(name)}), f"{name} acceptance")

    def toggle_rule(self) -> None:
        """Simple to guarded and back."""
        now = self.session.job.procedure.decide.rule
        self._choose_rule((DecisionRule.SIMPLE if now is DecisionRule.GUARDED else DecisionRule.GUARDED).value)

    def _limits_dragged(self, low: float, high: float) -> None:
        self.status.show_text(f"limits of the map {low:+g} and {high:+g} mm".replace("-", "\u2212"))

    def add_whole_profile(self) -> None:
        """The profile of the whole part as a characteristic."""
        step = Profile(id=self.session.job.procedure.next_number, title="Profile, whole part")
        self.session.add(step, "add the profile of the whole part")

    # -- what the stage shows ---------------------------------------------------------------------------------

    def toggle_ledger(self) -> None:
        """Show or hide the ledger."""
        self.ledger.setVisible(not self.ledger.isVisible())

    def toggle_route(self) -> None:
        """Only the marks of the route, or its words too."""
        self.route.set_narrow(not self.route.is_narrow)

    @property
    def logbook(self) -> Logbook | None:
        """The logbook, once it is open."""
        return self.desk_book.book

    def open_logbook(self, then: Callable[[], None]) -> None:
        """Open the logbook if it is not, then go on."""
        self.desk_book.open(then)

    @property
    def is_floor(self) -> bool:
        """Whether only the floor view is shown."""
        return self.floor.is_on

    def toggle_floor(self) -> None:
        """Dial, coverage, targets and part alone, legible from far away; or the desk again."""
        if not self.is_floor and self.station is not self.capture:
            self.go(Key.CAPTURE)
        self.floor.toggle()

    def show_floor(self, snapshot: Snapshot) -> None:
        """Keep the floor view up to date."""
        self.floor.show_snapshot(snapshot)

    # -- files ------------------------------------------------------------------------------------------------

    def dragEnterEvent(self, event: QDragEnterEvent | None) -> None:
        """Files may be dropped anywhere."""
        assert event is not None
        data = event.mimeData()
        if data is not None and any(url.isLocalFile() for url in data.urls()):
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent | None) -> None:
        """Bring every file to where it belongs."""
        assert event is not None
        data = event.mimeData()
        urls = data.urls() if data is not None else []
        self.bringing.bring([Path(url.toLocalFile()) for url in urls if url.isLocalFile()])

    # -- notices, end -----------------------------------------------------------------------------------

    def tell(self, what: str, where: str, next: str) -> None:
        """Say what cannot be done and what can."""
        self.notice.tell_failure(InputError(what, where, next))

    def announce(self, words: str) -> None:
        """Say something good."""
        self.notice.tell_news(words)

    def _busy(self, busy: bool) -> None:
        self.status.show_busy(busy)
        self.menus.enable()

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        """Keep what floats over the stage in place."""
        super().resizeEvent(event)
        QTimer.singleShot(0, self.place_floating)

    def place_floating(self) -> None:
        self.controls.place()
        self.plan.place()
        self.ready.place()
        self.notice.place()
        if self.guide.isVisible():
            self.guide.place()

    def _restore(self) -> None:
        geometry = self.settings.value("geometry")
        if geometry is not None:
            self.restoreGeometry(geometry)
        else:
            self.resize(1280, 800)

    def closeEvent(self, event: QCloseEvent | None) -> None:
        """A changed job stays recoverable unless it was saved; nothing is asked."""
        self.settings.setValue("geometry", self.saveGeometry())
        # What has to come to its end does so behind the curtain.
        self.hide()
        self.capture.close_all()
        self.desk_book.close()
        self.session.close(keep=not self.session.is_saved and is_worth_keeping(self.session.job))
        self.view.release()
        super().closeEvent(event)

