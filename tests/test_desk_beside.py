"""Two things at once: clicks that do not wait for what was clicked before."""

from __future__ import annotations

import threading
import time
from pathlib import Path

import numpy as np
import pytest
from PyQt6.QtCore import Qt, QTimer
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QComboBox, QLineEdit

from hand import Hand, close, opened
from helpers import HOLES, bracket_mesh, hole_at, plate
from juxtum.desk.derived import Deriver
from juxtum.errors import Cancelled
from juxtum.evaluate import DecisionRule
from juxtum.evaluate.kinds import Profile
from juxtum.exchange.cad import write_step
from juxtum.guide.findings import Key
from juxtum.job import FileStore, Job, save_job
from juxtum.job.document import Brief
from juxtum.job.outcomes import Evaluation
from juxtum.progress import Progress


@pytest.fixture
def desk(small_desk: Hand) -> Hand:
    """A small job whose map is there."""
    return small_desk


def evaluation_of(desk: Hand) -> Evaluation:
    found = desk.window.session.derived.evaluation
    assert found is not None
    return found


def test_limits_and_rule_at_once(desk: Hand) -> None:
    window = desk.window
    desk.go(Key.MEASURE)
    window.measure.set_limits(-0.31, 0.32)
    window.judging.toggle_rule()
    window.measure.set_limits(-0.31, 0.33)
    desk.wait()
    procedure = window.session.job.procedure
    assert (procedure.measure.lower, procedure.measure.upper) == (-0.31, 0.33)
    assert procedure.decide.rule is DecisionRule.SIMPLE
    assert window.session.derived.job == window.session.job


def test_readings_pinned_quickly_have_names_of_their_own(desk: Hand) -> None:
    desk.go(Key.MEASURE)
    for x in (10.0, 20.0, 30.0):
        desk.window.measure.pin(np.array([x, 30.0, 10.0]))
    desk.wait()
    assert [r.label for r in evaluation_of(desk).readings] == ["R1", "R2", "R3"]


class Gate:
    """Holds the deriving of results until it is opened, as a large scan does."""

    def __init__(self, monkeypatch: pytest.MonkeyPatch) -> None:
        self.entered, self.opened = threading.Event(), threading.Event()
        real = Deriver.derive

        def derive(deriver: Deriver, job: Job, progress: Progress) -> object:
            self.entered.set()
            while not self.opened.wait(0.01):
                progress.check()
            return real(deriver, job, progress)

        monkeypatch.setattr(Deriver, "derive", derive)

    def wait_for_work(self) -> None:
        end = time.monotonic() + 20
        while not self.entered.is_set():
            QApplication.processEvents()
            assert time.monotonic() < end
        self.entered.clear()


def serial(text: str):  # type: ignore[no-untyped-def]
    return lambda job: job.model_copy(update={"brief": job.brief.model_copy(update={"serial": text})})


def test_stop_stops_what_runs_and_keeps_what_waits(desk: Hand, monkeypatch: pytest.MonkeyPatch) -> None:
    session, gate = desk.window.session, Gate(monkeypatch)
    session.edit("serial", serial("7"))
    gate.wait_for_work()
    session.edit(
        "rule", lambda job: job.with_step(job.procedure.decide.model_copy(update={"rule": DecisionRule.SIMPLE}))
    )
    desk.window.hub.perform("stop")
    gate.wait_for_work()
    gate.opened.set()
    desk.wait()
    assert session.job.brief.serial == "" and session.job.procedure.decide.rule is DecisionRule.SIMPLE
    assert session.derived.job == session.job


def test_a_stopped_undo_leaves_job_and_picture_together(desk: Hand, monkeypatch: pytest.MonkeyPatch) -> None:
    session = desk.window.session
    session.edit("serial", serial("7"))
    desk.wait()
    gate = Gate(monkeypatch)
    desk.window.hub.perform("undo")
    gate.wait_for_work()
    assert session.derived.job.brief.serial == "7", "the older state is not derived yet"
    desk.window.hub.perform("stop")
    desk.wait()
    assert (
        session.job.brief.serial == session.derived.job.brief.serial == "7" and session.timeline.undo_label == "serial"
    )


def test_undo_of_an_edit_that_is_still_on_its_way(desk: Hand) -> None:
    session = desk.window.session
    session.edit("serial", serial("7"))
    session.edit("serial again", serial("8"))
    desk.press(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    desk.wait()
    assert session.job.brief.serial == session.derived.job.brief.serial == "7"


def test_a_long_plan_does_not_hold_up_an_edit(desk: Hand) -> None:
    session, plan_may_end = desk.window.session, threading.Event()

    def slowly(job: Job, progress: Progress) -> Job:
        while not plan_may_end.wait(0.01):
            progress.check()
        return job.model_copy(update={"prepared": ("safe",)})

    session.edit_slowly("a long plan", slowly)
    session.edit("serial", serial("7"))
    end = time.monotonic() + 20
    while session.derived.job.brief.serial != "7":
        QApplication.processEvents()
        assert time.monotonic() < end, "the edit waits for the plan"
    plan_may_end.set()
    desk.wait()
    assert session.job.prepared == ("safe",) and session.job.brief.serial == "7"


def other_job(folder: Path, part: str) -> Path:
    path = folder / f"{part}.juxtum"
    save_job(Job(brief=Brief(part=part)), path, FileStore())
    return path


def test_typing_while_another_job_is_opened(desk: Hand, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    session, b = desk.window.session, other_job(tmp_path, "B")
    before = b.read_bytes()
    session.open(b)
    session.edit("serial", serial("typed into A"))
    desk.wait(lambda: session.path == b)
    assert session.job.brief.part == "B" and session.job.brief.serial == "" and b.read_bytes() == before
    assert "was not saved; it is kept" in desk.window.notice.text
    aside = session.recovery.aside()
    assert [f.job.brief.serial for f in aside if f.job.brief.part == "A"] == ["typed into A"]
    session.recover(aside[0])
    desk.wait(lambda: session.job.brief.part == "A")
    assert session.job.brief.serial == "typed into A" and session.derived.evaluation is not None
    assert not [f for f in session.recovery.aside() if f.job.brief.part == "A"]


def test_a_job_that_loads_slowly_takes_nothing_that_is_typed_meanwhile(
    desk: Hand, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """A is shown while B loads: what is typed and saved goes into A and its file, and B comes as it is on the disk."""
    from juxtum.desk import session as module
    from juxtum.job import load_job

    session, a, b = desk.window.session, tmp_path / "A.juxtum", other_job(tmp_path, "B")
    session.save(a)
    desk.wait(lambda: session.is_saved)
    may_come, before = threading.Event(), b.read_bytes()

    def slowly(*given: object) -> Job:
        assert may_come.wait(30)
        return load_job(*given)  # type: ignore[arg-type]

    monkeypatch.setattr(module, "load_job", slowly)
    desk.go(Key.BRIEF)
    session.open(b)
    field = desk.named("Serial", QLineEdit)
    field.setFocus()
    QTest.keyClicks(field, "typed into A")
    QTest.keyClick(field, Qt.Key.Key_Return)
    QTest.keyClick(desk.window, Qt.Key.Key_S, Qt.KeyboardModifier.ControlModifier)
    for _ in range(20):
        QApplication.processEvents()
        time.sleep(0.01)
    assert session.path == a and session.job.brief.part == "A", "B is still on its way"
    may_come.set()
    desk.wait(lambda: session.path == b)
    assert session.job.brief.part == "B" and session.job.brief.serial == "" and b.read_bytes() == before
    kept = [f.job.brief.serial for f in session.recovery.aside()] + [
        load_job(a, FileStore(), tmp_path / "in").brief.serial
    ]
    assert "typed into A" in kept, "neither saved nor set aside"


def test_a_new_job_sets_the_old_one_aside(desk: Hand) -> None:
    session = desk.window.session
    session.edit("serial", serial("new job"))
    desk.press(Qt.Key.Key_N, Qt.KeyboardModifier.ControlModifier)
    desk.wait(lambda: session.job.nominal is None)
    assert "new job" in [f.job.brief.serial for f in session.recovery.aside()]


def test_a_file_changed_by_somebody_else_is_not_overwritten(desk: Hand, tmp_path: Path) -> None:
    session, path = desk.window.session, tmp_path / "shared.juxtum"
    session.save(path)
    desk.wait(lambda: session.is_saved)
    save_job(Job(brief=Brief(part="theirs")), path, FileStore())
    theirs = path.read_bytes()
    session.edit("serial", serial("mine"))
    session.save(path)
    desk.wait(lambda: session.is_saved)
    assert path.read_bytes() == theirs and session.path == tmp_path / "shared (2).juxtum" and session.path.exists()
    assert "was changed by somebody else" in desk.window.notice.text


def test_saving_counts_in_what_was_just_typed(desk: Hand, tmp_path: Path) -> None:
    from juxtum.job import load_job

    session = desk.window.session
    session.edit("serial", serial("just typed"))
    session.save(tmp_path / "a.juxtum")
    desk.wait(lambda: session.is_saved)
    assert load_job(tmp_path / "a.juxtum", FileStore(), tmp_path / "in").brief.serial == "just typed"


def test_closing_does_not_wait_for_work(application: QApplication, tmp_path: Path) -> None:
    window = opened(tmp_path)

    def endless(progress: Progress) -> None:
        while True:
            time.sleep(0.01)
            progress.check()

    for _ in range(3):
        window.session.compute(endless, lambda _: None)
    begun = time.monotonic()
    close(window)
    assert time.monotonic() - begun < 3


def test_stopped_work_says_so(desk: Hand) -> None:
    def stopped(progress: Progress) -> None:
        raise Cancelled

    desk.window.session.compute(stopped, lambda _: None)
    desk.wait()
    assert "Stopped; the job is as it was" in desk.window.notice.text


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
    answer_unit(desk)
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


def answer_unit(desk: Hand) -> None:
    """A file without a unit is asked about; millimetres are taken."""

    def accept() -> None:
        dialog = QApplication.activeModalWidget()
        if dialog is None:
            QTimer.singleShot(50, accept)
        else:
            dialog.accept()  # type: ignore[attr-defined]

    QTimer.singleShot(50, accept)


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
