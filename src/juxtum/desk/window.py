"""The main window: it lays out route, stage, worksheets and ledger about one job, and hands signals on."""

from __future__ import annotations

from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from PyQt6.QtCore import QMimeData, QSettings, Qt, QTimer
from PyQt6.QtGui import QCloseEvent, QDragEnterEvent, QDropEvent, QGuiApplication, QResizeEvent
from PyQt6.QtWidgets import QMainWindow

from juxtum.desk.action import Action, Owner, in_order
from juxtum.desk.ahead import Ahead
from juxtum.desk.appearance import Appearance
from juxtum.desk.asking import Asking
from juxtum.desk.bringing import Bringing
from juxtum.desk.capturing.switch import FloorSwitch
from juxtum.desk.controls import StageControls
from juxtum.desk.desk_book import DeskBook
from juxtum.desk.first_steps import FirstSteps
from juxtum.desk.helping import Help
from juxtum.desk.hub import Hub
from juxtum.desk.judging import Judging
from juxtum.desk.layout import Layout
from juxtum.desk.menus import Menus
from juxtum.desk.notice import Notice
from juxtum.desk.palette import CommandPalette
from juxtum.desk.selecting import Selecting
from juxtum.desk.session import Session, is_worth_keeping
from juxtum.desk.stage_view import StageView
from juxtum.desk.stations.all import Stations
from juxtum.guide.findings import Key

if TYPE_CHECKING:
    pass


class MainWindow(QMainWindow):
    """One job on one desk."""

    def __init__(self, settings: QSettings) -> None:
        super().__init__()
        self.settings = settings
        self.session, self.view = Session(settings, self), StageView()
        self.asking, self.desk_book, self.judging = (
            Asking(self, self.session),
            DeskBook(self.session),
            Judging(self.session),
        )
        self.parts = Layout(self.view)
        self.strip, self.route, self.ledger, self.status = (
            self.parts.strip,
            self.parts.route,
            self.parts.ledger,
            self.parts.status,
        )
        # What floats over the stage comes first: stations place their own bars below it.
        self.notice, self.guide = Notice(self.view), FirstSteps(self.view)
        self.controls = StageControls(self.view, lambda: self.hub.station.dress(), lambda name: self.hub.perform(name))
        self.hub: Hub = Hub(self)
        self.stations = Stations(self.hub)
        self.plan, self.ready, self.capture = self.stations.plan, self.stations.ready, self.stations.capture
        self.brief, self.assemble, self.align = self.stations.brief, self.stations.assemble, self.stations.align
        self.measure, self.report = self.stations.measure, self.stations.report
        self.selecting = Selecting(self.hub, self.measure)
        self.parts.arrange(self.stations.by_key.values(), (self.plan.table, self.measure.sections.drawer))
        self.setCentralWidget(self.parts.central)
        self.floor = FloorSwitch(self.session, self.view, self.parts, self.menuBar())
        self.bringing = Bringing(self.hub, self, self.asking)
        self.appearance = Appearance(self._restyle)
        self.help = Help(self, lambda: self.hub.station.key, lambda: self.hub.all_actions)
        owners: tuple[Owner, ...] = (
            self.bringing,
            *self.stations.by_key.values(),
            self.judging,
            self.controls,
            self.parts,
            self.appearance,
            self.help,
        )
        self.hub.all_actions = in_order(
            (*self.own_actions(), *(action for owner in owners for action in owner.own_actions()))
        )
        self.menus = Menus(self, self.session, self.hub.all_actions, self.hub.perform)
        self.setAcceptDrops(True)
        self.setMinimumSize(1000, 640)
        self.parts.resize_to_scale(self.width())
        self._connect()
        self._restore()
        self.hub.go(Key.BRIEF)
        self._refresh()

    def _connect(self) -> None:
        session, view = self.session, self.view
        session.changed.connect(self._refresh)
        session.replaced.connect(self.menus.fill_recent)
        session.replaced.connect(self.desk_book.warm)
        session.failed.connect(self.notice.tell_failure)
        session.news.connect(self.hub.announce)
        session.workbench.busy_changed.connect(self._busy)
        Ahead(session)
        session.workbench.progressed.connect(self.status.show_progress)
        self.status.cancel_wanted.connect(lambda: self.hub.perform("stop"))
        self.route.chosen.connect(self.hub.go)
        self.strip.alignment_chosen.connect(self.judging.choose_alignment)
        self.strip.rule_chosen.connect(self.judging.choose_rule)
        self.strip.palette_wanted.connect(self._show_palette)
        self.ledger.chosen.connect(self.selecting.select_line)
        view.picked.connect(lambda hit: self.hub.station.picked(hit))
        view.hovered.connect(lambda hit: self.status.show_place(hit, session.derived))
        view.outlined.connect(lambda outline, matrix: self.hub.station.outlined(outline, matrix))
        view.limits_dragged.connect(self.status.show_limits)
        view.limits_chosen.connect(self.measure.set_limits)
        view.card_clicked.connect(self.measure.look_at_reading)
        view.resized.connect(self.place_floating)
        self.notice.log_wanted.connect(self.help.show_log)
        self.guide.station_wanted.connect(self.hub.go)
        self.guide.action_wanted.connect(self.hub.perform)

    # -- actions ----------------------------------------------------------------------------------------------

    def own_actions(self) -> tuple[Action, ...]:
        """What belongs to the window as a whole."""
        session = self.session
        return (
            Action("quit", "Quit", "File/9", self.close, "Ctrl+Q"),
            Action("undo", "Undo", "Edit/1", session.undo, "Ctrl+Z", "undo-2", enabled=lambda: session.timeline.undo_label is not None),
            Action("redo", "Redo", "Edit/1", session.redo, "Ctrl+Shift+Z", "redo-2", enabled=lambda: session.timeline.redo_label is not None),
            Action("copy ledger", "Copy the ledger", "Edit/2", self._copy_ledger, "Ctrl+Shift+C", "table-2", "Pastes into a spreadsheet",
                   lambda: bool(session.job.procedure.characteristics)),
            Action("stop", "Stop what is running", "Edit/3", session.workbench.cancel, "Ctrl+.", "circle-stop", "The job stays as it was",
                   lambda: session.workbench.is_busy),
            Action("let go", "Let go", "Edit/3", self._let_go, "Esc", "x", "End picking or drawing"),
            *(
                Action(f"go {key}", f"Go to {key.caption}", "Job/1", partial(self.hub.go, key), f"Ctrl+{number}", "arrow-right")
                for number, key in enumerate(Key, 1)
            ),
            Action("floor view", "Floor view", "View/5", self.hub.toggle_floor, "F11", "maximize", "Dial, coverage, targets and the part, seen from far",
                   checked=lambda: self.hub.is_floor),
            Action("palette", "Find an action", "Tools/1", self._show_palette, "Ctrl+K", "search", "Type a few letters of what you want"),
            Action("first steps", "First steps", "Help/1", self.guide.start, "F1", "circle-help", "The stations in three minutes"),
        )  # fmt: skip

    def _show_palette(self) -> None:
        palette = CommandPalette(self, self.hub.all_actions)
        palette.chosen.connect(self.hub.perform)
        palette.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        corner = self.mapToGlobal(self.rect().topLeft())
        palette.move(corner.x() + (self.width() - palette.width()) // 2, corner.y() + 90)
        palette.open()

    def _copy_ledger(self) -> None:
        clipboard = QGuiApplication.clipboard()
        if clipboard is not None:
            clipboard.setText(self.ledger.as_text())
            self.hub.announce("The ledger is on the clipboard")

    def _let_go(self) -> None:
        """End picking or drawing; otherwise close what lies over the stage."""
        self.notice.hide()
        self.hub.station.escape()

    # -- the window itself ------------------------------------------------------------------------------------

    def dragEnterEvent(self, event: QDragEnterEvent | None) -> None:
        """Files may be dropped anywhere."""
        if event is not None and local_files(event.mimeData()):
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent | None) -> None:
        """Bring every file to where it belongs."""
        if event is not None:
            self.bringing.bring(local_files(event.mimeData()))

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        """Keep what floats over the stage in place."""
        super().resizeEvent(event)
        QTimer.singleShot(0, self.place_floating)

    def closeEvent(self, event: QCloseEvent | None) -> None:
        """A changed job stays recoverable unless it was saved; nothing is asked."""
        self.settings.setValue("geometry", self.saveGeometry())
        # What has to come to its end does so behind the curtain.
        self.hide()
        self.capture.close_all()
        self.desk_book.close()
        self.session.close(keep=not self.session.is_saved and is_worth_keeping(self.session.job))
        self.align.beside.release()
        self.view.release()
        super().closeEvent(event)

    def _refresh(self) -> None:
        self.hub.refresh()
        is_saved = self.session.is_saved
        self.setWindowTitle(f"{self.session.job.title_with_serial}[*] \u2013 Juxtum")
        self.setWindowModified(not is_saved)

    def _busy(self, busy: bool) -> None:
        self.status.show_busy(busy)
        self.hub.enable_actions()

    def _restyle(self) -> None:
        self.menus.recolour()
        self.parts.resize_to_scale(self.width())
        self.controls.place()
        self.view.restyle()
        self.ledger.restyle()
        self._refresh()
        self.place_floating()

    def place_floating(self) -> None:
        """Put what floats over the stage where it belongs."""
        for floating in (self.controls, self.plan, self.ready, self.notice, self.guide):
            floating.place()

    def _restore(self) -> None:
        geometry = self.settings.value("geometry")
        if geometry is not None:
            self.restoreGeometry(geometry)
        else:
            self.resize(1280, 800)


def local_files(data: QMimeData | None) -> list[Path]:
    """The files that are dragged."""
    return [Path(url.toLocalFile()) for url in (data.urls() if data is not None else []) if url.isLocalFile()]
