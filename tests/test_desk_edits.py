"""Edits of the window that change more than a number: coats, characteristics, scans, revisions."""

from __future__ import annotations

from pathlib import Path

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QComboBox, QLineEdit

from hand import Hand, answer_unit, evaluation_of
from helpers import HOLES, bracket_mesh, hole_at, plate
from juxtum.evaluate.kinds import Profile
from juxtum.exchange.cad import write_step
from juxtum.guide.findings import Key


@pytest.fixture
def desk(small_desk: Hand) -> Hand:
    """A small job whose map is there."""
    return small_desk


def test_a_coat_of_a_scan_from_elsewhere_is_typed(desk: Hand) -> None:
    """It comes off the values and enters their budget; with no thickness there is none."""
    session = desk.window.session
    desk.go(Key.BRIEF)
    bare = evaluation_of(desk).ledger[0].value
    for name, text in (("Coat, mm", "0.012"), ("Coat uncertainty \u00b1, mm", "0.008")):
        field = desk.named(name, QLineEdit)
        assert isinstance(field, QLineEdit)
        field.setText(text)
        field.editingFinished.emit()
        desk.wait()
    coated = evaluation_of(desk).ledger[0]
    assert coated.value == pytest.approx(bare - 0.012, abs=1e-6)
    assert any(line.source == "coat 12 \u00b1 8 \u00b5m" for line in coated.budget.contributions)
    thickness = desk.named("Coat, mm", QLineEdit)
    assert isinstance(thickness, QLineEdit)
    thickness.setText("0")
    thickness.editingFinished.emit()
    desk.wait()
    assert not session.job.circumstances.coats and evaluation_of(desk).ledger[0].value == pytest.approx(bare, abs=1e-9)


def test_characteristics_are_changed_and_reordered(desk: Hand) -> None:
    window = desk.window
    desk.go(Key.BRIEF)
    desk.click("Add characteristic")
    assert [p.id for p in window.session.job.procedure.characteristics] == ["1", "2"]
    desk.click("Change characteristic 2")
    title, number = desk.named("Title", QLineEdit), desk.named("Number", QLineEdit)
    assert isinstance(title, QLineEdit) and isinstance(number, QLineEdit)
    title.setText("Pad of the clamp")
    number.setText("7")
    upper = desk.named("Upper limit", QLineEdit)
    assert isinstance(upper, QLineEdit)
    upper.setText("0,35")
    upper.editingFinished.emit()
    seen = desk.named("Seen at least, %", QLineEdit)
    assert isinstance(seen, QLineEdit) and seen.text() == "90"
    seen.setText("40")
    seen.editingFinished.emit()
    desk.click("Add characteristic")
    desk.click("Move characteristic 7 up")
    first, second = window.session.job.procedure.characteristics
    assert (first.id, first.title, first.upper, first.least_seen, second.id) == (
        "7",
        "Pad of the clamp",
        0.35,
        0.4,
        "1",
    )
    assert list(desk.ledger()) == ["7", "1"]
    desk.click("Change characteristic 1")
    number.setText("7")
    desk.click("Add characteristic")
    assert "there is a characteristic 7 already" in window.notice.text
    for _ in range(3):
        desk.press(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert [p.id for p in window.session.job.procedure.characteristics] == ["1"]


def test_a_second_scan_is_measured_beside_the_first(desk: Hand, tmp_path: Path) -> None:
    """Added from the menu's path, chosen and removed in Assemble; the map follows the scan in force."""
    window = desk.window
    bracket_mesh().apply_translation((0, 0, 0.05)).export(tmp_path / "raised.ply")
    before = evaluation_of(desk).statistics.mean
    assert window.menus.actions["add scan"].isEnabled()
    desk.go(Key.ASSEMBLE)
    assert not [w for w in window.findChildren(QComboBox) if w.accessibleName() == "Scan in force" and w.isVisible()]
    window.bringing.further_scan(tmp_path / "raised.ply")
    answer_unit()
    desk.wait(lambda: window.session.derived.job.scan_in_force == "scan 2")
    assert [held.name for held in window.session.job.scans] == ["scan", "scan 2"]
    assert evaluation_of(desk).statistics.mean != before
    desk.go(Key.ASSEMBLE)
    chosen = desk.named("Scan in force", QComboBox)
    assert isinstance(chosen, QComboBox)
    assert [chosen.itemText(k) for k in range(chosen.count())] == [
        "scan: s.stl",
        "scan 2: raised.ply",
    ] and chosen.currentIndex() == 1
    window.assemble.trim_table()
    chosen.setCurrentIndex(0)
    chosen.activated.emit(0)
    desk.wait(lambda: window.session.derived.job.scan_in_force == "scan")
    assert evaluation_of(desk).statistics.mean == before
    desk.click("Remove it")
    assert [held.name for held in window.session.job.scans] == [
        "scan 2"
    ] and window.session.job.scan_in_force == "scan 2"
    window.session.undo()
    desk.wait(lambda: window.session.job.scan_in_force == "scan")


def test_a_new_revision_of_the_nominal_keeps_its_faces(desk: Hand, tmp_path: Path) -> None:
    """Faces are found again by what they are, lost ones are told, and one undo brings all of it back."""
    window = desk.window
    session = window.session
    files = session.files
    write_step(plate(), tmp_path / "a.step")
    write_step(plate(HOLES[1:]), tmp_path / "b.step")
    window.bringing.nominal(tmp_path / "a.step")
    desk.wait(lambda: session.derived.nominal is not None and len(session.derived.nominal.faces) == 12)
    old = session.derived.nominal
    assert old is not None
    for k, place in enumerate((HOLES[0], HOLES[3])):
        session.add(Profile(id=str(k + 2), title="hole", faces=(hole_at(old, *place),)), "a characteristic")
    desk.wait(lambda: len(session.derived.job.procedure.characteristics) == 3)
    held = session.job
    window.bringing.nominal(tmp_path / "b.step")
    desk.wait(lambda: session.derived.nominal is not None and len(session.derived.nominal.faces) == 11)
    new = session.derived.nominal
    assert new is not None and files.locate(session.job.nominal).name == "b.step"  # type: ignore[arg-type]
    _, lost, kept = session.job.procedure.characteristics
    assert lost.faces == () and kept.faces == (hole_at(new, *HOLES[3]),)
    assert "is not in the new nominal" in window.notice.text
    reason = evaluation_of(desk).ledger[1].reason
    assert "is not in the nominal any more" in reason
    session.undo()
    desk.wait(lambda: session.job == held)


@pytest.mark.parametrize(
    ("action", "key"),
    [
        ("plan targets", Key.PLAN),
        ("go blind spots", Key.PLAN),
        ("pick pairs", Key.ALIGN),
        ("pin readings", Key.MEASURE),
        ("practise", Key.CAPTURE),
    ],
)
def test_an_action_goes_where_it_happens(desk: Hand, action: str, key: Key) -> None:
    desk.go(Key.BRIEF)
    desk.window.hub.perform(action)
    assert desk.window.hub.station.key is key
    desk.wait()
