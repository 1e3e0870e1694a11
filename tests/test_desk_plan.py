"""The station Plan in the real window: what a user clicks, drags and reads."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QCheckBox, QComboBox, QFileDialog, QLabel, QLineEdit, QToolButton

from hand import Hand, Walk, close, opened, opened_demo
from helpers import box_mesh, bracket_mesh
from juxtum.demo.job import FACES
from juxtum.desk.planning.topics import Topic
from juxtum.exchange.meshes import write_ply
from juxtum.guide.findings import Key
from juxtum.job import Job, inputs_of
from juxtum.job.document import default_procedure
from juxtum.units import Unit


def begun(folder: Path) -> Hand:
    """The demo job where planning begins: it comes planned and captured."""
    hand = opened_demo(folder)
    job = hand.window.session.job
    bare = {"plan": job.plan.model_copy(update={"targets": (), "expected": None}), "capture": None}
    hand.window.session.edit("nothing planned", lambda job: job.model_copy(update=bare))
    hand.wait()
    return hand


@pytest.fixture
def plan(walk: Walk, request: pytest.FixtureRequest) -> Hand:
    """The window as the test expects it."""
    return walk.up_to(request)


def topic(hand: Hand, name: Topic) -> None:
    QTest.mouseClick(hand.named(f"Topic {name.value}", QToolButton), Qt.MouseButton.LeftButton)
    hand.wait(lambda: hand.window.plan.made is not None)
    hand.window.resize(1280, 800)
    assert not hand.cut_off(), name


def rows(hand: Hand) -> list[list[str]]:
    """The table under the stage, as it would be pasted."""
    return [line.split("\t") for line in hand.window.plan.table.as_text().splitlines()[1:]]


def facts(hand: Hand) -> dict[str, str]:
    return hand.window.plan.panels[hand.window.plan.topic].facts.facts


def read(hand: Hand, name: str) -> str:
    label = hand.named(name, QLabel)
    assert isinstance(label, QLabel)
    return label.text()


def test_a_rough_scan_serves_where_there_is_no_nominal(application: QApplication, tmp_path: Path) -> None:
    window = opened(tmp_path)
    hand = Hand(window)
    part = bracket_mesh()
    part.apply_scale(4.0)
    part.export(tmp_path / "rough.stl")
    window.session.start(
        Job(inputs=inputs_of(scan=window.session.files.adopt(tmp_path / "rough.stl", Unit.MILLIMETRE)))
    )
    hand.wait(lambda: window.session.derived.scan is not None)
    hand.go(Key.PLAN)
    assert hand.next() == "Next: plan on the scan"
    hand.click("Do the next action")
    hand.wait(lambda: window.plan.made is not None)
    assert hand.next() == "Next: plan the targets"
    hand.click("Do the next action")
    hand.wait(lambda: len(window.plan.plan.targets) > 0 and window.plan.made is not None)
    assert hand.finding(Key.PLAN).endswith("seen") and all(r[6] in ("", "must not be lost") for r in rows(hand))
    close(window)


def served(hand: Hand) -> tuple[float, int]:
    """Share of the poses that is served, %, and how few stations it takes; more is better."""
    read = facts(hand)
    return float(read["poses served"].split()[0]), -int(read["stations"].split(",")[0])


def test_the_beam_is_planned_from_its_own_menu(application: QApplication, tmp_path: Path) -> None:
    window = opened(tmp_path)
    hand = Hand(window)
    window.menus.actions["open demo beam"].trigger()
    hand.wait(lambda: window.session.derived.nominal is not None)
    assert hand.next() == "Next: plan the measurement"
    hand.click("Do the next action")
    hand.wait(lambda: window.plan.made is not None)
    assert window.hub.station.key is Key.PLAN
    topic(hand, Topic.STATIONS)
    assert facts(hand)["stations"] == "3, proven fewest"
    free = served(hand)
    box = hand.named("Obstacle", QLineEdit)
    assert isinstance(box, QLineEdit)
    box.setText("-3000 600 -2000 3000 700")
    hand.click("Add obstacle")
    assert "an obstacle has six numbers" in window.notice.text
    box.setText("-3000 600 -2000  3000 700 4000")
    hand.click("Add obstacle")
    hand.wait(lambda: window.plan.made is not None)
    assert len(window.plan.plan.obstacles) == 1 and served(hand) < free, "a wall costs poses, or stations"
    window.hub.perform("plan targets")
    QTest.qWait(1500)
    assert window.session.workbench.is_busy
    window.hub.perform("stop")
    hand.wait()
    assert "Stopped; the job is as it was" in window.notice.text and not window.plan.plan.targets
    close(window)


def test_the_part_is_put_on_a_plate_with_one_click(application: QApplication, tmp_path: Path) -> None:
    """And back, and twice at once: the last click counts, and each is one step that can be undone."""
    hand = begun(tmp_path)
    plan = hand.window.plan
    hand.go(Key.PLAN)
    topic(hand, Topic.TARGETS)
    hand.wait(lambda: plan.made is not None)
    hand.click("Do the next action")
    hand.wait(lambda: len(rows(hand)) > 10 and len(plan.answers.ways(plan.planner)) == 4)
    alone = plan.plan.targets
    hand.click("Way: equipment, a few on the part")
    hand.wait(lambda: bool(plan.plan.equipment) and plan.made is not None)
    assert 3 <= len(plan.plan.targets) <= 8 and hand.finding(Key.PLAN).startswith(
        f"{len(plan.plan.targets)} targets on the part"
    )
    assert "too far from the next" not in plan.table.as_text(), "the plate's own targets are near"
    assert hand.next() == "Next: print the set-up sheet"
    hand.click("Way: all on equipment")
    hand.wait(lambda: not plan.plan.targets and plan.made is not None)
    assert (
        plan.plan.joined == "by shape" and not plan.table.isVisible() and facts(hand)["targets"] == "nothing to stick"
    )
    QTest.mouseClick(hand.named("Way: on the part"), Qt.MouseButton.LeftButton)
    QTest.mouseClick(hand.named("Way: all on equipment"), Qt.MouseButton.LeftButton)
    hand.wait(lambda: plan.made is not None)
    assert plan.plan.joined == "by shape", "two clicks without waiting: the last one counts"
    for _ in range(4):
        hand.press(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    hand.wait(lambda: plan.plan.targets == alone and not plan.plan.equipment and plan.made is not None)
    close(hand.window)


def test_a_part_without_room_for_targets_is_planned_on_a_plate(application: QApplication, tmp_path: Path) -> None:
    """Of 5 mm: no refusal where planning begins, and no advice that cannot be followed."""
    hand = Hand(opened(tmp_path))
    session = hand.window.session
    write_ply(tmp_path / "n.ply", box_mesh((5.0, 3.0, 2.0)))
    session.start(Job(inputs=inputs_of(session.files.adopt(tmp_path / "n.ply")), procedure=default_procedure()))
    hand.wait(lambda: session.derived.nominal is not None)
    hand.go(Key.PLAN)
    topic(hand, Topic.TARGETS)
    assert hand.next() == "Next: plan the targets"
    hand.click("Do the next action")
    hand.wait(
        lambda: session.job.plan is not None and bool(session.job.plan.equipment) and hand.window.plan.made is not None
    )
    assert session.job.plan.joined == "by shape" and facts(hand)["targets"] == "nothing to stick"
    assert hand.next() != "Next: allow a face"
    close(hand.window)


def test_1_fit_says_whether_the_chain_does(plan: Hand) -> None:
    plan.go(Key.PLAN)
    plan.wait(lambda: plan.window.plan.made is not None)
    table = {row[0]: row for row in rows(plan)}
    assert table["1"][5].endswith("good") and table["2"][5].endswith("not suitable")
    assert not plan.window.ledger.isVisible() and plan.window.plan.table.isVisible()
    assert "With bars the length error at 0.17 m falls from" in read(plan, "Chart in words")
    plan.window.plan.table.setCurrentCell(2, 0)
    own = plan.named("Every method").facts  # type: ignore[attr-defined]
    assert own and not any(name.startswith(("WS-1", "WL-1")) for name in own), "the demo's shop has neither"
    box = plan.named("Also what the shop does not have", QCheckBox)
    assert isinstance(box, QCheckBox)
    box.click()
    plan.wait(lambda: plan.window.plan.made is not None)
    plan.window.plan.table.setCurrentCell(2, 0)
    every = plan.named("Every method").facts  # type: ignore[attr-defined]
    assert every["WS-1, one field of view"].endswith("\u25cf") and every["WL-1, projected back"].endswith("\u25a0")
    assert read(plan, "Spacing needed").startswith("Needs a point every 1 mm")
    choice = plan.named("Mode", QComboBox)
    assert isinstance(choice, QComboBox)
    before = table["3"][3]
    choice.setCurrentIndex(choice.findText("fine parallel lines"))
    choice.activated.emit(choice.currentIndex())
    plan.wait(lambda: plan.window.plan.made is not None)
    assert plan.window.plan.planner.mode.name == "fine parallel lines"
    assert float({row[0]: row for row in rows(plan)}["3"][3]) < float(before), (
        "what is judged is the mode that is chosen"
    )
    plan.press(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    plan.wait(lambda: plan.window.plan.made is not None)
    assert plan.window.plan.planner.mode.name == "crossed lines"


def test_2_targets_are_planned_and_shown(plan: Hand) -> None:
    topic(plan, Topic.TARGETS)
    assert plan.next() == "Next: plan the targets"
    plan.click("Do the next action")
    plan.wait(lambda: len(rows(plan)) > 10 and len(plan.window.plan.answers.ways(plan.window.plan.planner)) == 4)
    count, *_ = facts(plan)["targets"].split(",")
    assert plan.finding(Key.PLAN).split()[0] == count and 8 <= int(count) <= 24
    ways = plan.named("Ways").shown  # type: ignore[attr-defined]
    assert ways["on the part"].endswith(f"{count} to stick") and ways["all on equipment"].endswith("none to stick")
    assert int(ways["equipment, a few on the part"].split()[-3]) <= 8 and ways["none, by shape"].count("not known") == 1
    top = plan.colour_at((-60, -60, 18))
    legend = plan.named("Seen while tracking").grab().toImage()
    assert legend.width() > 50 and top.blue() >= top.red() - 8, "places seen well are in the calm end of the bands"
    first = plan.window.plan.plan.targets[0]
    assert f"face {first.face}" == rows(plan)[0][1]


def nearest_visible(plan: Hand) -> int:
    """A target on the plate's top that a click takes, with bare plate beside it."""
    handles, top = plan.window.plan.handles, FACES["plate top"]

    def is_free(k: int, x: float, y: float) -> bool:
        surface = handles.surface_at(plan.spot((x + 9.0, y + 4.0, 18.0)).toPointF())
        return (
            handles.index_at(plan.spot((x, y, 18.0)).toPointF()) == k
            and surface is not None
            and bool(abs(surface[2] - 18) < 0.1)
        )

    return next(
        k for k, t in enumerate(plan.window.plan.plan.targets) if t.face == top and is_free(k, t.place[0], t.place[1])
    )


def test_3_a_target_is_dragged_over_the_surface_and_scored(plan: Hand) -> None:
    index = nearest_visible(plan)
    before = plan.window.plan.plan.targets[index].place
    start = plan.spot(before)
    end = plan.spot((before[0] + 9.0, before[1] + 4.0, 18.0))
    view = plan.window.view
    QTest.mousePress(view, Qt.MouseButton.LeftButton, pos=start)
    for k in range(1, 6):
        QTest.mouseMove(
            view, QPoint(start.x() + (end.x() - start.x()) * k // 5, start.y() + (end.y() - start.y()) * k // 5)
        )
    QTest.mouseRelease(view, Qt.MouseButton.LeftButton, pos=end)
    plan.wait(lambda: plan.window.plan.made is not None)
    after = plan.window.plan.plan.targets[index].place
    assert np.linalg.norm(np.subtract(after, before)) == pytest.approx(9.8, abs=2.5) and after[2] == pytest.approx(18)
    assert plan.window.session.timeline.undo_label == f"move target {index + 1}"
    plan.press(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    plan.wait(lambda: plan.window.plan.made is not None)
    assert plan.window.plan.plan.targets[index].place == before


def test_4_choose_lock_delete_and_improve(plan: Hand) -> None:
    index = nearest_visible(plan)
    plan.click_at(plan.window.plan.plan.targets[index].place)
    assert plan.window.plan.handles.selected == index and plan.window.plan.table.currentRow() == index
    plan.click("Lock target")
    plan.wait(lambda: plan.window.plan.made is not None)
    locked = plan.window.plan.plan.targets[index]
    assert locked.locked and rows(plan)[index][6] == "locked"
    other = next(k for k in range(len(rows(plan))) if k != index)
    count = len(rows(plan))
    plan.window.plan.table.setCurrentCell(other, 0)
    plan.press(Qt.Key.Key_Delete)
    plan.wait(lambda: plan.window.plan.made is not None)
    assert len(rows(plan)) == count - 1
    plan.click("Improve the rest")
    plan.wait(lambda: plan.window.plan.made is not None)
    assert locked.place in [t.place for t in plan.window.plan.plan.targets if t.locked]


def test_5_a_target_is_added_by_hand_and_a_bad_place_is_told(plan: Hand) -> None:
    count = len(rows(plan))
    plan.click("Add target")
    plan.click_at((-120.0, -8.0, 18.0))
    plan.wait(lambda: plan.window.plan.made is not None)
    assert len(rows(plan)) == count + 1 and "too near" in rows(plan)[-1][6]
    plan.press(Qt.Key.Key_Escape)
    plan.press(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    plan.wait(lambda: plan.window.plan.made is not None)
    assert len(rows(plan)) == count


def test_6_every_other_topic_answers_or_says_why_not(plan: Hand) -> None:
    topic(plan, Topic.PHOTOS)
    by_target = plan.named("List targets", QCheckBox)
    QTest.mouseClick(by_target, Qt.MouseButton.LeftButton, pos=QPoint(8, by_target.height() // 2))
    assert {r[1] for r in rows(plan)} == {"code on the part", "target on the part", "end of a bar"}
    QTest.mouseClick(by_target, Qt.MouseButton.LeftButton, pos=QPoint(8, by_target.height() // 2))
    assert int(facts(plan)["photos"].split(",")[0]) == len(rows(plan)) and "bar E 280.006 mm" in read(
        plan, "Plan words"
    )
    topic(plan, Topic.STATIONS)
    assert facts(plan)["poses served"].startswith(("99", "100")) and rows(plan)[0][0] == "1"
    topic(plan, Topic.BLIND)
    assert facts(plan)["characteristic 3"] == "scan" and any(r[0] == "deep hole" for r in rows(plan))
    topic(plan, Topic.TURNTABLE)
    assert float(facts(plan)["surface seen"].split()[0]) > 95
    topic(plan, Topic.TRAY)
    assert read(plan, "Plan words").startswith("tray: not even one part fits into")
    assert all(map(plan.window.view.stage.has, ("rays", "nominal"))), "the part beside the room that there is"
    topic(plan, Topic.EFFORT)
    assert rows(plan)[0][0] == "08:15" and rows(plan)[-1][2] == "done"
    scans = [f"from {row[0]}" for row in rows(plan) if row[2].startswith("scan")]
    legend = plan.named("Scanned by the schedule")
    assert legend.isVisible() and legend.accessibleDescription().split(", ") == [*scans, "both times", "not scanned"]
    assert all(map(plan.window.view.stage.has, ("band good", "band three", "band enough")))
    start = plan.named("Start", QLineEdit)
    assert isinstance(start, QLineEdit)
    start.setText("24:15")
    start.editingFinished.emit()
    assert "'24:15' is not a clock time" in plan.window.notice.text
    start.setText("09:30")
    start.editingFinished.emit()
    plan.wait(lambda: plan.window.plan.made is not None)
    assert rows(plan)[0][0] == "09:30"


def test_7_a_glossy_bore_changes_the_method_in_the_ledger(plan: Hand) -> None:
    topic(plan, Topic.BLIND)
    plan.click("Pick faces of this finish")
    plan.click_at(tuple(plan.window.session.derived.nominal.face(FACES["seat top"]).centre))
    plan.wait(lambda: plan.window.plan.made is not None)
    assert read(plan, "Finishes") == f"face {FACES['seat top']}: glossy."
    assert facts(plan)["characteristic 2"] == "scan, other mode"
    plan.go(Key.BRIEF)
    lines = [line.split("\t") for line in plan.window.ledger.as_text().splitlines()]
    assert lines[0][-1] == "Method" and {r[-1] for r in lines[1:] if r[0] == "2"} == {"scan, other mode"}
    assert plan.window.ledger.isVisible() and not plan.window.plan.table.isVisible()


def test_8_the_sheet_is_written_and_the_plan_stays_in_the_job(
    plan: Hand, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(QFileDialog, "getExistingDirectory", lambda *_: str(tmp_path))
    plan.window.hub.perform("write setup sheet")
    plan.wait(lambda: "set-up sheet is in" in plan.window.notice.text)
    lines = (tmp_path / "targets.csv").read_text().splitlines()
    assert len(lines) == len(plan.window.plan.plan.targets) + 1 and (
        tmp_path / "setup-sheet.pdf"
    ).read_bytes().startswith(b"%PDF")
    kept = plan.window.session.job.plan
    plan.window.session.save(tmp_path / "planned.juxtum")
    plan.wait()
    plan.window.session.open(tmp_path / "planned.juxtum")
    plan.wait(lambda: plan.window.session.path is not None)
    assert plan.window.session.job.plan == kept


def test_9_instruments_are_saved_edited_and_loaded(plan: Hand, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    path = tmp_path / "mine.json"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(path), ""))
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_: (str(path), ""))
    plan.go(Key.PLAN)
    topic(plan, Topic.FIT)
    plan.window.hub.perform("save instrument")
    plan.wait(path.exists)
    document = json.loads(path.read_text())
    document["name"], document["id"] = "Our old scanner", "old-1"
    document["chains"][0]["a"] = 0.2
    path.write_text(json.dumps(document))
    plan.click("Load instrument")
    plan.wait(lambda: plan.window.plan.made is not None)
    assert plan.window.plan.planner.model.name == "Our old scanner"
    assert all(not r[5].endswith("good") for r in rows(plan) if r[0] in ("2", "3", "5"))
    document["chains"][0]["a"] = -1
    path.write_text(json.dumps(document))
    plan.click("Load instrument")
    plan.wait()
    assert "'chains.0.a' is not right" in plan.window.notice.text
