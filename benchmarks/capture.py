"""Capture: the live loop, a stream played in fast, a device killed again and again, lengths of HB-36 against their prediction."""

from __future__ import annotations

import os
import signal
import tempfile
import threading
import time
from collections.abc import Callable, Iterator
from dataclasses import replace
from pathlib import Path

import numpy as np
from scipy.spatial import cKDTree

from benchmarks.planning import planners
from juxtum.capture.kept.result import write_patch
from juxtum.capture.live.patch import Patch, State
from juxtum.capture.live.points import Budget, PointStore
from juxtum.capture.live.session import CaptureSession
from juxtum.capture.path.run import follow, legs, tell
from juxtum.capture.ways.photowalk import PhotoWalk, walk_along
from juxtum.demo.bodies import body_for, made_body
from juxtum.demo.job import demo_job
from juxtum.devices.body import Body, Pose
from juxtum.devices.camera import PhotoCamera, PhotoTargets
from juxtum.devices.handheld import HandheldScanner
from juxtum.devices.link import DirectLink, SocketLink
from juxtum.devices.patterns import FRAMES
from juxtum.devices.protocol import DeviceError, Message, packed
from juxtum.devices.server import serve
from juxtum.geometry import RigidTransform
from juxtum.instruments.models import Kind, shipped
from juxtum.job import FileStore
from juxtum.nominal import Nominal
from juxtum.plan.photos.photos import PhotoPlan
from juxtum.plan.planner import Planner
from juxtum.plan.task import points_of

SEEDS = range(30)
MOST_POSES, MOST_SEEN = 40, 60
"""Poses taken at each end of the beam, and targets that one of them may see."""
STREAM_POINTS = 30_000_000
STREAM_RATE = 3_000_000
FRAME_POINTS = 50_000


def planned() -> tuple[Planner, Nominal, Body]:
    """BC-220 with its targets planned, and the made part before a stand-in."""
    planner = planners()[0][1]
    planner = replace(planner, plan=planner.planned())
    job = demo_job(FileStore(), with_scan=False)
    return planner, planner.nominal, body_for(job.nominal, planner.nominal, planner.plan, 7)


def live() -> Iterator[str]:
    """How fast the stand-in scans while every frame is taken in and answered with feedback."""
    from juxtum.capture.live.snapshot import take_snapshot

    planner, _, body = planned()
    link = DirectLink(HandheldScanner(body, planner.model, 7))
    session = CaptureSession(planner, 4e9)
    for spacing in (1.5, 0.4):
        tell(session, link, Message("spacing", {"mm": spacing}))
        stops = next(iter(legs(planner))).stops[:6]
        frames, points, start = 0, session.points, time.perf_counter()
        session.begin()
        for stop in stops:
            for k in range(40):
                offset = 0.8 * k - 16
                hand = {
                    "eye": [float(v) for v in stop.eye + offset * stop.up],
                    "axis": [float(v) for v in stop.axis],
                    "up": [float(v) for v in stop.up],
                }
                tell(
                    session,
                    link,
                    Message("hand", {**hand, "position": stop.position, "time": session.time + 1 / FRAMES}),
                )
                take_snapshot(session, None)
                frames += 1
        seconds = time.perf_counter() - start
        yield f"spacing {spacing} mm: {frames / seconds:.0f} frames/s of feedback, {(session.points - points) / seconds / 1e3:.0f} thousand points/s"


def served(make: object, port_told: int, count: int = 1) -> int:
    """Serve a device in a child process; its process number."""
    child = os.fork()
    if child == 0:
        try:
            serve(make(), 0, lambda port: os.write(port_told, f"{port}\n".encode()), once=count == 1)  # type: ignore[operator]
        finally:
            os._exit(0)
    return child


class Stream:
    """A recorded stream: answers `play` with so many frames."""

    def __init__(self) -> None:
        rng = np.random.default_rng(1)
        normals = np.tile([0.0, 0, 1], (FRAME_POINTS, 1))
        self._frames = [
            packed(rng.uniform(-150, 150, (FRAME_POINTS, 3)), normals, np.full(FRAME_POINTS, 200, dtype=np.uint8))
            for _ in range(4)
        ]
        self._number = 0

    def handle(self, message: Message) -> list[Message]:
        """One frame for each message."""
        self._number += 1
        head = {
            "number": self._number,
            "time": self._number / 60,
            "state": "tracking",
            "points": FRAME_POINTS,
            "targets": 6,
            "known": 6,
            "stand_off": 320.0,
        }
        return [Message("frame", head | {"pose": list(np.eye(4).ravel())}, self._frames[self._number % 4])]


def stream() -> Iterator[str]:
    """30 million points at 3 million a second over the socket; the lag of an event loop meanwhile."""
    from PyQt6.QtCore import QCoreApplication, QTimer

    planner = planners()[0][1]
    session = CaptureSession(replace(planner, plan=planner.planned()), 6e9)
    session.begin()
    application = QCoreApplication.instance() or QCoreApplication([])
    ready, told = os.pipe()
    child = served(Stream, told)
    link = SocketLink(int(os.read(ready, 20)))
    lags: list[float] = []
    done = threading.Event()
    late: list[float] = []

    def work() -> None:
        begun = time.perf_counter()
        for k in range(STREAM_POINTS // FRAME_POINTS):
            due = begun + k * FRAME_POINTS / STREAM_RATE
            if (wait := due - time.perf_counter()) > 0:
                time.sleep(wait)
            tell(session, link, Message("play"))
            late.append(time.perf_counter() - due)
        done.set()

    last = [time.perf_counter()]

    def tick() -> None:
        now = time.perf_counter()
        lags.append(now - last[0] - 0.010)
        last[0] = now
        if done.is_set():
            application.quit()

    timer = QTimer()
    timer.setInterval(10)
    timer.timeout.connect(tick)
    timer.start()
    thread = threading.Thread(target=work)
    start = time.perf_counter()
    thread.start()
    application.exec()
    thread.join()
    seconds = time.perf_counter() - start
    os.kill(child, signal.SIGKILL)
    os.waitpid(child, 0)
    link.close()
    taken = session.points
    ms = np.sort(1000 * np.array(lags))
    rate, memory = taken / seconds / 1e6, session.budget.used / 1e6
    yield f"{taken / 1e6:.1f} of {STREAM_POINTS / 1e6:.0f} million points taken in {seconds:.1f} s ({rate:.2f} million/s), {memory:.0f} MB"
    yield f"event loop meanwhile: median {np.median(ms):.1f} ms late, 99 % under {np.quantile(ms, 0.99):.0f} ms, most {ms[-1]:.0f} ms"


def window() -> Iterator[str]:
    """The same stream into the real window at Capture: does it keep up, and how late is its event loop?"""
    from PyQt6.QtCore import QSettings, QTimer

    from juxtum.desk.app import make_application
    from juxtum.desk.capturing.driver import Connection
    from juxtum.desk.capturing.painting import skin_of
    from juxtum.desk.window import MainWindow
    from juxtum.guide.findings import Key

    application = make_application(["bench"])
    with tempfile.TemporaryDirectory() as place:
        made = MainWindow(QSettings(f"{place}/settings.ini", QSettings.Format.IniFormat))
        made.resize(1280, 800)
        made.show()
        made.bringing.open_demo()
        _spin(application, lambda: made.session.derived.nominal is not None and not made.session.workbench.is_busy)
        made.go(Key.CAPTURE)
        planner = made.capture.planner
        assert planner is not None
        session = CaptureSession(planner, 6e9)
        skin = skin_of(session)
        assert len(session.poses.holds)
        ready, told = os.pipe()
        child = served(Stream, told)
        port = int(os.read(ready, 20))
        made.capture.begin(session, skin, lambda: Connection(SocketLink(port)), None)
        driver = made.capture.driver
        assert driver is not None
        driver.keep = None
        driver.speed = STREAM_RATE / FRAME_POINTS / FRAMES
        _spin(application, lambda: made.capture.snapshot is not None)
        calm = time.monotonic() + 3.0
        _spin(application, lambda: time.monotonic() > calm)
        driver.do(lambda s: s.begin())
        lags, last = list[float](), [time.perf_counter()]

        def tick() -> None:
            now = time.perf_counter()
            lags.append(now - last[0] - 0.010)
            last[0] = now

        timer = QTimer()
        timer.setInterval(10)
        timer.timeout.connect(tick)
        timer.start()
        begun = time.perf_counter()
        driver.hold(Pose.looking(np.array([0.0, 0, 400]), np.array([0.0, 0, -1]), np.array([0.0, 1, 0])))
        _spin(application, lambda: session.points >= STREAM_POINTS)
        seconds = time.perf_counter() - begun
        timer.stop()
        frames = driver.frames_told
        driver.hold(None)
        ms = np.sort(1000 * np.array(lags))
        rate = session.points / seconds / 1e6
        yield f"{session.points / 1e6:.1f} million points in {seconds:.1f} s ({rate:.2f} million/s), {frames / seconds:.0f} moments/s told"
        yield f"event loop of the window: median {np.median(ms):.1f} ms late, 99 % under {np.quantile(ms, 0.99):.0f} ms, most {ms[-1]:.0f} ms"
        os.kill(child, signal.SIGKILL)
        os.waitpid(child, 0)
        made.session.discard()
        made.close()


def _spin(application: object, until: Callable[[], bool], patience: float = 300.0) -> None:
    end = time.monotonic() + patience
    while not until() and time.monotonic() < end:
        application.processEvents()  # type: ignore[attr-defined]
        time.sleep(0.001)


def kills() -> Iterator[str]:
    """The device's process killed twenty times at moments of chance: what was accepted is there afterwards."""
    planner, _, body = planned()
    rng = np.random.default_rng(3)
    session = CaptureSession(planner, 4e9)
    stops = next(iter(legs(planner))).stops
    kept: dict[int, int] = {}
    at = 0
    with tempfile.TemporaryDirectory() as place:
        for _ in range(20):
            ready, told = os.pipe()
            child = served(lambda: HandheldScanner(body, planner.model, 7), told)
            link = SocketLink(int(os.read(ready, 20)))
            if session.map.targets:
                tell(session, link, Message("map", {"targets": session.map.rows()}))
            session.found_device()
            timer = threading.Timer(float(rng.uniform(0.2, 2.5)), os.kill, (child, signal.SIGKILL))
            timer.start()
            try:
                while True:
                    follow(session, link, (stops[at % 12],))
                    at += 1
                    patch = session.accept()
                    if patch is not None:
                        write_patch(patch, Path(place))
                        kept[patch.number] = len(patch.store)
            except DeviceError as problem:
                patch = session.current
                session.lost_device(problem.what)
                if patch is not None and len(patch.store):
                    kept[patch.number] = len(patch.store)
            os.waitpid(child, 0)
            link.close()
        there = {p.number: len(p.store) for p in session.patches if not p.has_jumped}
        lost = [k for k, n in kept.items() if there.get(k) != n]
        yield f"20 kills: {len(kept)} patches accepted, {len(lost)} lost; {session.points / 1e6:.1f} million points kept, state {session.state}"
    assert session.state is State.GONE


def lengths() -> Iterator[str]:
    """HB-36, photo walk and scan at both ends, over 30 seeds: errors of the characteristics' lengths against the plan's prediction."""
    planner = planners()[1][1]
    planner = replace(planner, plan=planner.planned())
    plan = planner.photos()
    first = len(plan.points) - 2 * len(plan.bars)
    points, centre = plan.points[:first], planner.task.centre(planner.nominal)
    start = int(np.argmin(np.linalg.norm(points - centre, axis=1)))
    pairs = []
    for aim in planner.task.aims:
        far = points_of(planner.nominal, aim.faces)
        spot = far[np.argmax(np.linalg.norm(far - centre, axis=1))]
        pairs.append((start, int(np.argmin(np.linalg.norm(points - spot, axis=1) + 1e9 * (np.arange(first) == start)))))
    body = made_body(planner.nominal, planner.plan)
    predicted = np.array([f.expanded / 2 for f in plan.forecasts])
    errors, scanned = [], []
    for seed in SEEDS:
        targets = PhotoTargets.of(plan, seed)
        walk = PhotoWalk(plan, targets.bars)
        walk_along(walk, DirectLink(PhotoCamera(body, shipped(Kind.PHOTO), targets, seed)))
        adjusted, usable = walk.adjust()
        new = np.cumsum(usable) - 1
        errors.append(
            [adjusted.length(new[a], new[b]) - np.linalg.norm(targets.places[a] - targets.places[b]) for a, b in pairs]
        )
        scanned.append(_scanned(planner, plan, adjusted.points, usable, seed))
    e = np.array(errors)
    ratio = float(np.sqrt((e**2).mean() / (predicted**2).mean()))
    each = ", ".join(f"{v:.2f}" for v in np.sqrt((e**2).mean(0)) / predicted)
    yield f"HB-36, {len(SEEDS)} seeds: RMS of the errors of {e.shape[1]} lengths is {ratio:.3f} of the predicted; one by one {each}"
    s = np.array(scanned)
    rms, half = float(np.sqrt(np.mean(s[:, 0] ** 2))), float(np.sqrt(np.mean(s[:, 1] ** 2)))
    yield f"scanned from end to end ({s[0, 2] / 1000:.2f} m): RMS {1000 * rms:.1f} \u00b5m, predicted {1000 * half:.1f} \u00b5m, ratio {rms / half:.2f}"


def _scanned(
    planner: Planner, plan: PhotoPlan, places: np.ndarray, usable: np.ndarray, seed: int
) -> tuple[float, float, float]:
    """Error of the length between both ends of the beam as a scanner with the photos' map measures it, mm; predicted; and the length.

    The prediction is the planned network's covariance, taken through the same registrations of the scanner.
    """
    new = np.cumsum(usable) - 1
    away, rows_of = cKDTree(plan.points).query(np.array([t.place for t in planner.plan.placed]))
    known = {k: int(row) for k, (d, row) in enumerate(zip(away, rows_of, strict=True)) if d < 0.01 and usable[row]}
    body = replace(made_body(planner.nominal, planner.plan), targets=planner.plan.placed)
    scanner = HandheldScanner(body, planner.model, seed)
    scanner.calibration.error = 0.0
    # Only what the photos measured is in view: nothing is learnt on the way.
    scanner.knocked.update(set(range(len(body.targets))) - set(known))
    rows = [[float(k), *map(float, places[new[row]]), 1.0] for k, row in known.items()]
    scanner.handle(Message("map", {"targets": rows, "fixed": True}))
    x = planner.ground().views.looked_at[:, 0]
    (near, near_found, first), (far, far_found, second) = (
        _end(scanner, planner, plan, known, order, seed) for order in (np.argsort(x), np.argsort(-x))
    )
    length = float(np.linalg.norm(far - near))
    weights = (far - near) / length @ (second - first)
    count = len(plan.points)
    given = float(weights[: 3 * count] @ plan.prediction.covariance @ weights[: 3 * count])
    seen = float((weights[3 * count :] ** 2).sum()) * scanner.needs.noise**2
    return float(np.linalg.norm(far_found - near_found)) - length, float(np.sqrt(given + seen)), length


def _end(
    scanner: HandheldScanner, planner: Planner, plan: PhotoPlan, known: dict[int, int], order: np.ndarray, seed: int
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """The mean of the places looked at near one end; where it is found; how that depends on the map's targets and on what is seen of them."""
    views, count = planner.ground().views, len(plan.points)
    spots, found, jacobians, noises = [], [], [], []
    for row in order[:300]:
        pose = Pose.looking(views.eyes[row], views.axes[row], views.ups[row])
        handles, _ = scanner.observed(pose, scanner.body.scenes[0], np.random.default_rng([seed, int(row)]))
        fields, located = scanner._tracked(pose, scanner.body.scenes[0], np.random.default_rng([seed, int(row)]))
        if located is None or fields["state"] != "tracking" or len(spots) == MOST_POSES:
            continue
        targets = scanner.body.target_places[handles]
        pieces = _pieces(targets, views.looked_at[row])
        jacobian = np.zeros((3, 3 * count))
        for handle, piece in zip(handles, pieces, strict=True):
            jacobian[:, 3 * known[handle] : 3 * known[handle] + 3] = piece
        spots.append(views.looked_at[row])
        found.append((located @ pose.to_part.inverse).apply(spots[-1][None])[0])
        jacobians.append(jacobian)
        noises.append(np.concatenate(list(pieces), axis=1))
    n, own = len(spots), 3 * 2 * MOST_POSES * MOST_SEEN
    seen = np.zeros((3, own))
    begin = 0 if order[0] != np.argmax(views.looked_at[:, 0]) else own // 2
    for noise in noises:
        seen[:, begin : begin + noise.shape[1]] = noise / n
        begin += noise.shape[1]
    return np.mean(spots, axis=0), np.mean(found, axis=0), np.concatenate([np.mean(jacobians, axis=0), seen], axis=1)


def _pieces(targets: np.ndarray, spot: np.ndarray) -> np.ndarray:
    """How a place (3,) moves with each target (N, 3) of a rigid registration with equal weights (N, 3, 3)."""
    arms = targets - targets.mean(0)
    moment = (arms**2).sum() * np.eye(3) - arms.T @ arms
    turn = np.linalg.pinv(moment, rcond=1e-12)
    lever = -_cross(spot - targets.mean(0))
    return np.array([np.eye(3) / len(targets) + lever @ turn @ _cross(arm) for arm in arms])


def _cross(v: np.ndarray) -> np.ndarray:
    x, y, z = v
    return np.array([[0, -z, y], [z, 0, -x], [-y, x, 0]])


def filling() -> Iterator[str]:
    """Points taken in without any link: the store alone."""
    store = PointStore(Budget(6e9))
    places, normals = (
        np.random.default_rng(0).uniform(-100, 100, (FRAME_POINTS, 3)),
        np.tile([0.0, 0, 1], (FRAME_POINTS, 1)),
    )
    frame = packed(places, normals, np.full(FRAME_POINTS, 9, dtype=np.uint8))
    points = Message("frame", {}, frame).points()
    start = time.perf_counter()
    for _ in range(200):
        store.add(points, RigidTransform.identity())
    yield f"store alone: {len(store) / (time.perf_counter() - start) / 1e6:.1f} million points/s"
    assert isinstance(Patch, type)
