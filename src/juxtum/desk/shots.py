"""Pictures of the stations on the demo job, taken from the real window."""

from __future__ import annotations

import tempfile
import time
from collections.abc import Callable
from functools import partial
from pathlib import Path

import numpy as np
from PyQt6.QtCore import QPointF, QSettings
from PyQt6.QtWidgets import QApplication

from juxtum.desk.app import make_application
from juxtum.desk.planning.topics import Topic
from juxtum.guide.findings import Key
from juxtum.job.steps import FeatureStep, SectionStep
from juxtum.scene.camera import View

SIZE = (1280, 800)
PATIENCE = 300.0
REST = 4.0
"""How long a picture waits for the stage to come to rest, s."""


def take_shots(folder: Path) -> int:
    """Walk the demo job and save a PNG of each station; returns the exit status."""
    from juxtum.desk.window import MainWindow

    folder.mkdir(parents=True, exist_ok=True)
    application = make_application(["shots"])
    with tempfile.TemporaryDirectory() as place:
        window = MainWindow(QSettings(f"{place}/settings.ini", QSettings.Format.IniFormat))
        window.resize(*SIZE)
        window.show()
        walk = _Walk(application, window, folder)
        try:
            _route(walk)
        finally:
            window.session.discard()
            window.close()
    return 0


class _Walk:
    def __init__(self, application: QApplication, window: object, folder: Path) -> None:
        from juxtum.desk.window import MainWindow

        assert isinstance(window, MainWindow)
        self.application, self.window, self.folder = application, window, folder

    def settle(self, until: Callable[[], bool] | None = None) -> None:
        """Let the window work until nothing runs and a condition holds."""
        end = time.monotonic() + PATIENCE
        quiet = 0
        while quiet < 12 and time.monotonic() < end:
            self.application.processEvents()
            time.sleep(0.03)
            busy = self.window.session.workbench.is_busy or (until is not None and not until())
            quiet = 0 if busy else quiet + 1

    def do(self, action: str) -> None:
        """Run an action and wait for it."""
        self.window.hub.perform(action)
        self.settle()

    def save(self, name: str) -> None:
        """A picture of the window."""
        self.settle()
        # A capture that runs is never drawn sharply; everything else is, a moment after it has come to rest.
        end = time.monotonic() + REST
        while self.window.view.is_moving and time.monotonic() < end:
            self.application.processEvents()
            time.sleep(0.03)
        self.window.notice.hide()
        self.window.grab().save(str(self.folder / f"{name}.png"))


def _route(walk: _Walk) -> None:
    window = walk.window
    walk.settle()
    window.bringing.open_demo()
    walk.settle(lambda: window.session.derived.nominal is not None)
    window.hub.go(Key.BRIEF)
    walk.save("1-brief")
    _plans(walk)
    _captures(walk)
    window.hub.go(Key.ASSEMBLE)
    window.assemble.trimming.find_table()
    walk.settle()
    walk.save("4-assemble")
    window.assemble.trimming.put_away()
    walk.do("trim table")
    walk.do("drop pieces")
    walk.do("align automatically")
    window.hub.go(Key.ALIGN)
    _lock_to_datums(walk)
    walk.save("5-align")
    window.hub.perform("compare")
    walk.settle(lambda: bool(window.align.beside.stages))
    walk.save("19-compare")
    window.align.beside.close_view()
    window.hub.choose_alignment("best fit")
    walk.settle()
    window.hub.go(Key.MEASURE)
    walk.do("pin worst")
    for place in ((98.0, 44.0, 48.0), (0.0, -20.0, 140.0), (-116.0, 20.0, 18.0)):
        window.measure.pin(np.array(place))
        walk.settle()
    window.view.look_from(View.CORNER)
    window.view.stage.eye.orbit(0.28, 0.0)
    window.view.redraw()
    window.measure.line = "4u"
    window.measure.show_results()
    window.hub.show_ledger()
    walk.save("6-measure")
    _section(walk)
    window.hub.go(Key.REPORT)
    walk.save("7-report")
    _feature(walk)
    _drawing(walk)
    _pieces(walk)
    _lot(walk)


def _feature(walk: _Walk) -> None:
    """The bore of BC-220 clicked."""
    window = walk.window
    window.hub.go(Key.MEASURE)
    panel = window.measure.features
    window.session.add(FeatureStep(label="F1", seed=(36.0, 0.0, 80.0)), "feature F1")
    walk.settle(lambda: bool(panel.taken))
    panel.list.setCurrentRow(0)
    window.view.look_from(View.CORNER)
    window.measure.ensureWidgetVisible(panel)
    walk.save("18-feature")


def _lot(walk: _Walk) -> None:
    """The tray of clips, all measured."""
    window = walk.window
    window.bringing.open_demo("VC-8")
    walk.settle(lambda: len(window.session.derived.lot) > 1)
    window.hub.go(Key.ASSEMBLE)
    walk.settle()
    window.assemble.lot.measure()
    walk.settle()
    walk.save("17-lot")


def _section(walk: _Walk) -> None:
    """BC-220 cut along its bore, the distance from its floor to its top chosen."""
    panel = walk.window.measure.sections
    walk.window.session.add(
        SectionStep(label="x = 0", normal=(1.0, 0.0, 0.0)), "section x = 0", lambda: panel.choose("x = 0")
    )
    walk.settle(lambda: panel.chosen == "x = 0")
    for number in ("2", "11"):
        panel.drawer.canvas.picked.emit(number)
    walk.window.measure.ensureWidgetVisible(panel)
    walk.save("16-section")
    panel.close_drawer()


def _drawing(walk: _Walk) -> None:
    """The drawing of BC-220, its bolt holes chosen."""
    window = walk.window
    walk.do("demo drawing")
    window.hub.choose_alignment("best fit")
    walk.settle()
    window.hub.go(Key.MEASURE)
    window.selecting.select_line("18")
    window.measure.ensureWidgetVisible(window.measure.check)
    walk.settle()
    walk.save("15-drawing")


def _pieces(walk: _Walk) -> None:
    """BC-220 in six pieces, joined; the largest tie of the ring chosen."""
    window = walk.window
    window.bringing.open_demo("pieces")
    walk.settle(lambda: len(window.session.derived.brought) > 1)
    window.hub.go(Key.ASSEMBLE)
    walk.do("clean scans")
    walk.do("join scans")
    window.assemble.panel.scans.show_only({brought.name for brought in window.session.derived.brought})
    window.assemble.panel.step_through_ties()
    walk.save("14-joined")


def _captures(walk: _Walk) -> None:
    """Ready, then Capture with the scanner over the part, and the floor view."""
    window = walk.window
    window.settings.setValue("devices/within", True)
    window.settings.setValue("logbook/demo", f"sqlite:///{window.settings.fileName()}.book")
    window.hub.go(Key.READY)
    walk.settle(lambda: window.hub.shop.book is not None)

    def is_prepared(key: str) -> bool:
        return window.session.job.tick(key) is not None

    for key in ("warm", "soak", "clean"):
        window.ready.tick_next()
        walk.settle(partial(is_prepared, key))
    window.ready.calibrating.begin_chosen()
    walk.settle(lambda: window.ready.pad.isVisible())
    walk.save("12-ready")
    window.ready.calibrating.stop()
    window.session.edit("no capture", lambda job: job.model_copy(update={"capture": None}))
    walk.settle()
    window.hub.go(Key.CAPTURE)
    window.capture.link.connect_device()
    walk.settle(lambda: window.capture.snapshot is not None)
    assert window.capture.driver is not None
    window.capture.driver.speed = 1e6
    window.capture.scanner.run_plan()
    walk.settle(lambda: window.capture.snapshot is not None and window.capture.snapshot.one_pass > 0.42)
    window.capture.scanner.run_plan()
    window.capture.scanner.hold_scanner()
    walk.settle(lambda: window.capture.hand.is_holding)
    x, y = window.view.project(np.array([[-60.0, -62.0, 18.0]]))[0]
    window.capture.hand.point(QPointF(x, y))
    walk.settle(lambda: (shot := window.capture.snapshot) is not None and len(shot.points) > 0 and shot.dial.is_held)
    walk.save("10-capture")
    window.hub.perform("floor view")
    walk.settle(lambda: window.hub.is_floor)
    window.view.fit()
    walk.save("11-floor-view")
    window.hub.perform("floor view")
    window.capture.scanner.disconnect_device()
    walk.settle(lambda: window.capture.driver is None)
    window.capture.scanner.start_anew()
    walk.settle()
    walk.do("shoot whole turn")
    walk.save("13-table")
    window.capture.scanner.start_anew()
    walk.settle()


def _plans(walk: _Walk) -> None:
    """Targets of BC-220; bars and photos of HB-36, after which the first job is opened again."""
    window = walk.window
    walk.do("plan targets")
    window.plan.handles.selected = 3
    window.plan.show_results()
    walk.save("2-plan")
    window.plan.show_topic(Topic.FIT)
    walk.save("8-plan-fit")
    window.bringing.open_demo("HB-36")
    walk.settle(lambda: window.session.job.brief.part.startswith("HB-36"))
    window.hub.go(Key.PLAN)
    window.plan.show_topic(Topic.PHOTOS)
    walk.save("3-plan-photos")
    window.plan.show_topic(Topic.STATIONS)
    walk.save("9-plan-stations")
    window.hub.go(Key.BRIEF)
    window.bringing.open_demo()
    walk.settle(lambda: window.session.job.brief.part.startswith("BC-220") and window.session.derived.scan is not None)


def _lock_to_datums(walk: _Walk) -> None:
    from juxtum.demo.job import datum_step

    step = datum_step("best fit")
    decide = walk.window.session.job.procedure.decide
    in_force = decide.model_copy(update={"alignment": step.name})
    walk.window.session.edit("lock to datums", lambda job: job.with_step(step).with_step(in_force))
    walk.settle()
