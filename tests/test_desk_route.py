"""The real window through the whole demo route, with mouse and keyboard; what is asserted is what a user reads and sees."""

from __future__ import annotations

import json
import time
from pathlib import Path

import numpy as np
import pytest
from PyQt6.QtCore import QPoint, QPointF, Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QFileDialog, QLabel

from hand import Hand, Walk, opened_demo
from juxtum.demo.job import FACES
from juxtum.guide.findings import Key

begun = opened_demo
"""The demo job, fresh from the menu, walked through test by test."""


@pytest.fixture
def demo(walk: Walk, request: pytest.FixtureRequest) -> Hand:
    """The window as the test expects it."""
    return walk.up_to(request)


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
    assert demo.window.hub.station.key is Key.ASSEMBLE
    assert demo.next() == "Next: trim off the table"
    before = demo.window.session.derived.scan
    demo.click("Do the next action")
    assert demo.next() == "Next: remove loose fragments"
    demo.click("Do the next action")
    after = demo.window.session.derived.scan
    assert before is not None and after is not None and len(after.points) < 0.9 * len(before.points)
    assert demo.finding(Key.ASSEMBLE).endswith("points, clean")


def test_route_3_align(demo: Hand) -> None:
    demo.click("Do the next action")
    assert demo.window.hub.station.key is Key.ALIGN and demo.finding(Key.ALIGN) == "not aligned yet"
    demo.click("Do the next action")
    assert demo.finding(Key.ALIGN) == "best fit, RMS 0.019"
    verdicts = demo.ledger()
    assert list(verdicts) == [str(n) for n in range(1, 9)], "one line a characteristic"
    assert verdicts["4"][1] == "does not conform" and verdicts["6"][1] == "does not conform"
    assert verdicts["5"][1] == "conforms" and verdicts["8"] == ("\u2013", "not decided")
    assert verdicts["4"][0].startswith("+0.4") and abs(float(verdicts["6"][0].replace("\u2212", "-")) + 0.30) < 0.015


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
    row = list(demo.ledger()).index("4")
    ledger.scrollTo(ledger.model().index(row, 1))
    QTest.mouseClick(
        ledger.viewport(), Qt.MouseButton.LeftButton, pos=ledger.visualRect(ledger.model().index(row, 1)).center()
    )
    demo.wait()
    title, value, reason = demo.window.measure._detail.texts
    assert title == "4  Profile, drip shroud" and value.startswith("+0.45")
    assert "beyond the upper limit +0.400" in reason and "Probability of conformity" in reason


def test_route_7_frames_are_compared(demo: Hand) -> None:
    demo.go(Key.ALIGN)
    demo.click("Pick datums")
    for name, view in (("plate top", Qt.Key.Key_5), ("bore", Qt.Key.Key_0), ("seat end", Qt.Key.Key_1)):
        demo.press(view)
        places = {"plate top": (-100.0, 30.0, 18.0), "bore": (20.0, -38.0, 50.07), "seat end": (-45.0, -48.0, 30.0)}
        demo.click_at(places[name])
    assert demo.window.align.datums.faces == [FACES["plate top"], FACES["bore"], FACES["seat end"]]
    demo.click("Lock to them")
    assert demo.finding(Key.ALIGN).startswith("datums A|B|C")
    assert demo.window.align._in_force._locks.texts()["Ty"] == "Ty is locked by C"
    moved = demo.named("Movement between alignments")
    assert "largest movement" in moved.facts  # type: ignore[attr-defined]
    assert demo.named("Verdicts that change", QLabel).text()  # type: ignore[attr-defined]
    before = demo.ledger()["6"][0]
    demo.press(Qt.Key.Key_Tab, Qt.KeyboardModifier.ControlModifier)
    demo.window.hub.choose_alignment("best fit")
    demo.wait()
    assert demo.ledger()["6"][0] != before


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
    whole = demo.picture()
    demo.press(Qt.Key.Key_X)
    assert demo.window.view.section_plane is not None
    assert (demo.picture() != whole).any(axis=2).mean() > 0.05, "half of the part is gone"
    demo.press(Qt.Key.Key_X)
    assert (demo.picture() != whole).any(axis=2).mean() < 0.001
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
    assert demo.ledger() == before and demo.window.session.recent.paths[0].name == "demo.juxtum"
