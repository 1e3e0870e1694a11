"""What a capture must survive: garbage that is well formed, failures in mid-run, full disks; and the command line."""

from __future__ import annotations

import json
import time
from pathlib import Path

import numpy as np
import pytest
from PyQt6.QtWidgets import QApplication

from hand import Hand, close, opened
from helpers import write_bracket
from juxtum.capture.live.session import CaptureSession
from juxtum.capture.live.snapshot import take_snapshot
from juxtum.cli import main
from juxtum.demo.job import demo_job
from juxtum.desk.capturing.driver import CaptureDriver, Connection
from juxtum.devices.handheld import HandheldScanner
from juxtum.devices.link import DeviceProcess, DirectLink, ask
from juxtum.devices.protocol import DeviceError, Message
from juxtum.errors import JobError, JuxtumError
from juxtum.job import FileStore, load_job
from juxtum.job.planning import task_of
from juxtum.nominal import Nominal
from juxtum.plan.document import Plan
from juxtum.plan.grounds import Grounds
from juxtum.plan.planner import Planner
from juxtum.progress import silent
from test_devices import MODEL, over, plate

NASTY = (
    *(None, True, "x", "9" * 400, -1, 1e300, float("inf"), 10**400, [], [[]], [1], ["a", "b"], {"a": 1}),
    *([[1, 2, 3, 4]] * 3, [float("nan")] * 16, list(range(16))),
)


@pytest.fixture(scope="module")
def planner(nominal: Nominal) -> Planner:
    job = demo_job(FileStore(), with_scan=False)
    assert job.plan is not None
    return Planner(nominal, task_of(job), job.plan.with_targets(plate().targets), Grounds())


def test_a_frame_with_any_field_spoilt_is_refused_or_taken_and_never_more(planner: Planner) -> None:
    rng, whole = np.random.default_rng(6), HandheldScanner(plate(), MODEL).handle(over())[0]
    session = CaptureSession(planner, 1e8)
    names = [*whole.fields, "handles", "event", "why", "new", "time"]
    refused = 0
    for k in range(2500):
        if session.current is None:
            session.begin()
        fields = dict(whole.fields)
        for name in rng.choice(names, int(rng.integers(1, 4))):
            fields[str(name)] = NASTY[int(rng.integers(0, len(NASTY)))]
        kind = ("frame", "frame", "frame", "map", "referenced", "error")[int(rng.integers(0, 6))]
        payload = (
            whole.payload[: int(rng.integers(0, len(whole.payload)))]
            if k % 3 == 0
            else b"\xff" * 160
            if k % 3 == 1
            else whole.payload[:1600]
        )
        if kind == "map":
            fields["targets"] = NASTY[int(rng.integers(0, len(NASTY)))]
        try:
            session.take(Message(kind, fields, payload))
        except DeviceError as problem:
            refused += 1
            assert problem.what and problem.next is not None
        take_snapshot(session, None)
    assert (
        refused > 800
        and session.points >= 0
        and all(np.isfinite(place).all() for place in session.map.targets.values())
    )


class Fickle:
    """A device that fails after some answers, in a way of its own."""

    def __init__(self, problem: Exception, after: int) -> None:
        self._inner, self._problem, self._left = HandheldScanner(plate(), MODEL), problem, after

    def handle(self, message: Message) -> list[Message]:
        self._left -= 1
        if self._left < 0:
            raise self._problem
        return list(self._inner.handle(message))


@pytest.mark.parametrize(
    "problem",
    [DeviceError("gone", "connection", "Connect again"), JobError("the disk is full", "x", "y"), RuntimeError("a bug")],
)
def test_whatever_fails_the_capture_goes_on_and_ends(
    problem: Exception, planner: Planner, application: QApplication
) -> None:
    session = CaptureSession(planner, 1e9)
    driver = CaptureDriver(session, lambda: Connection(DirectLink(Fickle(problem, 9))))
    told: list[object] = []
    driver.failed.connect(told.append)
    driver.keep = lambda _: (_ for _ in ()).throw(
        JobError("the file could not be written", "patch", "Check the free space")
    )
    driver.speed = 1e6
    driver.start()
    driver.run_plan()
    end = time.monotonic() + 60
    while not told and time.monotonic() < end:
        application.processEvents()
        time.sleep(0.01)
    assert told and driver._thread.is_alive(), "it goes on after a failure"
    driver.end()
    told.clear()
    while not any("stays connected" in str(t) for t in told) and time.monotonic() < end:
        application.processEvents()
        time.sleep(0.01)
    assert driver._thread.is_alive(), "nothing captured goes before it is kept or a person says so"
    driver.end()
    driver.join()
    assert not driver._thread.is_alive(), "who says it twice means it"
    driver.close()


def test_a_patch_that_runs_for_a_minute_is_kept_and_another_begins(planner: Planner) -> None:
    session, frame = CaptureSession(planner, 1e9), HandheldScanner(plate(), MODEL).handle(over())[0]
    session.begin()
    for k in range(150):
        session.take(Message("frame", frame.fields | {"time": 0.9 * k, "number": k + 1}, frame.payload[:1600]))
    assert [p.number for p in session.patches] == [1, 2, 3] and session.current is session.patches[2]
    assert all(len(p.store) > 1000 for p in session.patches[:2])
    seen = len(session.patches[2].store)
    for _ in range(5):
        session.take(Message("frame", frame.fields | {"time": 135.0, "number": 150}, frame.payload[:1600]))
    assert len(session.patches[2].store) == seen, "a frame that comes again does not count again"


def test_a_given_map_is_the_scanners_and_names_the_planned_targets(planner: Planner) -> None:
    session = CaptureSession(planner, 1e9)
    rows = [[float(k), *(t.place + np.array([500.0, 20.0, -60.0])), 1.0] for k, t in enumerate(planner.plan.placed)]
    session.map.give(rows)
    assert session.map.planned_rows == {k: k for k in range(len(rows))} and session.map.is_given
    session.map.targets.pop(2)
    session.map.targets[999] = np.array([900.0, 900.0, 900.0])
    assert session.map.planned_rows == {k: k for k in range(len(rows)) if k != 2}, (
        "neither a lost nor a strange target shifts the others"
    )


# -- the command line -----------------------------------------------------------------------------------------


@pytest.fixture(scope="module")
def planned(planner: Planner, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A plan of the demo part with its targets, as the command line writes it."""
    path = tmp_path_factory.mktemp("plan") / "plan.json"
    bare = planner.plan.model_copy(update={"targets": (), "expected": None})
    made = Planner(planner.nominal, planner.task, bare, planner.grounds).planned(silent())
    path.write_text(made.model_dump_json(by_alias=True))
    return path


def test_capture_for_scripts(planned: Path, tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    arguments = [
        "capture",
        "demo:BC-220",
        "--plan",
        str(planned),
        "--seed",
        "5",
        "--spacing",
        "5",
        "--strict",
        "--out",
        str(tmp_path),
    ]
    code = main(arguments)
    said = capsys.readouterr().out
    assert "patches," in said and "of what is measured" in said and f"written to {tmp_path}" in said
    document = json.loads((tmp_path / "capture.json").read_text())
    assert document["schema"] == "juxtum-capture-1" and document["seed"] == 5 and document["one_pass"] > 0.8
    job = load_job(tmp_path / "captured.juxtum", FileStore(), tmp_path / "inputs")
    assert (
        job.capture is not None
        and job.scan is not None
        and len(job.capture.patches) == len(list(tmp_path.glob("patch-*.ply")))
    )
    assert code == (1 if document["one_pass"] < job.plan.expected.coverage - 0.02 else 0)  # type: ignore[union-attr]


@pytest.mark.parametrize(
    ("device", "schema"),
    [("camera", "juxtum-photo-map-1"), pytest.param("cabinet", "juxtum-tray-1", marks=pytest.mark.long)],
)
def test_other_devices_for_scripts(
    device: str, schema: str, planned: Path, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    part = ["demo:VC-8"] if device == "cabinet" else ["demo:BC-220", "--plan", str(planned)]
    if device == "cabinet":
        plan = tmp_path / "eight.json"
        plan.write_text(Plan(parts_in_tray=8).model_dump_json(by_alias=True))
        part += ["--plan", str(plan)]
    assert main(["capture", *part, "--device", device, "--json", "--out", str(tmp_path)]) == 0
    document = json.loads(capsys.readouterr().out)
    assert document["schema"] == schema and (document.get("parts", 8) == 8)


@pytest.mark.parametrize(
    ("arguments", "sentence"),
    [
        (["--plan", "missing.json"], "missing.json: there is no such file. Check the name."),
        (["--plan", "text.json"], "text.json: this is not a plan: 'the document' is not right"),
        (["--plan", "list.json"], "this is not a plan"),
        (["--seed", "-3"], "'-3' is not a seed; use a whole number from 0"),
        (["--port", "99999"], "'99999' is not a port; use 0 to 65535"),
        (["--device", "hammer"], "invalid choice: 'hammer'"),
        (["--spacing", "0"], "'0' is not more than nothing"),
    ],
)
def test_bad_arguments_are_told(
    arguments: list[str],
    sentence: str,
    tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
    capsys: pytest.CaptureFixture[str],
) -> None:
    monkeypatch.chdir(tmp_path)
    Path("text.json").write_text("not json")
    Path("list.json").write_text("[]")
    assert main(["capture", "demo:BC-220", "--out", "out", *arguments]) == 2
    said = capsys.readouterr().err
    assert sentence in said and "Traceback" not in said and len(said.splitlines()) == 1


def test_a_port_that_is_taken_is_told(capsys: pytest.CaptureFixture[str], tmp_path: Path) -> None:
    import socket

    with socket.create_server(("127.0.0.1", 0)) as taken:
        port = str(taken.getsockname()[1])
        assert main(["device", "serve", "probe", "--part", str(write_bracket(tmp_path / "b.stl")), "--port", port]) == 2
    assert f"port {port} cannot be used. Choose another one, or none." in capsys.readouterr().err


def test_a_stand_in_is_a_process_of_its_own(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    part = write_bracket(tmp_path / "bracket.stl", 4.0)
    process = DeviceProcess("probe", ["--part", str(part), "--seed", "2"])
    try:
        link = process.connect()
        assert ask(link, Message("hello", {"version": 1}), "about").text("device") == "probe"
        touched = ask(link, Message("touch", {"from": [120.0, 80.0, 90.0], "direction": [0, 0, -1]}), "contact")
        assert touched.vector("middle").shape == (3,)
        with pytest.raises(JuxtumError, match="the probe is not moved anywhere"):
            ask(link, Message("touch", {"from": [0, 0, 90.0], "direction": [0, 0, 0]}), "contact")
        link.close()
    finally:
        process.stop()
    assert not process.is_running
    other = DeviceProcess("probe", ["--part", str(tmp_path / "none.stl")])
    with pytest.raises(DeviceError, match="the stand-in did not start"):
        other.connect()


def test_another_kind_at_the_port_is_told(
    tmp_path: Path, capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    part = str(write_bracket(tmp_path / "bracket.stl", 4.0))
    process = DeviceProcess("probe", ["--part", part])
    try:
        assert (
            main(["capture", part, "--device", "cabinet", "--port", str(process.port), "--out", str(tmp_path / "out")])
            == 2
        )
        assert "this device is another's, or its token is wrong. Set JUXTUM_DEVICE_TOKEN" in capsys.readouterr().err
        monkeypatch.setenv("JUXTUM_DEVICE_TOKEN", process.token)
        assert (
            main(["capture", part, "--device", "cabinet", "--port", str(process.port), "--out", str(tmp_path / "out")])
            == 2
        )
        assert "this device is a probe, not a cabinet. Name it with --device." in capsys.readouterr().err
    finally:
        process.stop()


# -- the desk -------------------------------------------------------------------------------------------------


def test_the_job_stays_while_the_scanner_is_connected(application: QApplication, tmp_path: Path) -> None:
    window = opened(tmp_path)
    window.settings.setValue("devices/within", True)
    hand = Hand(window)
    window.menus.actions["open demo"].trigger()
    hand.wait(lambda: window.session.derived.scan is not None)
    window.session.edit("no capture", lambda job: job.model_copy(update={"capture": None}))
    hand.wait()
    window.hub.perform("take photo")
    hand.wait()
    hand.click("Take all that are left")
    hand.wait(lambda: hand.next() == "Next: adjust them together")
    hand.click("Do the next action")
    hand.wait(lambda: hand.next() == "Next: give the targets to the scanner")
    hand.click("Do the next action")
    hand.wait(lambda: len(window.capture.link.photo_map) > 10)
    assert hand.next() == "Next: clear up"
    hand.click("Do the next action")
    hand.wait(lambda: window.session.job.tick("cleared") is not None and hand.next() != "Next: clear up")
    window.hub.perform("connect device")
    hand.wait(lambda: window.capture.snapshot is not None and window.capture.snapshot.is_recognised)
    assert window.capture.driver.session.map.is_given
    before = window.session.job.id
    window.hub.perform("new")
    hand.wait()
    assert (
        window.session.job.id == before and "the scanner is still connected. Disconnect it first" in window.notice.text
    )
    window.hub.perform("disconnect device")
    hand.wait(lambda: window.capture.driver is None)
    window.hub.perform("new")
    hand.wait(lambda: window.session.job.id != before)
    assert window.capture.link.photo_map == []
    close(window)
