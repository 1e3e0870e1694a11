"""Ready and Capture in the real window: what a user clicks, holds and reads."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QCheckBox, QComboBox, QLabel, QLineEdit, QToolButton, QWidget

from hand import Hand, Walk, opened_demo, turn_wheel
from helpers import rms_of_touches
from juxtum.capture.live.patch import State
from juxtum.devices.link import Link
from juxtum.devices.protocol import DeviceError, Message
from juxtum.guide.findings import Key
from juxtum.job.readiness import Policy
from juxtum.job.touching import touches_in


def begun(folder: Path) -> Hand:
    """The demo job with stand-ins within the desk."""
    return opened_demo(folder, {"devices/within": True, "logbook/demo": f"sqlite:///{folder / 'book.sqlite'}"})


@pytest.fixture
def desk(walk: Walk, request: pytest.FixtureRequest) -> Hand:
    """The window as the test expects it."""
    return walk.up_to(request)


class Broken:
    """A link that is lost after some messages."""

    def __init__(self, inner: Link, left: int) -> None:
        self._inner, self._left, self.receive, self.close = inner, left, inner.receive, inner.close

    def send(self, message: Message) -> None:
        self._left -= 1
        if self._left < 0:
            raise DeviceError("the connection to the device is lost", "connection", "Connect again")
        self._inner.send(message)


def read(desk: Hand, name: str) -> str:
    label = desk.named(name, QLabel)
    assert isinstance(label, QLabel)
    return label.text()


def choose(desk: Hand, name: str, text: str) -> None:
    box = desk.named(name, QComboBox)
    assert isinstance(box, QComboBox)
    box.setCurrentIndex(box.findText(text))
    box.activated.emit(box.currentIndex())
    desk.wait()


def shot(desk: Hand):  # type: ignore[no-untyped-def]
    return desk.window.capture.snapshot


def way(desk: Hand, name: str) -> None:
    QTest.mouseClick(desk.named(f"Capture by {name}", QToolButton), Qt.MouseButton.LeftButton)
    desk.wait()


def test_1_the_go_list_is_worked_off(desk: Hand) -> None:
    desk.go(Key.READY)
    desk.wait(lambda: desk.window.hub.shop.book is not None)
    assert read(desk, "Ready or not").startswith("Not ready:") and desk.next() == "Next: instrument warm"
    desk.click("Do the next action")
    box = desk.named("instrument warm", QCheckBox)
    assert isinstance(box, QCheckBox) and box.isChecked() and desk.window.session.job.tick("warm").by == "Ilse Maartens"
    assert "All faces are matt" in read(desk, "Surface advice") and "ready now" in read(desk, "Soak time")
    field = desk.named("Part temperature", QLineEdit)
    assert isinstance(field, QLineEdit)
    field.setText("28,5")
    field.editingFinished.emit()
    assert "8.5 K off: wait about" in read(desk, "Soak time") and "Laser class 2M" in read(desk, "Cautions")


def test_2_the_pad_leads_through_the_poses(desk: Hand) -> None:
    notice = desk.window.notice
    desk.window.hub.tell("the part is warm", "Ready", "Let it cool")
    desk.click("Calibrate")
    desk.wait(lambda: desk.window.ready.pad.isVisible())
    pad = desk.window.ready.pad
    over = desk.window.childAt(notice.mapTo(desk.window, notice.rect().center()))
    assert pad.geometry().intersects(notice.geometry()) and (over is notice or notice.isAncestorOf(over)), (
        "what is said lies above the pad"
    )
    assert pad.accessibleDescription().startswith("Calibrate the scanner, pose 1 of 9: closer")
    field = pad._field
    QTest.mouseMove(pad, QPoint(round(field.center().x()), round(field.center().y())))
    turn_wheel(pad, QPoint(50, 50), 800)
    assert pad.word == "hold"
    desk.wait(lambda: "pose 2 of 9" in pad.accessibleDescription())
    desk.click("Let it run")
    desk.wait(lambda: not pad.isVisible())
    assert read(desk, "Calibration result").startswith("Passed: scale")
    assert any(i.title == "scanner calibrated" and i.is_done for i in desk.window.ready.go_panel.items)


def certify(desk: Hand, of: str, number: str, until: str) -> None:
    choose(desk, "Certificate of", of)
    for name, text in (("Certificate number", number), ("Certificate valid until", until)):
        field = desk.named(name, QLineEdit)
        assert isinstance(field, QLineEdit)
        field.setText(text)
    desk.click("Enter certificate")


def test_3_a_policy_holds_verdicts_back_until_it_is_met(desk: Hand) -> None:
    choose(desk, "Policy", Policy.TODAY.value)
    assert "has no certificate" in read(desk, "Policy in words"), "nobody has entered one"
    certify(desk, "Handheld scanner WH-3", "TF-C-1182", "next June")
    assert "'next June' is no day" in desk.window.notice.text
    certify(desk, "Handheld scanner WH-3", "TF-C-1182", "2020-01-31")
    assert "ran out on 2020-01-31" in read(desk, "Policy in words")
    certify(desk, "Handheld scanner WH-3", "TF-C-1182", "2099-12-31")
    assert "was not verified today" in read(desk, "Policy in words") and "verified today" in desk.finding(Key.READY)
    note = desk.named("Override note", QLineEdit)
    assert isinstance(note, QLineEdit)
    note.setText("checked last night")
    note.editingFinished.emit()
    desk.wait()
    assert "add a name to the reason" in read(desk, "Policy in words")
    by = desk.named("Override by", QLineEdit)
    assert isinstance(by, QLineEdit)
    by.setText("E. Lindqvist")
    by.editingFinished.emit()
    desk.wait()
    assert "overridden, and the report says so" in read(desk, "Policy in words")
    note.setText("")
    note.editingFinished.emit()
    desk.wait()
    desk.click("It was knocked")
    assert any("again: the instrument was knocked" in i.words for i in desk.window.ready.go_panel.items)
    choose(desk, "Artefact", "ball bar BB-300")
    desk.click("Check on it")
    desk.wait()
    assert read(desk, "Calibration result").startswith("Passed on ball bar BB-300: size")
    assert "made on ball bar BB-300, which has no certificate" in read(desk, "Policy in words")
    certify(desk, "ball bar BB-300", "TF-C-1220", "2099-12-31")
    assert read(desk, "Policy in words").startswith("Verified at") and not desk.window.session.job.readiness.objection


def test_4_what_the_job_holds_is_shown_and_the_scanner_connects(desk: Hand) -> None:
    desk.go(Key.CAPTURE)
    assert "covered" in desk.finding(Key.CAPTURE) and not desk.window.ledger.isVisible()
    held = desk.named("Live").facts  # type: ignore[attr-defined]
    assert held["patches"] == str(len(desk.window.session.job.capture.patches)) and int(held["covered"].split()[0]) > 85
    assert desk.named("Patches").rowCount() == int(held["patches"]), "listed before a scanner is connected"  # type: ignore[attr-defined]
    # A capture of its own: without the one that the job carries.
    desk.window.session.edit("no capture", lambda job: job.model_copy(update={"capture": None}))
    desk.wait()
    assert desk.next() == "Next: connect the scanner"
    desk.click("Do the next action")
    desk.wait(lambda: shot(desk) is not None and shot(desk).state is State.READY)
    assert desk.next() == "Next: hold the scanner"


def test_5_the_pointer_leads_the_scanner(desk: Hand) -> None:
    desk.click("Do the next action")
    view = desk.window.view
    for k in range(40):
        QTest.mouseMove(view, desk.spot((-40 - 15 * np.cos(0.3 * k), -60 + 8 * np.sin(0.3 * k), 18)))
        QTest.qWait(30)
    desk.wait(lambda: shot(desk).points_taken > 1000)
    dial = desk.named("Stand-off dial", QWidget)
    desk.wait(lambda: dial.word == "hold" and "hold, 3" in dial.accessibleDescription())  # type: ignore[attr-defined]
    live = desk.named("Live").facts  # type: ignore[attr-defined]
    assert (
        live["targets in view"].endswith("needs 4")
        and live["light"] == "light is good"
        and live["points, memory"].endswith("MB")
    )
    here = desk.spot((-40.0, -60.0, 18))
    turn_wheel(view, here, -1500)
    desk.wait(lambda: dial.word in ("closer", "no surface", "lost"))  # type: ignore[attr-defined]
    desk.press(Qt.Key.Key_Comma)
    desk.wait(lambda: shot(desk).exposure == 4)
    desk.press(Qt.Key.Key_Period)
    desk.wait(lambda: shot(desk).exposure == 5)
    desk.press(Qt.Key.Key_Space)
    desk.wait(lambda: dial.word == "paused")  # type: ignore[attr-defined]
    desk.press(Qt.Key.Key_Space)
    desk.wait(lambda: shot(desk).state is not State.PAUSED)


def test_6_patches_are_kept_and_the_floor_view_is_large(desk: Hand) -> None:
    window = desk.window
    desk.click("Stop")
    desk.wait(lambda: window.session.job.capture is not None and len(window.session.job.capture.patches) == 1)
    window.hub.perform("floor view")
    desk.wait(lambda: window.hub.is_floor)
    assert not window.strip.isVisible() and not window.parts.sheets.isVisible() and window.view.isVisible()
    tile = desk.named("of what is measured")
    assert tile.accessibleDescription().endswith("of 99 %") and tile.height() > 90
    desk.press(Qt.Key.Key_Escape)
    assert not window.hub.is_floor and window.strip.isVisible() and window.view.width() > 500


def test_7_the_plan_runs_by_itself_and_what_is_missing_is_named(desk: Hand) -> None:
    choose(desk, "Speed", "as fast as it goes")
    before = shot(desk).one_pass
    desk.click("Let the plan run")
    desk.wait(lambda: shot(desk).one_pass > max(before, 0.35))
    desk.click("Let the plan run")
    desk.wait(lambda: not desk.window.capture.driver.runs_by_itself)
    assert desk.named("Live").facts["missing next"] not in ("", "nothing")  # type: ignore[attr-defined]
    covered = desk.colour_at((-60.0, -60.0, 18.0))
    assert covered.green() >= covered.red() - 6, "covered faces are calm"
    desk.click("Turn the part over")
    desk.wait(lambda: shot(desk).position == 1)
    desk.click("Turn the part over")
    desk.wait(lambda: shot(desk).position == 0)


def test_8_a_lost_device_loses_nothing(desk: Hand) -> None:
    window = desk.window
    desk.click("Stop")
    desk.wait(lambda: all(not p.is_running for p in shot(desk).patches))
    taken = shot(desk).points_taken
    way(desk, "Practice")
    choose(desk, "Fault", "the cable is pulled")
    desk.click("Put it in")
    desk.wait(lambda: shot(desk).state is State.GONE)
    assert "the connection to the device is lost" in window.notice.text
    way(desk, "Scan")
    assert desk.named("Stand-off dial").word == "no device" and desk.next() == "Next: connect again"  # type: ignore[attr-defined]
    desk.click("Do the next action")
    desk.wait(lambda: shot(desk).state is State.READY)
    assert shot(desk).points_taken == taken
    count = len(shot(desk).patches)
    desk.click("Discard")
    desk.wait(lambda: len(shot(desk).patches) == count - 1)
    desk.click("Disconnect")
    desk.wait(lambda: window.capture.driver is None)
    assert window.session.job.capture is not None and len(window.session.job.capture.patches) == count - 1


def test_9_photos_and_probe_are_guided(desk: Hand) -> None:
    way(desk, "Photos")
    desk.click("Do the next action")
    assert read(desk, "Photo verdict") in ("enough", "not enough") and read(desk, "Photo in words").startswith(
        "Photo 1:"
    )
    desk.click("Take all that are left")
    assert read(desk, "Photo verdict") == "enough"
    desk.click("Adjust them together")
    assert float(desk.named("Adjusted").facts["residuals"].split()[0]) == pytest.approx(0.9, abs=0.25)  # type: ignore[attr-defined]
    way(desk, "Probe")
    assert {"6", "7"} <= {pin.text for pin in desk.window.view.pins}, "what characteristics ask for"
    desk.click("Do the next action")
    assert [pin.text for pin in desk.window.view.pins] == ["", *(str(k) for k in range(2, 14))], "points to touch"
    assert read(desk, "Probe in words").startswith("Point 2 of 13, for the plane") and "mm:" in read(desk, "Guidance")
    for _ in range(2):
        QTest.mouseClick(desk.named("Touch all that are left"), Qt.MouseButton.LeftButton)
    desk.wait(lambda: read(desk, "Touches in the job").startswith("In the job: touches."))
    facts = desk.named("Probed").facts  # type: ignore[attr-defined]
    assert facts["diameter"].endswith("of 72.000") and facts["touches"] == "13 of 13", (
        "clicked again before the first is done"
    )


def test_an_exercise_ends_in_a_debrief_and_a_record(desk: Hand) -> None:
    window = desk.window
    way(desk, "Practice")
    learner = desk.named("Learner", QLineEdit)
    assert isinstance(learner, QLineEdit)
    learner.setText("Jory Brandt")
    choose(desk, "Exercise", "Keep the stand-off")
    desk.click("Do the next action")
    desk.wait(lambda: window.capture.driver is not None and shot(desk) is not None)
    kept = window.session.job.capture
    window.capture.driver.speed = 1e6
    window.capture.scanner.run_plan()
    desk.wait(lambda: shot(desk).points_taken > 20_000)
    desk.click("Finish")
    desk.wait(lambda: window.capture.driver is None and read(desk, "Score") != "\u2013")
    assert read(desk, "Score").endswith("of 100") and "in the window" in desk.named("Debrief").facts  # type: ignore[attr-defined]
    assert "Keep the stand-off" in read(desk, "Earlier exercises") and window.hub.shop.book is not None
    assert window.hub.shop.book.exercises("Jory Brandt")[0].exercise == "hold"
    assert window.session.job.capture == kept, "practice leaves the job alone"


def test_the_capture_becomes_the_scan(desk: Hand) -> None:
    way(desk, "Scan")
    desk.click("Create surface from patches")
    desk.wait(lambda: desk.window.hub.station.key is Key.ASSEMBLE)
    scan = desk.window.session.derived.scan
    assert scan is not None and len(scan.points) > 800 and desk.window.session.job.scan is not None
    assert desk.window.session.job.scan.name == "BC-220 captured.ply" and np.isfinite(scan.points).all()
    assert rms_of_touches(desk.window.session) < 0.12, "the probe is before the part that was captured"
    desk.go(Key.CAPTURE)
    way(desk, "Probe")
    desk.click("Take what was touched out of the job")
    desk.wait(lambda: not touches_in(desk.window.session.job))
    desk.window.session.undo()
    desk.wait(lambda: len(touches_in(desk.window.session.job)) == 1)


def test_the_table_turns_and_keeps_its_captures_apart(desk: Hand) -> None:
    window = desk.window
    desk.go(Key.CAPTURE)
    way(desk, "Table")
    assert desk.next() == "Next: start a new capture"
    desk.click("Do the next action")
    assert window.session.job.capture is None and desk.next() == "Next: shoot the whole turn"
    desk.click("Shoot")
    desk.click("Shoot")
    assert read(desk, "Next shot").startswith("Shot 3 of") and read(desk, "Last shot in words").startswith(
        "The last shot: good. Next: the part"
    )
    facts = desk.named("Turns").facts  # type: ignore[attr-defined]
    assert int(facts["its overlap with the others"].split()[0]) > 30 and int(facts["covered once"].split()[0]) > 10
    assert window.session.job.capture.device == "head" and len(window.session.job.capture.patches) == 2
    desk.click("Discard the last")
    assert len(window.session.job.capture.patches) == 1 and read(desk, "Next shot").startswith("Shot 2 of")
    panel = window.capture.panels[window.capture.way]
    panel._connection.link = Broken(panel._connection.link, 11)
    desk.click("Shoot the whole turn")
    assert "the connection to the device is lost" in window.notice.text
    assert len(window.session.job.capture.patches) == 3, "what was shot before stays"
    desk.click("Shoot")
    assert len(window.session.job.capture.patches) == 4, "the head is brought up again"
    way(desk, "Scan")
    desk.click("Connect the scanner")
    assert (
        "the job holds a capture made with the head device. Start a new capture, then use this one"
        in window.notice.text
    )
    way(desk, "Table")
    held = window.session.job.capture
    window.capture.panels[window.capture.way].close_all()
    desk.click("Shoot")
    assert "the job holds a capture already" in window.notice.text and window.session.job.capture == held
    way(desk, "Tray")
    desk.click("Scan the tray")
    assert "not even one part fits" in window.notice.text and "Choose a larger cabinet" in window.notice.text
    window.session.undo()
    desk.wait()


def test_shots_go_with_their_capture_though_nobody_looks(desk: Hand) -> None:
    window = desk.window
    desk.go(Key.CAPTURE)
    way(desk, "Table")
    window.capture.scanner.start_anew()
    desk.wait()
    desk.click("Shoot")
    panel = window.capture.panels[window.capture.way]
    assert panel.run is not None and panel.run.facts
    desk.go(Key.BRIEF)
    window.session.edit("no capture", lambda job: job.model_copy(update={"capture": None}))
    desk.wait()
    assert window.hub.station.key is Key.BRIEF and panel.run is None


def test_a_running_patch_is_part_of_the_scan(desk: Hand) -> None:
    """Only a first patch that runs, then a kept one beside a running one: both are in job and scan; undo takes none away."""
    window, session = desk.window, desk.window.session
    desk.go(Key.CAPTURE)
    way(desk, "Scan")
    window.capture.scanner.start_anew()
    desk.wait()
    assert session.job.capture is None
    window.capture.link.connect_device()
    desk.wait(lambda: shot(desk) is not None and window.capture.driver is not None)
    for patches in (1, 2):
        window.capture.driver.speed = 1e6
        taken = shot(desk).points_taken
        window.capture.scanner.run_plan()
        desk.wait(lambda t=taken: shot(desk).points_taken > t + 20_000)
        window.capture.driver.stop_plan()
        desk.wait(lambda n=patches: any(p.is_running for p in shot(desk).patches) and len(shot(desk).patches) == n)
        before = session.job.scan
        desk.click("Create surface from patches")
        desk.wait(lambda b=before: session.job.scan != b and session.derived.job.scan == session.job.scan)
        assert session.job.capture is not None and len(session.job.capture.patches) == patches
        assert session.job.capture.points == shot(desk).points_taken
        desk.go(Key.CAPTURE)
    failures: list[Exception] = []
    session.failed.connect(failures.append)
    for _ in range(3):
        session.undo()
    desk.wait()
    assert len(session.job.capture.patches) == 2, "what was captured is no edit"
    assert "the scanner is still connected" in str(failures[-1]), (
        "the capture before cannot come back while this one runs"
    )
    window.capture.scanner.disconnect_device()
    desk.wait(lambda: window.capture.driver is None)
    assert len(session.job.capture.patches) == 2
