"""The main window: route, stage, worksheet and ledger about one job."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from PyQt6.QtCore import QSettings, Qt, QTimer
from PyQt6.QtGui import QAction, QCloseEvent, QDragEnterEvent, QDropEvent, QGuiApplication, QKeySequence, QResizeEvent
from PyQt6.QtWidgets import QApplication, QHBoxLayout, QMainWindow, QSplitter, QStackedWidget, QVBoxLayout, QWidget

from juxtum.desk import style
from juxtum.desk.actions import ACTIONS, MENUS, Action
from juxtum.desk.bringing import Bringing
from juxtum.desk.first_steps import FirstSteps
from juxtum.desk.ledger import Ledger
from juxtum.desk.method import Page, about_text, keys_text, method_text
from juxtum.desk.notice import Notice
from juxtum.desk.palette import CommandPalette
from juxtum.desk.route import Route
from juxtum.desk.session import Session
from juxtum.desk.stage_view import StageView
from juxtum.desk.stations.align import AlignStation
from juxtum.desk.stations.assemble import AssembleStation
from juxtum.desk.stations.base import Station
from juxtum.desk.stations.brief import BriefStation
from juxtum.desk.stations.findings import Key, finding
from juxtum.desk.stations.measure import MeasureStation
from juxtum.desk.stations.report import ReportStation
from juxtum.desk.status import StatusStrip
from juxtum.desk.strip import Strip
from juxtum.desk.style import THEME
from juxtum.desk.view_bar import SectionBar, ViewBar
from juxtum.errors import InputError
from juxtum.evaluate import DecisionRule
from juxtum.job.steps import ProfileStep
from juxtum.log import log_file
from juxtum.look import DARK, LIGHT
from juxtum.scene.camera import View
from juxtum.scene.palette import MapScale
from juxtum.scene.stage import Hit, Shown
from juxtum.wording import percent

FLOOR_SCALE = 1.45
CYCLE = {Shown.SOLID: Shown.SEE_THROUGH, Shown.SEE_THROUGH: Shown.HIDDEN, Shown.HIDDEN: Shown.SOLID}


class MainWindow(QMainWindow):
    """One job on one desk."""

    def __init__(self, settings: QSettings) -> None:
        super().__init__()
        self.settings = settings
        self.session = Session(settings, self)
        self.view = StageView()
        self.selected_line = ""
        self.selected_reading = ""
        self.nominal_shown, self.data_shown = Shown.HIDDEN, Shown.SOLID
        self.section_is_on = False
        self._station: Station | None = None
        self.setAcceptDrops(True)
        self.bringing = Bringing(self)
        self._build()
        self._build_menus()
        self._connect()
        self._restore()
        self.go(Key.BRIEF)
        self._refresh()

    # -- building ---------------------------------------------------------------------------------------------

    def _build(self) -> None:
        self.strip, self.route, self.ledger, self.status = Strip(), Route(), Ledger(), StatusStrip()
        self.brief, self.assemble, self.align = BriefStation(self), AssembleStation(self), AlignStation(self)
        self.measure, self.report = MeasureStation(self), ReportStation(self)
        self.stations: dict[Key, Station] = {
            s.key: s for s in (self.brief, self.assemble, self.align, self.measure, self.report)
        }
        self.sheets = QStackedWidget()
        self.sheets.setObjectName("worksheet")
        self.sheets.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        for station in self.stations.values():
            self.sheets.addWidget(station)
        self.middle = QSplitter(Qt.Orientation.Vertical)
        self.middle.addWidget(self.view)
        self.middle.addWidget(self.ledger)
        self.middle.setStretchFactor(0, 1)
        self.middle.setCollapsible(0, False)
        self.middle.setSizes([560, 150])
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
        self.notice, self.guide = Notice(self.view), FirstSteps(self.view)
        self.bar, self.section_bar = ViewBar(self.view, self.tip), SectionBar(self.view)
        self.bar.move(12, 12)
        self.setMinimumSize(1000, 640)
        self._size_to_scale()

    def _build_menus(self) -> None:
        self.actions_: dict[str, QAction] = {}
        bar = self.menuBar()
        assert bar is not None
        for name in MENUS:
            menu = bar.addMenu(name)
            assert menu is not None
            group = ""
            for item in (a for a in ACTIONS if a.menu.startswith(f"{name}/")):
                if group and item.menu != group:
                    menu.addSeparator()
                group = item.menu
                menu.addAction(self._action(item))
            if name == "File":
                self.recent_menu = menu.addMenu("Recent jobs")
            menu.aboutToShow.connect(self._enable_actions)
        self._fill_recent()

    def _action(self, item: Action) -> QAction:
        made = QAction(item.title, self)
        if item.key:
            made.setShortcut(QKeySequence(item.key))
        if item.icon:
            made.setIcon(style.icon(item.icon, "ink_soft"))
        made.setCheckable(item.checked is not None)
        made.setToolTip(self.tip(item.id))
        made.triggered.connect(lambda: self.perform(item.id))
        self.actions_[item.id] = made
        self.addAction(made)
        return made

    @staticmethod
    def tip(name: str) -> str:
        """Key and one plain sentence about an action."""
        item = next(a for a in ACTIONS if a.id == name)
        words = item.tip or item.title
        return f"{words} ({item.key})" if item.key else words

    def _connect(self) -> None:
        session, view = self.session, self.view
        session.changed.connect(self._refresh)
        session.replaced.connect(self._fill_recent)
        session.failed.connect(self.notice.tell_failure)
        session.news.connect(self.announce)
        session.workbench.busy_changed.connect(self._busy)
        session.workbench.progressed.connect(self.status.show_progress)
        self.status.cancel_wanted.connect(lambda: self.perform("stop"))
        self.route.chosen.connect(self.go)
        self.strip.frame_chosen.connect(self.choose_frame)
        self.strip.rule_chosen.connect(self._choose_rule)
        self.strip.palette_wanted.connect(self.show_palette)
        self.bar.wanted.connect(self.perform)
        self.section_bar.changed.connect(self._cut)
        self.ledger.chosen.connect(self.select_line)
        view.picked.connect(self._picked)
        view.hovered.connect(self._hovered)
        view.outlined.connect(lambda outline, matrix: self._station and self._station.outlined(outline, matrix))
        view.limits_dragged.connect(self._limits_dragged)
        view.limits_chosen.connect(lambda low, high: self.measure.set_limits(low, high))
        view.card_clicked.connect(self.select_reading)
        self.notice.log_wanted.connect(self.show_log)
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
        self._enable_actions()

    def _enable_actions(self) -> None:
        for item in ACTIONS:
            made = self.actions_[item.id]
            made.setEnabled(item.enabled(self))
            if item.checked is not None:
                made.setChecked(item.checked(self))
        history = self.session.history
        self.actions_["undo"].setText(f"Undo: {history.undo_label}" if history.undo_label else "Undo")
        self.actions_["redo"].setText(f"Redo: {history.redo_label}" if history.redo_label else "Redo")

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
        self._clear_section()
        self._station.refresh()
        self._station.enter()
        if before is None or self._scene_of(before.key) != self._scene_of(key):
            self.look_home()
        self._enable_actions()
        self._show_states()

    def _scene_of(self, key: Key) -> str:
        """Stations that show the same thing keep the view."""
        if key in (Key.BRIEF, Key.ASSEMBLE):
            return key.value
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

    def _refresh(self) -> None:
        d = self.session.derived
        self.strip.show_job(d, self.session.is_saved)
        self.route.show_findings({key: finding(key, d) for key in Key})
        ids = [c.id for p in d.job.procedure.profiles for c in p.characteristics()]
        if self.selected_line not in ids:
            self.selected_line = ""
        self.status.show_counts(d, self.session.is_saved)
        self._show_ledger()
        for station in self.stations.values():
            station.refresh()
        had_map = self.view.stage.has("map")
        self.station.dress()
        if had_map != self.view.stage.has("map"):
            self.look_home()
        if self.section_is_on:
            self._cut()
        self._enable_actions()
        self._show_states()
        self.guide.job_changed(d)
        title = d.job.title + (f" {d.job.brief.serial}" if d.job.brief.serial else "")
        self.setWindowTitle(f"{title}[*] \u2013 Juxtum")
        self.setWindowModified(not self.session.is_saved)

    def _show_ledger(self) -> None:
        d = self.session.derived
        measured = {c.characteristic.id: c for c in d.evaluation.ledger} if d.evaluation else {}
        rows = [(c, measured.get(c.id)) for p in d.job.procedure.profiles for c in p.characteristics()]
        self.ledger.set_rows(rows, self.selected_line)

    def show_legend(self) -> None:
        """The legend of the map in force, or none."""
        d = self.session.derived
        measure = d.job.procedure.measure
        if d.area is None or d.evaluation is None or self.data_shown is Shown.HIDDEN:
            self.view.set_legend(None, None)
            return
        note = f"not seen {percent(1 - d.evaluation.statistics.area_seen)}"
        self.view.set_legend(MapScale(measure.lower, measure.upper), d.area, note)

    def _show_states(self) -> None:
        has_map = self.view.stage.has("map")
        self.bar.show_states(self.section_is_on, self.nominal_shown, self.data_shown, has_map)

    # -- selection --------------------------------------------------------------------------------------------

    def select_line(self, name: str) -> None:
        """Frame a characteristic on the stage and open how its number came to be."""
        self.selected_line, self.selected_reading = name, ""
        d = self.session.derived
        step = next((p for p in d.job.procedure.profiles if name in (p.characteristics()[0].id, p.characteristics()[1].id)), None)
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
        self.view.selected_reading = name
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
        if name and name != decide.frame:
            self.session.add(decide.model_copy(update={"frame": name}), f"frame {name}")

    def next_frame(self) -> None:
        """The alignment after the one in force."""
        names = [s.name for s in self.session.job.procedure.alignments]
        now = self.session.derived.frame
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
        used = [int(p.id) for p in self.session.job.procedure.profiles if p.id.isdigit()]
        step = ProfileStep(id=str(max(used, default=0) + 1), title="Profile, whole part")
        self.session.add(step, "add the profile of the whole part")

    def begin_pairs(self) -> None:
        """Go to Align and pick pairs."""
        self.go(Key.ALIGN)
        self.align._pairs.click()

    def begin_datums(self) -> None:
        """Go to Align and pick datums."""
        self.go(Key.ALIGN)
        self.align._pick_datums.click()

    def begin_pinning(self) -> None:
        """Go to Measure and pin readings, or stop."""
        if self.station.key is not Key.MEASURE:
            self.go(Key.MEASURE)
        self.measure.begin_pinning()

    def pin_worst(self) -> None:
        """Go to Measure and pin the worst place."""
        if self.station.key is not Key.MEASURE:
            self.go(Key.MEASURE)
        self.measure.pin_worst()

    # -- what the stage shows ---------------------------------------------------------------------------------

    def toggle_section(self) -> None:
        """Look inside, or no more."""
        if self.section_is_on:
            self._clear_section()
        else:
            self.section_is_on = True
            self.section_bar.begin(self.view.stage.bounds)
            self._place_bars()
        self._show_states()

    def _clear_section(self) -> None:
        self.section_is_on = False
        self.section_bar.hide()
        self.view.set_section(None)

    def _cut(self) -> None:
        if self.section_is_on:
            self.view.set_section(self.section_bar.plane(self.view.stage.eye.towards))

    def cycle_nominal(self) -> None:
        """Shown, see-through, hidden."""
        order = {Shown.HIDDEN: Shown.SEE_THROUGH, Shown.SEE_THROUGH: Shown.SOLID, Shown.SOLID: Shown.HIDDEN}
        self.nominal_shown = order[self.nominal_shown]
        self._redress()

    def cycle_data(self) -> None:
        """Shown, see-through, hidden."""
        self.data_shown = CYCLE[self.data_shown]
        self._redress()

    def _redress(self) -> None:
        self.station.dress()
        self._show_states()

    def toggle_ledger(self) -> None:
        """Show or hide the ledger."""
        self.ledger.setVisible(not self.ledger.isVisible())

    def toggle_route(self) -> None:
        """Only the marks of the route, or its words too."""
        self.route.set_narrow(not self.route.is_narrow)

    @property
    def is_large(self) -> bool:
        """Whether floor-readable sizes are on."""
        return THEME.scale > 1

    @property
    def is_dark(self) -> bool:
        """Whether the dark look is on."""
        return THEME.look is DARK

    def toggle_sizes(self) -> None:
        """Floor-readable sizes, or desk sizes."""
        THEME.scale = 1.0 if self.is_large else FLOOR_SCALE
        self._restyle()

    def toggle_look(self) -> None:
        """Dark or light."""
        THEME.look = LIGHT if self.is_dark else DARK
        self._restyle()

    def _restyle(self) -> None:
        application = QApplication.instance()
        assert isinstance(application, QApplication)
        style.apply(application)
        for item in ACTIONS:
            if item.icon:
                self.actions_[item.id].setIcon(style.icon(item.icon, "ink_soft"))
        self._size_to_scale()
        self.view.restyle()
        self.ledger.restyle()
        self._refresh()
        self._place_bars()

    def _size_to_scale(self) -> None:
        self.sheets.setFixedWidth(round(340 * (1 + (THEME.scale - 1) * 0.7)))
        self.strip.setFixedHeight(THEME.px(46))
        self.route.resize_to_scale()
        self.bar.adjustSize()

    # -- files ------------------------------------------------------------------------------------------------

    def new_job(self) -> None:
        """Start with nothing."""
        self.bringing.new_job()

    def open_demo(self) -> None:
        """Open the demo job."""
        self.bringing.open_demo()

    def ask_open(self) -> None:
        """Ask for a job and open it."""
        if (path := self.bringing.asking.job()) is not None:
            self.session.open(path)

    def ask_nominal(self) -> None:
        """Ask for a nominal and bring it."""
        if (path := self.bringing.asking.nominal()) is not None:
            self.bringing.nominal(path)

    def ask_scan(self) -> None:
        """Ask for a scan and bring it."""
        if (path := self.bringing.asking.scan()) is not None:
            self.bringing.scan(path)

    def ask_report(self) -> None:
        """Ask for a folder and write the report."""
        if (path := self.bringing.asking.folder()) is not None:
            self.report.write(path)

    def ask_save(self) -> None:
        """Ask where to save."""
        self.bringing.ask_save()

    def ask_procedure(self) -> None:
        """Ask where to export the procedure."""
        self.bringing.ask_procedure()

    def save(self) -> None:
        """Save."""
        self.bringing.save()

    def _fill_recent(self) -> None:
        menu = self.recent_menu
        assert menu is not None
        menu.clear()
        for path in self.session.recent:
            menu.addAction(path.name, lambda p=path: self.session.open(p))
        menu.setEnabled(bool(self.session.recent))

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
        for url in data.urls() if data is not None else []:
            if url.isLocalFile():
                self.bringing.bring(Path(url.toLocalFile()))

    # -- help, notices, end -----------------------------------------------------------------------------------

    def tell(self, what: str, where: str, next: str) -> None:
        """Say what cannot be done and what can."""
        self.notice.tell_failure(InputError(what, where, next))

    def announce(self, words: str) -> None:
        """Say something good."""
        self.notice.tell_news(words)

    def start_first_steps(self) -> None:
        """Walk a newcomer through."""
        self.guide.start()

    def show_method(self) -> None:
        """Formulas and references of this station."""
        self._show_page("Method", method_text(self.station.key))

    def show_keys(self) -> None:
        """All keys."""
        self._show_page("Keys", keys_text())

    def show_about(self) -> None:
        """Version and licences."""
        self._show_page("About Juxtum", about_text())

    def _show_page(self, title: str, html: str) -> None:
        page = Page(self, title, html)
        page.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        page.show()

    def show_log(self) -> None:
        """The last part of the log file."""
        path = log_file()
        text = path.read_text("utf-8", "replace")[-20_000:] if path.exists() else "The log is empty."
        from html import escape

        self._show_page("Log", f"<p>{escape(str(path))}</p><pre>{escape(text)}</pre>")

    def copy_ledger(self) -> None:
        """To the clipboard, for a spreadsheet."""
        clipboard = QGuiApplication.clipboard()
        if clipboard is not None:
            clipboard.setText(self.ledger.as_text())
            self.announce("The ledger is on the clipboard")

    def _busy(self, busy: bool) -> None:
        self.status.show_busy(busy)
        self._enable_actions()

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        """Keep what floats over the stage in place."""
        super().resizeEvent(event)
        QTimer.singleShot(0, self._place_bars)

    def _place_bars(self) -> None:
        self.bar.adjustSize()
        self.bar.move(12, 12)
        self.section_bar.move(12, self.bar.height() + 20)
        self.notice.place()
        if self.guide.isVisible():
            self.guide.place()

    def _restore(self) -> None:
        geometry = self.settings.value("geometry")
        if geometry is not None:
            self.restoreGeometry(geometry)
        else:
            self.resize(1280, 800)

    def close_window(self) -> None:
        """Quit."""
        self.close()

    def closeEvent(self, event: QCloseEvent | None) -> None:
        """A changed job stays recoverable unless it was saved; nothing is asked."""
        self.settings.setValue("geometry", self.saveGeometry())
        self.session.close(keep=not self.session.is_saved and self.session.job.scan is not None)
        self.view.release()
        super().closeEvent(event)

