"""A hand on the real window: what a user does, and what a user reads."""

from __future__ import annotations

import gc
import inspect
import sys
import threading
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from PyQt6 import sip
from PyQt6.QtCore import QEvent, QPoint, QPointF, QSettings, Qt, QTimer
from PyQt6.QtGui import QColor, QImage, QWheelEvent
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QPushButton, QScrollArea, QWidget

from juxtum.desk.window import MainWindow
from juxtum.guide.findings import Key
from juxtum.job import Evaluation

PATIENCE = 120.0


class Hand:
    """What a user does, and what a user reads."""

    def __init__(self, window: MainWindow) -> None:
        self.window = window

    def wait(self, until: Callable[[], bool] = lambda: True) -> None:
        """Until nothing runs and a condition holds."""
        end = time.monotonic() + PATIENCE
        quiet = 0
        while quiet < 4:
            QApplication.processEvents()
            time.sleep(0.02)
            quiet = quiet + 1 if not self.window.session.workbench.is_busy and until() else 0
            assert time.monotonic() < end, f"still waiting; the notice says '{self.window.notice.text}'"

    def named(self, name: str, kind: type[QWidget] = QWidget, inside: QWidget | None = None) -> QWidget:
        """The visible widget of an accessible name."""
        found = [w for w in (inside or self.window).findChildren(kind) if w.accessibleName() == name and w.isVisible()]
        assert len(found) == 1, f"{len(found)} visible widgets are called '{name}'"
        return found[0]

    def click(self, name: str) -> None:
        """Click a button by its name in the worksheet or anywhere else."""
        sheet = self.window.parts.sheets.currentWidget()
        assert sheet is not None
        inside = sheet if any(w.accessibleName() == name for w in sheet.findChildren(QPushButton)) else None
        QTest.mouseClick(self.named(name, inside=inside), Qt.MouseButton.LeftButton)
        self.wait()

    def go(self, key: Key) -> None:
        """Click a stop of the route."""
        QTest.mouseClick(self.window.route.stops[key], Qt.MouseButton.LeftButton)
        self.wait()

    def finding(self, key: Key) -> str:
        """What the route says."""
        return self.window.route.stops[key].accessibleDescription()

    def cut_off(self) -> list[str]:
        """What of the worksheet is wider than its place, so that it ends at the right without a word; nothing of one that fits."""
        sheet = self.window.hub.station
        assert isinstance(sheet, QScrollArea)
        room, inner = sheet.viewport(), sheet.widget()
        assert room is not None and inner is not None
        # Without the application's own style buttons are a little wider than they are drawn for a user.
        if inner.minimumSizeHint().width() <= room.width() + 12:
            return []
        widest = [
            w for w in inner.findChildren(QWidget) if w.isVisible() and w.minimumSizeHint().width() > room.width() - 30
        ]
        return [f"{type(w).__name__} {w.accessibleName()}" for w in widest]

    def next(self) -> str:
        """What the worksheet proposes."""
        return self.window.hub.station.next.text

    def press(self, key: Qt.Key, modifier: Qt.KeyboardModifier = Qt.KeyboardModifier.NoModifier) -> None:
        """A key, as pressed anywhere in the window."""
        if not self.window.isActiveWindow():
            # Without a window manager nobody else hands the focus on when another window closes.
            self.window.activateWindow()
            QTest.qWaitForWindowActive(self.window)
        QTest.keyClick(self.window, key, modifier)
        self.wait()

    def spot(self, place: tuple[float, float, float]) -> QPoint:
        """Where a place of the part is on the stage."""
        x, y = self.window.view.project(np.array([place]))[0]
        return QPoint(round(x), round(y))

    def click_at(self, place: tuple[float, float, float]) -> None:
        """Click a place of the part on the stage."""
        QTest.mouseClick(self.window.view, Qt.MouseButton.LeftButton, pos=self.spot(place))
        self.wait()

    def colour_at(self, place: tuple[float, float, float]) -> QColor:
        """The colour that the stage shows at a place of the part."""
        self.wait(lambda: not self.window.view.is_moving)
        image = self.window.view.grab().toImage()
        ratio = image.devicePixelRatio()
        spot = self.spot(place)
        return image.pixelColor(round(spot.x() * ratio), round(spot.y() * ratio))

    def picture(self) -> np.ndarray:
        """The part of the stage that no bar covers, as colours (H, W, 3)."""
        self.wait(lambda: not self.window.view.is_moving)
        image = self.window.view.grab().toImage().convertToFormat(QImage.Format.Format_RGB32)
        bits = image.constBits()
        assert bits is not None
        pixels = np.frombuffer(bits.asarray(image.sizeInBytes()), np.uint8).reshape(image.height(), image.width(), 4)
        return pixels[110:, :-140, :3].copy()

    def ledger(self) -> dict[str, tuple[str, str]]:
        """Value and verdict of each line, as read."""
        rows = [line.split("\t") for line in self.window.ledger.as_text().splitlines()[1:]]
        return {row[0]: (row[4], row[6]) for row in rows}


def opened(folder: Path) -> MainWindow:
    window = MainWindow(QSettings(str(folder / "settings.ini"), QSettings.Format.IniFormat))
    window.resize(1280, 800)
    window.show()
    window.activateWindow()
    return window


def opened_demo(folder: Path, settings: dict[str, object] | None = None) -> Hand:
    """A window with the demo job, fresh from the menu."""
    window = opened(folder)
    for name, value in (settings or {}).items():
        window.settings.setValue(name, value)
    hand = Hand(window)
    window.menus.actions["open demo"].trigger()
    hand.wait(lambda: window.session.derived.scan is not None)
    return hand


def close_left_open() -> None:
    """Close what a failed test left open, lest its threads fail the tests behind it."""
    for window in QApplication.topLevelWidgets():
        if isinstance(window, MainWindow) and window.property("walked") is None:
            window.session.discard()
            window.close()
            window.deleteLater()
    QApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete)


def close(window: MainWindow) -> None:
    """Close a window and see that nothing of it goes on living: threads, timers, widgets."""
    if sip.isdeleted(window):
        return
    window.session.discard()
    window.close()
    window.deleteLater()
    for _ in range(3):
        QApplication.processEvents()
        QApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete)
    threads = [t.name for t in threading.enumerate() if t.name.startswith(("workbench", "capture"))]
    assert not threads, f"threads are still alive: {threads}"
    assert sip.isdeleted(window), "the window itself is still alive"
    others = [w for w in QApplication.topLevelWidgets() if isinstance(w, MainWindow)]
    if others:
        return
    left = [f"{type(w).__name__} {w.objectName() or w.accessibleName()}" for w in QApplication.allWidgets()]
    assert not left, f"widgets were left: {left[:10]}"
    timers = _running_timers()
    assert not timers, f"timers still run: {[t.parent() for t in timers]}"


def _running_timers() -> list[QTimer]:
    """All timers that run, looked at in one go: a tuple that another thread is making must not be held by its list."""
    usual = sys.getswitchinterval()
    sys.setswitchinterval(60.0)
    try:
        return [t for t in gc.get_objects() if isinstance(t, QTimer) and not sip.isdeleted(t) and t.isActive()]
    finally:
        sys.setswitchinterval(usual)


class Walk:
    """A window that the tests of a module walk through, each from where the one before it stopped.

    A test that runs alone, or out of its turn, gets a window of its own in which those before it were walked first.

    Parameters
    ----------
    begin : callable
        Opens a window in a folder, as the first test finds it.
    """

    def __init__(self, begin: Callable[[Path], Hand], folders: pytest.TempPathFactory) -> None:
        self._begin, self._folders = begin, folders
        self._hand: Hand | None = None
        self._done = 0

    def up_to(self, request: pytest.FixtureRequest) -> Hand:
        """The window as the test expects it that asks for it by the name of a fixture."""
        steps = self._steps(request)
        wanted = [name for name, _ in steps].index(request.node.originalname)
        if self._hand is None or self._done != wanted:
            self.end()
            self._hand = self._begin(self._folders.mktemp("walk"))
            self._hand.window.setProperty("walked", True)
            for _, step in steps[:wanted]:
                self._take(step, request)
        self._done = wanted + 1
        return self._hand

    def _steps(self, request: pytest.FixtureRequest) -> list[tuple[str, Callable[..., None]]]:
        tests = [(name, test) for name, test in vars(request.module).items() if name.startswith("test_")]
        walked = [(name, test) for name, test in tests if request.fixturename in inspect.signature(test).parameters]
        return sorted(walked, key=lambda step: step[1].__code__.co_firstlineno)

    def _take(self, step: Callable[..., None], request: pytest.FixtureRequest) -> None:
        with pytest.MonkeyPatch.context() as patch:
            own = {request.fixturename: self._hand, "monkeypatch": patch, "tmp_path": self._folders.mktemp("step")}
            step(
                **{
                    name: own[name] if name in own else request.getfixturevalue(name)
                    for name in inspect.signature(step).parameters
                }
            )

    def end(self) -> None:
        """Close the window."""
        if self._hand is not None:
            close(self._hand.window)
        self._hand, self._done = None, 0


def evaluation_of(desk: Hand) -> Evaluation:
    found = desk.window.session.derived.evaluation
    assert found is not None
    return found


def answer_unit() -> None:
    """A file without a unit is asked about; millimetres are taken."""

    def accept() -> None:
        dialog = QApplication.activeModalWidget()
        if dialog is None:
            QTimer.singleShot(50, accept)
        else:
            dialog.accept()  # type: ignore[attr-defined]

    QTimer.singleShot(50, accept)


def turn_wheel(widget: QWidget, here: QPoint, by: int) -> None:
    button, key, phase = Qt.MouseButton.NoButton, Qt.KeyboardModifier.NoModifier, Qt.ScrollPhase.NoScrollPhase
    QApplication.sendEvent(
        widget, QWheelEvent(QPointF(here), QPointF(here), QPoint(), QPoint(0, by), button, key, phase, False)
    )
