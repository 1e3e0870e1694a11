"""Work in the window on a small part: every way to clean, align and read, with its undo; failures and recovery."""

from __future__ import annotations

import os
import subprocess
import sys
import time
from collections.abc import Iterator
from itertools import combinations
from pathlib import Path

import numpy as np
import pytest
from PyQt6.QtCore import QPoint, QPointF, Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QFileDialog, QLabel, QLineEdit, QListWidget

from hand import Hand, close, opened
from helpers import bracket_mesh, turned, write_bracket
from juxtum.desk.app import _begin
from juxtum.desk.method import METHODS, method_text
from juxtum.desk.sectioning.canvas import SectionCanvas
from juxtum.desk.widgets import LengthField
from juxtum.desk.workbench import Workbench
from juxtum.errors import Cancelled, InputError
from juxtum.guide.findings import Key
from juxtum.job.document import default_procedure
from juxtum.job.steps import AsScanned, Decide
from juxtum.progress import Progress
from juxtum.scene.section_picture import Named, SectionPicture

POSE = turned((0, 0, 30), (15, -8, 4))


@pytest.fixture
def desk(application: QApplication, tmp_path: Path) -> Iterator[Hand]:
    """A window with the bracket as nominal and, turned and shifted, as scan."""
    window = opened(tmp_path)
    hand = Hand(window)
    session = window.session
    scan = bracket_mesh()
    scan.apply_transform(POSE.matrix).export(tmp_path / "scan.stl")
    job = session.job.with_nominal(session.files.adopt(write_bracket(tmp_path / "nominal.stl"))).with_scan(
        session.files.adopt(tmp_path / "scan.stl")
    )
    session.start(job.with_step(default_procedure().characteristics[0]))
    hand.wait(lambda: session.derived.scan is not None)
    yield hand
    close(window)


def test_pairs_are_picked_by_clicking(desk: Hand) -> None:
    desk.go(Key.ALIGN)
    desk.click("Pick pairs")
    window = desk.window
    desk.press(Qt.Key.Key_5)
    places = [(12.3, 5.1, 31.0), (50.2, 30.7, 10.0), (9.1, 35.2, 10.0)]
    for place in places:
        desk.click_at(place)
        apart = window.align._apart()
        x, y, z = apart.apply(POSE.apply([place]))[0]
        desk.click_at((x, y, z))
    assert window.align._pair_count() == 3
    desk.click("Use the pairs")
    assert desk.finding(Key.ALIGN).startswith("best fit")
    alignment = window.session.derived.evaluation.alignment  # type: ignore[union-attr]
    assert np.allclose((alignment.transform @ POSE).matrix, np.eye(4), atol=1e-3)
    assert [s.kind for s in window.session.job.procedure.alignments] == ["pairs", "best-fit"]


def test_a_plane_shows_what_would_go_before_it_cuts(desk: Hand) -> None:
    desk.go(Key.ASSEMBLE)
    desk.click("Pick points")
    upright = desk.window.session.derived.upright
    desk.press(Qt.Key.Key_5)
    before = desk.window.session.derived.scan
    assert before is not None
    for place in ((40.2, 10.3, 10.0), (55.1, 35.2, 10.0), (30.3, 33.4, 10.0), (45.3, 20.4, 10.0)):
        x, y, z = upright.apply(POSE.apply([place]))[0]
        desk.click_at((x, y, z))
    panel = desk.window.assemble.trimming
    desk.wait(lambda: panel.handle.plane is not None)
    words = desk.named("What would go", QLabel)
    told = words.text()  # type: ignore[attr-defined]
    going = int("".join(c for c in told.split(" points")[0] if c.isdigit()))
    assert 0 < going < len(before.points) and desk.window.view.stage.has("going")
    assert desk.window.session.derived.scan is before
    # The grip: dragged, the plane moves, and with it what would go.
    grip = panel.handle.grip()
    along = panel.handle._along()
    there = grip + QPointF(*(5.0 * along))
    stage = desk.window.view
    QTest.mousePress(stage, Qt.MouseButton.LeftButton, pos=grip.toPoint())
    QTest.mouseMove(stage, pos=there.toPoint())
    QTest.mouseRelease(stage, Qt.MouseButton.LeftButton, pos=there.toPoint())
    desk.wait(lambda: words.text() != told)  # type: ignore[attr-defined]
    moved = desk.named("Offset", LengthField).value  # type: ignore[attr-defined]
    assert moved == pytest.approx(5.5, abs=1.0) and panel.step is not None and panel.step.offset == moved
    desk.named("Offset", LengthField).set_value(0.5)  # type: ignore[attr-defined]
    panel._offset_chosen(0.5)
    desk.wait(lambda: words.text() == told)  # type: ignore[attr-defined]
    desk.click("Cut")
    after = desk.window.session.derived.scan
    assert after is not None and len(after.points) == pytest.approx(
        len(before.points) - going, abs=len(before.points) * 0.01
    )
    heights = POSE.inverse.apply(after.points)[:, 2]
    assert heights.min() > 10.4 or heights.max() < 10.6
    assert panel.step is None and not stage.stage.has("going")
    desk.window.hub.perform("undo")
    desk.wait()
    assert desk.window.session.derived.scan is before


def test_planes_that_cannot_cut_are_said_so(desk: Hand, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    desk.go(Key.ASSEMBLE)
    desk.click("Find the table")
    desk.wait(lambda: "no table was found" in desk.window.notice.text)
    few = tmp_path / "few.csv"
    few.write_text("name,X,Y,Z\nT1,0,0,0\nT2,50,0,0\n", "utf-8")
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_: (str(few), ""))
    desk.click("Through targets\u2026")
    assert "a plane needs three targets, and there are 2" in desk.window.notice.text
    few.write_text("name,X,Y,Z\nT1,0,0,0\nT2,50,0,0\nT3,20,0,0\n", "utf-8")
    desk.click("Through targets\u2026")
    assert "line" in desk.window.notice.text
    few.write_text("name,X,Y,Z\n" + "".join(f"T{k},{20 * k},{k},3\n" for k in range(5)), "utf-8")
    desk.click("Through targets\u2026")
    assert "one line" in desk.window.notice.text and desk.window.assemble.trimming.step is None
    places = POSE.apply([(0, 0, 5), (60, 0, 5), (0, 40, 5), (60, 40, 5)])
    few.write_text("name,X,Y,Z\n" + "".join(f"T{k},{x},{y},{z}\n" for k, (x, y, z) in enumerate(places)), "utf-8")
    desk.click("Through targets\u2026")
    panel = desk.window.assemble.trimming
    desk.wait(lambda: panel.step is not None and panel.handle.plane is not None)
    desk.press(Qt.Key.Key_Escape)
    assert panel.step is None and not desk.window.view.stage.has("going")


def test_readings_are_pinned_spread_and_removed(desk: Hand) -> None:
    window = desk.window
    window.hub.perform("align automatically")
    desk.wait()
    desk.go(Key.MEASURE)
    desk.press(Qt.Key.Key_5)
    desk.click("Grid on face\u2026")
    desk.named("Grid spacing", LengthField).set_value(15.0)  # type: ignore[attr-defined]
    desk.click_at((45.0, 25.0, 10.0))
    labels = [r.label for r in window.view.cards.readings]
    assert len(labels) > 4 and labels[0].startswith("face ")
    listed = desk.named("Readings", QListWidget)
    assert listed.count() == len(labels)  # type: ignore[attr-defined]
    desk.press(Qt.Key.Key_P)
    desk.click_at((10.0, 6.0, 31.0))
    assert window.view.cards.readings[-1].label == "R1"
    listed.setCurrentRow(listed.count() - 1)  # type: ignore[attr-defined]
    assert window.measure.reading == "R1" and window.measure._detail.texts[0] == "Reading R1"
    desk.click("Remove")
    assert [r.label for r in window.view.cards.readings] == labels
    QTest.keyClicks(desk.named("Place of a reading", QLineEdit), "1 2")
    QTest.keyClick(desk.named("Place of a reading", QLineEdit), Qt.Key.Key_Return)
    assert "a place has three numbers" in window.notice.text


def test_cover_fields_limits_and_undo(desk: Hand) -> None:
    desk.go(Key.BRIEF)
    field = desk.named("Serial", QLineEdit)
    field.setFocus()
    QTest.keyClicks(field, "0099")
    QTest.keyClick(field, Qt.Key.Key_Return)
    desk.wait()
    assert desk.window.session.job.brief.serial == "0099"
    assert "serial 0099" in desk.window.strip._under.text()
    length = desk.named("Upper limit", LengthField)
    length.setFocus()
    length.selectAll()  # type: ignore[attr-defined]
    QTest.keyClicks(length, "1/8 in")
    QTest.keyClick(length, Qt.Key.Key_Return)
    assert length.value == pytest.approx(3.175)  # type: ignore[attr-defined]
    desk.click("Add characteristic")
    assert [p.upper for p in desk.window.session.job.procedure.characteristics] == [0.2, 3.175]
    lower = desk.named("Lower limit", LengthField)
    lower.set_value(9.0)  # type: ignore[attr-defined]
    desk.click("Add characteristic")
    assert desk.window.notice.text.startswith("Characteristic: the lower limit must lie below the upper limit.")
    assert len(desk.window.session.job.procedure.characteristics) == 2
    desk.click("Remove characteristic 1")
    assert list(desk.ledger()) == ["2"]
    for _ in range(3):
        desk.window.hub.perform("undo")
        desk.wait()
    assert desk.window.session.job.brief.serial == "" and list(desk.ledger()) == ["1"]


def test_faces_are_picked_for_a_characteristic(desk: Hand) -> None:
    desk.go(Key.BRIEF)
    desk.click("Pick faces")
    desk.press(Qt.Key.Key_5)
    desk.click_at((45.0, 25.0, 10.0))
    said = desk.named("Chosen faces", QLabel).text()  # type: ignore[attr-defined]
    assert said.startswith("For face ") and "plane" in said
    desk.click_at((45.0, 25.0, 10.0))
    assert "whole part" in desk.named("Chosen faces", QLabel).text()  # type: ignore[attr-defined]
    desk.press(Qt.Key.Key_Escape)
    assert not desk.window.brief._characteristics.is_picking


def test_a_step_that_fails_leaves_the_job(desk: Hand) -> None:
    session = desk.window.session
    before = session.job
    session.edit("a frame", lambda job: job.with_step(AsScanned(name="a")).with_step(Decide(alignment="nowhere")))
    desk.wait()
    assert session.job.procedure.decide.alignment == "nowhere", "a frame that is not there yet is no failure"
    session.undo()
    desk.wait()
    session.edit("nothing left", lambda job: job.with_step(_impossible()))
    desk.wait()
    assert "nothing would be left of the scan" in desk.window.notice.text
    assert session.job == before and session.timeline.redo_label is not None


def _impossible():  # type: ignore[no-untyped-def]
    from juxtum.job.steps import PlaneChoice, Trim

    return Trim(plane=PlaneChoice(point=(0, 0, 900), normal=(0, 0, 1)))


def test_work_is_cancelled_and_the_job_stays(desk: Hand) -> None:
    session, before = desk.window.session, desk.window.session.job

    def slow(progress: Progress) -> object:
        for k in range(1000):
            progress.phase("counting slowly", k / 1000)
            time.sleep(0.01)
        raise AssertionError("nobody stopped it")

    session.compute(slow, lambda answer: None)
    end = time.monotonic() + 10
    while desk.window.status._phase.text() != "counting slowly" and time.monotonic() < end:
        QApplication.processEvents()
    assert desk.named("Stop").isEnabled()
    QTest.mouseClick(desk.named("Stop"), Qt.MouseButton.LeftButton)
    desk.wait()
    assert desk.window.notice.text == "Stopped; the job is as it was" and session.job is before


def test_workbench_answers_in_order_and_survives_failures(application: QApplication) -> None:
    bench, heard = Workbench(), []
    bench.ask(lambda p: 1, heard.append, heard.append)
    bench.ask(lambda p: 1 / 0, heard.append, lambda e: heard.append(type(e)))
    bench.ask(lambda p: (_ for _ in ()).throw(Cancelled()), heard.append, lambda e: heard.append(type(e)))
    bench.ask(lambda p: 4, heard.append, heard.append)
    end = time.monotonic() + 10
    while bench.is_busy and time.monotonic() < end:
        application.processEvents()
    bench.close()
    assert heard == [1, ZeroDivisionError, Cancelled, 4] and not bench.is_busy


CRASHED = """
import sys
from pathlib import Path
from juxtum.job import Brief, FileStore, Job, inputs_of
from juxtum.job.files import inputs_folder
from juxtum.job.recovery import Recovery
files = FileStore(inputs_folder())
Recovery().note(Job(brief=Brief(part="Left behind"), inputs=inputs_of(files.adopt(Path(sys.argv[1])))), None)
"""


def test_a_job_comes_back_after_a_crash(application: QApplication, tmp_path: Path) -> None:
    part = write_bracket(tmp_path / "n.stl")
    subprocess.run([sys.executable, "-c", CRASHED, part], check=True, env=os.environ)
    window = opened(tmp_path)
    hand = Hand(window)
    _begin(window, [], demo=False)
    hand.wait(lambda: window.session.derived.nominal is not None)
    assert window.session.job.brief.part == "Left behind"
    assert "is back as it was" in window.notice.text
    assert window.session.recovery.left_behind() is None
    close(window)


def test_unknown_files_are_refused_in_words(desk: Hand, tmp_path: Path) -> None:
    (tmp_path / "picture.png").write_bytes(b"x")
    desk.window.bringing.bring([tmp_path / "picture.png"])
    assert "'.png' files are not read" in desk.window.notice.text


def test_ledger_spares_columns_where_there_is_little_room(desk: Hand) -> None:
    ledger = desk.window.ledger
    desk.window.resize(1000, 640)
    desk.wait()
    assert ledger.isColumnHidden(2) and not ledger.isColumnHidden(5), "the uncertainty stays"
    desk.window.resize(1500, 900)
    desk.wait()
    assert not ledger.isColumnHidden(2)


def test_help_pages_say_what_they_should() -> None:
    for key in Key:
        assert len(METHODS[key]) >= 1 and key.caption in method_text(key)
    assert "ISO 14253-1" in method_text(Key.MEASURE) and "JCGM 106" in method_text(Key.MEASURE)


@pytest.mark.parametrize(("typed", "value", "bad"), [("0,35", 0.35, False), ("2 cm", 20.0, False), ("wide", 1.0, True)])
def test_length_fields(application: QApplication, typed: str, value: float, bad: bool) -> None:
    field = LengthField("Length", 1.0)
    field.selectAll()
    QTest.keyClicks(field, typed)
    QTest.keyClick(field, Qt.Key.Key_Return)
    assert field.value == pytest.approx(value) and (field.property("bad") == "true") is bad
    field.deleteLater()


def test_messages_are_sentences() -> None:
    problem = InputError("the file is\nempty.", "a\tb.stl", "Copy it again")
    assert problem.sentence == "a b.stl: the file is empty. Copy it again."


def test_numbers_in_a_narrow_slot_stand_beside_each_other(application: QApplication) -> None:
    """Both sides are named between them: drawn over each other neither could be read or clicked."""
    canvas, picked = SectionCanvas(), list[str]()
    box = np.array([[0.0, 0.0], [60.0, 40.0]])
    sides = [
        Named(str(k), np.array([30.0, 20.0 + off]), np.array([0.0, -np.sign(off)])) for k, off in ((1, -0.8), (2, 0.8))
    ]
    across = Named("3", np.array([30.5, 20.0]), np.array([1.0, 0.0]))
    canvas.resize(420, 300)
    canvas.picked.connect(picked.append)
    canvas.show_picture(
        SectionPicture((), (*sides, across), box, 50, np.zeros((0, 2)), np.zeros((0, 2))), is_another=True
    )
    places = canvas.name_places()
    assert all((np.abs(a - b) >= 15).any() for a, b in combinations(places, 2))
    for x, y in places:
        QTest.mouseClick(canvas, Qt.MouseButton.LeftButton, pos=QPoint(round(x), round(y)))
    assert picked == ["1", "2", "3"]
    canvas.grab()
    canvas.deleteLater()
