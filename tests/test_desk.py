"""The real window, driven with mouse and keyboard through the whole demo route; what is asserted is what a user reads and sees."""

from __future__ import annotations

import json
import threading
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import numpy as np
import pytest
from helpers import write_bracket
from PyQt6.QtCore import QMimeData, QPoint, QPointF, QSettings, Qt, QUrl
from PyQt6.QtGui import QColor, QDropEvent, QGuiApplication
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QDialog, QFileDialog, QLabel, QPushButton, QWidget

from juxtum.demo.job import FACES
from juxtum.desk import style
from juxtum.desk.actions import ACTIONS
from juxtum.desk.palette import CommandPalette, match
from juxtum.desk.stations.findings import Key
from juxtum.desk.window import MainWindow
from juxtum.look import LIGHT

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
        sheet = self.window.sheets.currentWidget()
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

    def next(self) -> str:
        """What the worksheet proposes."""
        return self.window.station.next.text

    def press(self, key: Qt.Key, modifier: Qt.KeyboardModifier = Qt.KeyboardModifier.NoModifier) -> None:
        """A key, as pressed anywhere in the window."""
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
        self.wait(lambda: not self.window.view._moving)
        image = self.window.view.grab().toImage()
        ratio = image.devicePixelRatio()
        spot = self.spot(place)
        return image.pixelColor(round(spot.x() * ratio), round(spot.y() * ratio))

    def ledger(self) -> dict[str, tuple[str, str]]:
        """Value and verdict of each line, as read."""
        rows = [line.split("\t") for line in self.window.ledger.as_text().splitlines()[1:]]
        return {row[0]: (row[4], row[6]) for row in rows}


@pytest.fixture(scope="module")
def application() -> QApplication:
    """Dressed as for users."""
    made = QApplication.instance() or QApplication(["test"])
    assert isinstance(made, QApplication)
    style.load_fonts()
    style.apply(made)
    return made


def opened(folder: Path) -> MainWindow:
    window = MainWindow(QSettings(str(folder / "settings.ini"), QSettings.Format.IniFormat))
    window.resize(1280, 800)
    window.show()
    window.activateWindow()
    return window


def close(window: MainWindow) -> None:
    window.session.discard()
    window.close()
    window.deleteLater()
    QApplication.processEvents()
    assert not [t.name for t in threading.enumerate() if t.name.startswith("workbench")], "the worker is still alive"
    assert not [w for w in QApplication.topLevelWidgets() if w.isVisible()], "a window was left open"


@pytest.fixture(scope="module")
def demo(application: QApplication, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Hand]:
    """The demo job, fresh from the menu; the tests of the route walk on from where the one before stopped."""
    window = opened(tmp_path_factory.mktemp("demo"))
    hand = Hand(window)
    window.menus.actions["open demo"].trigger()
    hand.wait(lambda: window.session.derived.scan is not None)
    yield hand
    close(window)


@pytest.fixture
def desk(application: QApplication, tmp_path: Path) -> Iterator[Hand]:
    """An empty window."""
    window = opened(tmp_path)
    yield Hand(window)
    close(window)


# -- the demo route, in order ---------------------------------------------------------------------------------


def test_route_1_brief(demo: Hand) -> None:
    assert demo.finding(Key.BRIEF) == "77 faces, 8 characteristics"
    assert demo.finding(Key.ASSEMBLE) == "the table is still in the scan"
    assert demo.next() == "Next: look at the scan"
    assert {verdict for _, verdict in demo.ledger().values()} == {"not measured"}
    top = demo.colour_at((0, 0, 140))
    paper = demo.window.view.grab().toImage().pixelColor(20, 300)
    assert top != paper and abs(top.red() - top.blue()) < 30, "the nominal is shown in its grey"


def test_route_2_assemble(demo: Hand) -> None:
    demo.click("Do the next action")
    assert demo.window.station.key is Key.ASSEMBLE
    assert demo.next() == "Next: trim off the table"
    before = demo.window.session.derived.scan
    demo.click("Do the next action")
    assert demo.next() == "Next: drop the loose pieces"
    demo.click("Do the next action")
    after = demo.window.session.derived.scan
    assert before is not None and after is not None and len(after.points) < 0.9 * len(before.points)
    assert demo.finding(Key.ASSEMBLE).endswith("points, clean")


def test_route_3_align(demo: Hand) -> None:
    demo.click("Do the next action")
    assert demo.window.station.key is Key.ALIGN and demo.finding(Key.ALIGN) == "not aligned yet"
    demo.click("Do the next action")
    assert demo.finding(Key.ALIGN) == "best fit, RMS 0.018"
    verdicts = demo.ledger()
    assert verdicts["4u"][1] == "does not conform" and verdicts["6l"][1] == "does not conform"
    assert verdicts["3l"][1] == "conforms" and verdicts["8u"] == ("\u2013", "not decided")
    assert verdicts["4u"][0].startswith("+0.4") and verdicts["6l"][0].startswith("\u22120.3")


def test_route_4_the_map_has_its_colours(demo: Hand) -> None:
    demo.go(Key.MEASURE)
    demo.press(Qt.Key.Key_5)
    shy, proud, plain = demo.colour_at((98, 42, 48)), demo.colour_at((-28.3, 63, 128.3)), demo.colour_at((0, 0, 140))
    assert shy.blue() > shy.red() + 20, "teal on the short boss"
    assert proud.red() > proud.blue() + 60, "ochre on the proud place"
    assert abs(plain.red() - plain.blue()) < 45, "paper within tolerance"


def test_route_5_readings(demo: Hand) -> None:
    demo.click("Do the next action")
    readings = demo.window.view.cards.readings
    assert [r.label for r in readings] == ["R1"]
    demo.window.view.setFocus()
    demo.click("Pin readings")
    demo.click_at((98.0, 42.0, 48.0))
    demo.press(Qt.Key.Key_Escape)
    field = demo.named("Place of a reading")
    QTest.keyClicks(field, "0 -20,0 140")
    QTest.keyClick(field, Qt.Key.Key_Return)
    demo.wait()
    readings = demo.window.view.cards.readings
    assert [r.label for r in readings] == ["R1", "R2", "R3"]
    assert readings[1].deviation == pytest.approx(-0.30, abs=0.03)
    assert readings[2].place == pytest.approx([0, -20, 140])
    boxes = [b for _, b in demo.window.view.cards.boxes if b is not None]
    assert len(boxes) >= 2 and not any(a.overlaps(b) for k, a in enumerate(boxes) for b in boxes[k + 1 :])


def test_route_6_ledger_row_opens_its_budget(demo: Hand) -> None:
    ledger = demo.window.ledger
    row = list(demo.ledger()).index("4u")
    ledger.scrollTo(ledger.model().index(row, 1))
    QTest.mouseClick(ledger.viewport(), Qt.MouseButton.LeftButton, pos=ledger.visualRect(ledger.model().index(row, 1)).center())
    demo.wait()
    title, value, reason = demo.window.measure._detail.texts
    assert title == "4u  Profile, drip shroud, upper" and value.startswith("+0.46")
    assert "beyond the upper limit +0.400" in reason and "Probability of conformity" in reason


def test_route_7_frames_are_compared(demo: Hand) -> None:
    demo.go(Key.ALIGN)
    demo.click("Pick datums")
    for name, view in (("plate top", Qt.Key.Key_5), ("bore", Qt.Key.Key_0), ("seat end", Qt.Key.Key_1)):
        demo.press(view)
        places = {"plate top": (-100.0, 30.0, 18.0), "bore": (-20.0, 20.0, 50.07), "seat end": (-45.0, -48.0, 30.0)}
        demo.click_at(places[name])
    assert demo.window.align._datums == [FACES["plate top"], FACES["bore"], FACES["seat end"]]
    demo.click("Lock to them")
    assert demo.finding(Key.ALIGN).startswith("datums A|B|C")
    assert demo.window.align._locks.texts()["Ty"] == "Ty is locked by C"
    moved = demo.named("Movement between frames")
    assert "largest movement" in moved.facts  # type: ignore[attr-defined]
    assert demo.named("Verdicts that change", QLabel).text()  # type: ignore[attr-defined]
    before = demo.ledger()["6l"][0]
    demo.press(Qt.Key.Key_Tab, Qt.KeyboardModifier.ControlModifier)
    demo.window.choose_frame("best fit")
    demo.wait()
    assert demo.ledger()["6l"][0] != before


def test_route_8_rule_and_undo(demo: Hand) -> None:
    open_before = [v for _, v in demo.ledger().values()].count("not decided")
    demo.window.menus.actions["toggle rule"].trigger()
    demo.wait()
    assert [v for _, v in demo.ledger().values()].count("not decided") < open_before
    demo.window.menus.enable()
    assert demo.window.menus.actions["undo"].text() == "Undo: simple acceptance"
    demo.press(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert [v for _, v in demo.ledger().values()].count("not decided") == open_before


def test_route_9_limits_are_dragged_on_the_legend(demo: Hand) -> None:
    demo.go(Key.MEASURE)
    view = demo.window.view
    assert view.legend is not None
    start = QPointF(view.legend.box.center().x(), view.legend._y(0.2)).toPoint()
    QTest.mousePress(view, Qt.MouseButton.LeftButton, pos=start)
    QTest.mouseMove(view, start - QPoint(0, 30))
    QTest.mouseMove(view, start - QPoint(0, 60))
    assert view.stage.scale.upper > 0.25, "the map follows while the handle is dragged"
    QTest.mouseRelease(view, Qt.MouseButton.LeftButton, pos=start - QPoint(0, 60))
    demo.wait()
    assert demo.window.session.job.procedure.measure.upper == pytest.approx(view.stage.scale.upper)
    demo.window.session.undo()
    demo.wait()
    assert demo.window.session.job.procedure.measure.upper == 0.2


def test_route_10_section_and_layers(demo: Hand) -> None:
    demo.press(Qt.Key.Key_1)
    before = demo.colour_at((45, -48, 30))
    demo.press(Qt.Key.Key_X)
    assert demo.window.view.section_plane is not None
    assert demo.colour_at((45, -48, 30)) != before
    demo.press(Qt.Key.Key_X)
    assert demo.colour_at((45, -48, 30)) == before
    demo.press(Qt.Key.Key_M)
    demo.press(Qt.Key.Key_M)
    assert demo.window.view.legend is None, "no map, no legend"
    demo.press(Qt.Key.Key_M)


def test_route_11_the_interface_stays_quick_while_work_runs(demo: Hand) -> None:
    """The longest time between two turns of the event loop while a frame is computed anew."""
    gaps: list[float] = []
    demo.window.session.runner._kept.clear()
    demo.window.session.undo()
    last = time.perf_counter()
    while demo.window.session.workbench.is_busy or not gaps:
        QApplication.processEvents()
        now = time.perf_counter()
        gaps.append(now - last)
        last = now
        time.sleep(0.002)
    demo.wait()
    assert np.quantile(gaps, 0.95) < 0.1
    demo.window.session.redo()
    demo.wait()


def test_route_12_report(demo: Hand, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    demo.go(Key.REPORT)
    monkeypatch.setattr(QFileDialog, "getExistingDirectory", lambda *a: str(tmp_path))
    demo.click("Do the next action")
    assert demo.named("Report written", QLabel).text() == f"Written to {tmp_path}"  # type: ignore[attr-defined]
    assert (tmp_path / "report.pdf").read_bytes().startswith(b"%PDF")
    result = json.loads((tmp_path / "result.json").read_text())
    read = demo.ledger()
    assert {c["id"]: c["verdict"] for c in result["characteristics"]} == {k: v for k, (_, v) in read.items()}


def test_route_13_save_and_open_again(demo: Hand, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a: (str(tmp_path / "demo"), ""))
    demo.press(Qt.Key.Key_S, Qt.KeyboardModifier.ControlModifier)
    assert demo.window.session.is_saved and demo.window.notice.text == "Saved as demo.juxtum"
    before = demo.ledger()
    demo.window.menus.actions["new"].trigger()
    demo.wait()
    assert demo.ledger() == {}
    demo.window.session.open(tmp_path / "demo.juxtum")
    demo.wait(lambda: demo.window.session.derived.evaluation is not None)
    assert demo.ledger() == before and demo.window.session.recent[0].name == "demo.juxtum"


# -- single manners -------------------------------------------------------------------------------------------


def test_files_are_dropped_and_units_asked(desk: Hand, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    nominal, scan = write_bracket(tmp_path / "n.stl"), write_bracket(tmp_path / "s.stl", 1 / 25.4)
    asked: list[str] = []

    def answer(dialog: QDialog) -> int:
        asked.append(" ".join(label.text() for label in dialog.findChildren(QLabel)))
        return 1

    monkeypatch.setattr("juxtum.desk.asking.UnitDialog.exec", answer)
    for path in (nominal, scan):
        data = QMimeData()
        data.setUrls([QUrl.fromLocalFile(str(path))])
        event = QDropEvent(QPointF(50, 50), Qt.DropAction.CopyAction, data, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier)
        desk.window.dropEvent(event)
        desk.wait(lambda p=path: (desk.window.session.job.scan if p is scan else desk.window.session.job.nominal) is not None)
    assert "this looks like inches" in asked[1]
    held = desk.window.session.derived.scan
    assert held is not None and np.ptp(held.points, axis=0) == pytest.approx([60, 40, 31], abs=1e-3)
    assert desk.window.station.key is Key.ASSEMBLE


def test_bad_file_gives_a_sentence_and_changes_nothing(desk: Hand, tmp_path: Path) -> None:
    (tmp_path / "bad.step").write_text("no model")
    job = desk.window.session.job
    desk.window.bringing.bring(tmp_path / "bad.step")
    desk.wait()
    assert "this is not a STEP file" in desk.window.notice.text
    assert desk.window.session.job is job and not desk.window.session.workbench.is_busy
    desk.press(Qt.Key.Key_Escape)
    assert desk.window.notice.text == ""


def test_unexpected_failure_is_one_sentence(desk: Hand) -> None:
    def broken(job: object) -> object:
        raise ZeroDivisionError("secret")

    desk.window.session.edit("break", broken)  # type: ignore[arg-type]
    desk.wait()
    assert "Something unexpected went wrong" in desk.window.notice.text and "secret" not in desk.window.notice.text


def test_selection_is_inverted_and_deleted(desk: Hand, tmp_path: Path) -> None:
    session = desk.window.session
    path = write_bracket(tmp_path / "s.stl")
    session.edit("scan", lambda job: job.model_copy(update={"scan": session.files.adopt(path)}))
    desk.wait()
    desk.go(Key.ASSEMBLE)
    desk.press(Qt.Key.Key_1)
    desk.click("Draw outline")
    view = desk.window.view
    box = view.stage.project(view.stage.bounds, view.width(), view.height())
    middle, (left, top), (right, bottom) = box.mean(0), box.min(0) - 20, box.max(0) + 20
    corners = [QPoint(round(left), round(top)), QPoint(round(middle[0]), round(top)), QPoint(round(middle[0]), round(bottom)), QPoint(round(left), round(bottom))]
    QTest.mousePress(view, Qt.MouseButton.LeftButton, pos=corners[0])
    for corner in corners[1:]:
        QTest.mouseMove(view, corner)
    QTest.mouseRelease(view, Qt.MouseButton.LeftButton, pos=corners[-1])
    desk.wait()
    scan = session.derived.scan
    assert scan is not None
    said = desk.named("Selection", QLabel).text()  # type: ignore[attr-defined]
    chosen = int("".join(c for c in said if c.isdigit()))
    assert 0 < chosen < len(scan.points) and right > left
    desk.click("Invert")
    desk.click("Delete")
    left_over = session.derived.scan
    assert left_over is not None and len(left_over.points) <= chosen


def test_palette_finds_actions(desk: Hand) -> None:
    desk.press(Qt.Key.Key_K, Qt.KeyboardModifier.ControlModifier)
    palette = desk.window.findChild(CommandPalette)
    assert palette is not None
    QTest.keyClicks(palette.field, "dark")
    assert palette.list.count() == 1
    QTest.keyClick(palette.field, Qt.Key.Key_Return)
    desk.wait()
    assert desk.window.appearance.is_dark
    desk.window.appearance.toggle_look()
    assert style.THEME.look is LIGHT
    assert match("go mea", "Go to Measure") == 0 and match("zzz", "Go to Measure") is None


def test_floor_sizes_are_larger(desk: Hand) -> None:
    before = desk.window.sheets.width()
    desk.press(Qt.Key.Key_F11)
    assert desk.window.sheets.width() > before and style.font(13).pixelSize() > 13
    desk.press(Qt.Key.Key_F11)
    assert desk.window.sheets.width() == before


def test_actions_are_one_list(desk: Hand) -> None:
    ids = [a.id for a in ACTIONS]
    keys = [a.key for a in ACTIONS if a.key]
    assert len(set(ids)) == len(ids) and len(set(keys)) == len(keys)
    shown = desk.window.menus.actions
    assert set(shown) == set(ids)
    for station in desk.window.stations.values():
        assert station.next._action in ids


def test_every_widget_that_can_be_used_has_a_name(desk: Hand) -> None:
    for key in Key:
        desk.go(key)
        for kind in (QPushButton, QWidget):
            for widget in desk.window.sheets.currentWidget().findChildren(kind):
                if widget.focusPolicy() & Qt.FocusPolicy.TabFocus and widget.isVisible() and widget.metaObject().className().startswith("Q"):
                    assert widget.accessibleName() or widget.metaObject().className() in ("QScrollArea", "QWidget"), widget.metaObject().className()


def test_copied_ledger_pastes_into_a_spreadsheet(desk: Hand, tmp_path: Path) -> None:
    session = desk.window.session
    session.edit("nominal", lambda job: job.model_copy(update={"nominal": session.files.adopt(write_bracket(tmp_path / "n.stl"))}))
    desk.wait()
    desk.window.perform("add whole profile")
    desk.wait()
    desk.window.perform("copy ledger")
    clipboard = QGuiApplication.clipboard()
    assert clipboard is not None
    assert clipboard.text().splitlines()[1].split("\t")[:2] == ["1u", "Profile, whole part, upper"]


def test_first_steps_lead_on(desk: Hand) -> None:
    desk.press(Qt.Key.Key_F1)
    assert desk.window.guide.title.startswith("1 of 6")
    desk.click("Next step")
    assert desk.window.guide.title.startswith("2 of 6") and desk.window.station.key is Key.ASSEMBLE
