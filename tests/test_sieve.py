"""What of a scanner's points is kept: nothing in a preview, nothing flat, nothing below the cut; and what is heard of it."""

from __future__ import annotations

import numpy as np
import pytest
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QCheckBox, QLineEdit

from hand import Hand
from juxtum.capture.live.dial import DONE_TONE, FEW_TONE, read_dial, sound_of
from juxtum.capture.live.points import normals_of, places_of
from juxtum.capture.live.session import CaptureSession
from juxtum.capture.live.sieve import FLAT, Sieve
from juxtum.capture.live.snapshot import take_snapshot
from juxtum.capture.path.route import hands, path, tracked_poses
from juxtum.demo.bodies import made_body
from juxtum.demo.capture import with_capture
from juxtum.demo.job import demo_job
from juxtum.devices.handheld import HandheldScanner
from juxtum.devices.protocol import Message
from juxtum.job import FileStore
from juxtum.job.planning import task_of
from juxtum.nominal import Nominal
from juxtum.plan.grounds import Grounds
from juxtum.plan.planner import Planner


@pytest.fixture(scope="module")
def planner(nominal: Nominal) -> Planner:
    files = FileStore()
    job = with_capture(demo_job(files), files)
    assert job.plan is not None
    return Planner(nominal, task_of(job), job.plan, Grounds())


@pytest.fixture(scope="module")
def frames(planner: Planner) -> list[Message]:
    """What the scanner sends while it is led along the first stops of the plan."""
    device = HandheldScanner(made_body(planner.nominal, planner.plan, "BC-220"), planner.model, 3)
    way = path(planner.ground(), tracked_poses(planner))[:6]
    return [answer for message in hands(way, planner.mode, 2.0) for answer in device.handle(message)]


def taken(planner: Planner, frames: list[Message], sieve: Sieve) -> CaptureSession:
    session = CaptureSession(planner, 1e9)
    session.sieve = sieve
    session.begin()
    for frame in frames:
        session.take(frame)
    return session


def test_what_is_kept_is_what_was_asked_for(planner: Planner, frames: list[Message]) -> None:
    whole = taken(planner, frames, Sieve())
    assert whole.points > 5000 and whole.left_out == 0 and whole.map.to_part is not None
    looked = taken(planner, frames, Sieve(is_preview=True))
    shot = take_snapshot(looked, None)
    assert looked.points == 0 and looked.seconds == 0 and shot.is_preview and looked.coverage.share() == 0
    assert looked.accept() is None, "an empty patch is no patch"
    clean = taken(planner, frames, Sieve(is_clean=True))
    assert 0.3 * whole.points < clean.points < whole.points and clean.left_out > 0
    cut = taken(planner, frames, Sieve(cut=30.0))
    move, bounds = cut.laid[0]
    # What came before anybody knew where the part is cannot be cut.
    late = np.concatenate([places_of(p.store.all()) for p in cut.good])[-2000:]
    heights = move.apply(cut.map.to_part.apply(late))[:, 2] - bounds[0][2]
    assert heights.min() > 29.0 and cut.points + cut.left_out == whole.points
    corners = take_snapshot(cut, None).cut
    assert corners is not None and np.ptp(move.apply(corners)[:, 2]) < 1e-9
    assert move.apply(corners)[0, 2] == pytest.approx(bounds[0][2] + 30.0)


def test_what_is_clean_was_seen_steeply(planner: Planner, frames: list[Message]) -> None:
    """Counted on the frames themselves: not one flat point is kept, and no steep one is left out."""
    session = taken(planner, frames, Sieve(is_clean=True))
    frame = session.last
    assert frame is not None and frame.pose is not None
    places, normals = places_of(frame.points), normals_of(frame.points)
    angle = np.degrees(
        np.arccos(np.clip(np.abs(np.einsum("ij,ij->i", places, normals)) / np.linalg.norm(places, axis=1), 0, 1))
    )
    assert np.array_equal(session.passed(frame.points, frame.pose), angle <= FLAT)


def test_few_targets_are_heard_before_the_distance(planner: Planner) -> None:
    best = read_dial(planner.mode, planner.mode.stand_off[1])
    assert sound_of(best, (1, 3), is_done=True) is FEW_TONE and sound_of(best, (4, 3), is_done=True) is DONE_TONE
    nothing = read_dial(planner.mode, None)
    assert sound_of(nothing, (0, 3), is_done=True).loudness == 0, "nothing is heard while the scanner looks at nothing"


def test_in_the_window_one_looks_first_and_then_records(capturing: Hand) -> None:
    station = capturing.window.capture
    for name in ("Only look", "Cut below"):
        box = capturing.named(name, QCheckBox)
        assert isinstance(box, QCheckBox)
        box.click()
    height = capturing.named("Height of the cut", QLineEdit)
    assert isinstance(height, QLineEdit) and height.isEnabled()
    height.clear()
    QTest.keyClicks(height, "25")
    height.editingFinished.emit()
    capturing.click("Connect the scanner")
    capturing.wait(lambda: station.snapshot is not None)
    station.driver.speed = 1e6
    capturing.click("Let the plan run")
    capturing.wait(lambda: station.snapshot.is_recognised and len(station.snapshot.points) > 0)
    assert station.snapshot.points_taken == 0 and station.snapshot.cut is not None
    assert capturing.named("What is left out").text() == "Only looking: nothing is kept."  # type: ignore[attr-defined]
    assert capturing.next() == "Next: record what you see"
    capturing.click("Do the next action")
    capturing.wait(lambda: station.snapshot.points_taken > 5000)
    capturing.wait(lambda: station.snapshot.left_out > 0)
    assert "left out" in capturing.named("What is left out").text()  # type: ignore[attr-defined]
    capturing.click("Disconnect")
    capturing.wait(lambda: station.driver is None)
