"""Two things at once: clicks that do not wait for what was clicked before."""

from __future__ import annotations

import threading
import time
from pathlib import Path

import numpy as np
import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QLineEdit

from hand import Hand, close, evaluation_of, opened
from juxtum.desk.derived import Deriver
from juxtum.errors import Cancelled
from juxtum.evaluate import DecisionRule
from juxtum.guide.findings import Key
from juxtum.job import FileStore, Job, save_job
from juxtum.job.document import Brief
from juxtum.job.readiness import Tick
from juxtum.progress import Progress


@pytest.fixture
def desk(small_desk: Hand) -> Hand:
    """A small job whose map is there."""
    return small_desk


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


@pytest.mark.parametrize("gone_on", [False, True])
def test_an_alignment_that_comes_late_leaves_the_stage_to_where_the_user_is(desk: Hand, gone_on: bool) -> None:
    """Asked for at Assemble, or at Align and then gone on: the map lay under the borders of a scan that is not laid."""
    window = desk.window
    desk.go(Key.ALIGN if gone_on else Key.ASSEMBLE)
    window.menus.actions["align automatically"].trigger()
    if gone_on:
        desk.go(Key.ASSEMBLE)
    desk.wait(lambda: window.session.derived.in_force == "best fit")
    assert desk.window.hub.is_at(Key.ASSEMBLE) and not window.view.stage.has("map") and window.view.stage.has("scan")
    desk.go(Key.ALIGN)
    assert window.view.stage.has("map")


def test_a_long_plan_does_not_hold_up_an_edit(desk: Hand) -> None:
    session, plan_may_end = desk.window.session, threading.Event()

    def slowly(job: Job, progress: Progress) -> Job:
        while not plan_may_end.wait(0.01):
            progress.check()
        return job.model_copy(update={"prepared": (Tick(key="safe"),)})

    session.edit_slowly("a long plan", slowly)
    session.edit("serial", serial("7"))
    end = time.monotonic() + 20
    while session.derived.job.brief.serial != "7":
        QApplication.processEvents()
        assert time.monotonic() < end, "the edit waits for the plan"
    plan_may_end.set()
    desk.wait()
    assert session.job.prepared == (Tick(key="safe"),) and session.job.brief.serial == "7"


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
