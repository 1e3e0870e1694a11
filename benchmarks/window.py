"""How quick the window is."""

from __future__ import annotations

import subprocess
import sys
import time
from collections.abc import Callable, Iterator

import numpy as np

from juxtum.geometry import TriangleMesh

STARTER = """
import sys, time
start = time.perf_counter()
from PyQt6.QtCore import QSettings
from juxtum.desk.app import make_application
application = make_application(["bench"])
from juxtum.desk.window import MainWindow
window = MainWindow(QSettings("/tmp/juxtum-bench.ini", QSettings.Format.IniFormat))
window.show()
for _ in range(5):
    application.processEvents()
window.menus.actions["view front"].trigger()
application.processEvents()
print(time.perf_counter() - start, flush=True)
window.session.discard()
window.close()
"""


def start() -> Iterator[str]:
    """From the start of the process to a window that answers."""
    times = []
    for _ in range(5):
        begun = time.perf_counter()
        process = subprocess.Popen([sys.executable, "-c", STARTER], stdout=subprocess.PIPE, text=True)
        assert process.stdout is not None
        process.stdout.readline()
        times.append(time.perf_counter() - begun)
        process.wait()
    yield f"window usable after: least {min(times):.2f} s, median {sorted(times)[2]:.2f} s of 5 starts of the process"


def ripples(count: int) -> TriangleMesh:
    """A closed-looking rippled sheet of about `count` triangles."""
    side = int(np.sqrt(count / 2)) + 1
    u, v = np.meshgrid(np.linspace(-100, 100, side), np.linspace(-100, 100, side), indexing="ij")
    points = np.stack([u, v, 8 * np.sin(u / 9) * np.cos(v / 7)], axis=-1).reshape(-1, 3)
    corner = (np.arange(side - 1)[:, None] * side + np.arange(side - 1)).ravel()
    triangles = np.concatenate(
        [np.stack([corner, corner + side, corner + 1], 1), np.stack([corner + 1, corner + side, corner + side + 1], 1)]
    )
    return TriangleMesh(points, triangles)


def orbit() -> Iterator[str]:
    """Dragging two million triangles round in the real stage widget."""
    from PyQt6.QtCore import QPoint, Qt
    from PyQt6.QtTest import QTest

    from juxtum.desk.app import make_application
    from juxtum.desk.stage_view import StageView
    from juxtum.scene.camera import View
    from juxtum.scene.drawables import surface

    application = make_application(["bench"])
    mesh = ripples(2_000_000)
    view = StageView()
    view.resize(744, 548)
    view.put("map", surface(mesh.points, mesh.triangles, mesh.normals, mesh.points[:, 2] * 0.05))
    view.look_from(View.CORNER)
    view.show()
    application.processEvents()
    QTest.mousePress(view, Qt.MouseButton.LeftButton, pos=QPoint(300, 300))
    times = []
    for k in range(60):
        begun = time.perf_counter()
        QTest.mouseMove(view, QPoint(300 + 5 * k % 200, 300 + k))
        view.repaint()
        application.processEvents()
        times.append(time.perf_counter() - begun)
    QTest.mouseRelease(view, Qt.MouseButton.LeftButton, pos=QPoint(400, 300))
    view.release()
    view.close()
    steady = np.array(times[5:])
    median, slow = 1 / np.median(steady), 1 / np.quantile(steady, 0.9)
    yield f"{len(mesh.triangles)} triangles while dragged: median {median:.0f} frames/s, slowest tenth {slow:.0f} frames/s"


def lag() -> Iterator[str]:
    """Time between two turns of the event loop while the whole demo is derived from nothing."""
    import tempfile

    from PyQt6.QtCore import QSettings

    from juxtum.cli.commands import _alignment, _cleaning
    from juxtum.demo.job import demo_job
    from juxtum.desk.app import make_application

    application = make_application(["bench"])
    from juxtum.desk.window import MainWindow

    sys.setswitchinterval(0.002)
    window = MainWindow(QSettings(tempfile.mkdtemp() + "/s.ini", QSettings.Format.IniFormat))
    window.show()
    job = demo_job(window.session.files)
    for step in (*_cleaning("auto"), *_alignment("best-fit")):
        job = job.with_step(step)
    for _ in range(30):
        application.processEvents()
        time.sleep(0.02)
    window.session.start(job)
    gaps, last = [], time.perf_counter()
    while window.session.workbench.is_busy:
        application.processEvents()
        now = time.perf_counter()
        gaps.append(now - last)
        last = now
        time.sleep(0.001)
    window.session.discard()
    window.close()
    waits = np.array(gaps)
    share = waits[waits > 0.1].sum() / waits.sum()
    yield f"event loop while working: 99 % of turns under {1000 * np.quantile(waits, 0.99):.0f} ms, longest {1000 * waits.max():.0f} ms"
    yield f"share of the time spent in turns over 100 ms: {100 * share:.0f} %"


def pace() -> Iterator[str]:
    """What an edit takes until ledger and colours show it, and the longest turn of the event loop in a walk over the stations."""
    import tempfile

    from PyQt6.QtCore import QSettings

    from juxtum.cli.commands import _alignment, _cleaning
    from juxtum.demo.job import demo_job
    from juxtum.desk.app import make_application

    application = make_application(["bench"])
    from juxtum.desk.window import MainWindow
    from juxtum.guide.findings import Key

    sys.setswitchinterval(0.002)
    window = MainWindow(QSettings(tempfile.mkdtemp() + "/s.ini", QSettings.Format.IniFormat))
    window.resize(1280, 800)
    window.show()
    job = demo_job(window.session.files)
    for step in (*_cleaning("auto"), *_alignment("best-fit")):
        job = job.with_step(step)
    window.session.start(job)
    turns = Turns()
    turns.until(lambda: window.session.derived.evaluation is not None and not window.session.workbench.is_busy)
    window.hub.go(Key.MEASURE)
    turns.until(lambda: not window.view.is_moving, 0.5)
    told, pinned = [], []
    for k in range(5):
        upper = 0.2 + 0.01 * (k + 1)
        begun = time.perf_counter()
        window.measure.set_limits(-0.2, upper)
        turns.until(
            lambda u=upper: (
                window.session.derived.job.procedure.measure.upper == u and not window.session.workbench.is_busy
            )
        )
        window.view.repaint()
        told.append(time.perf_counter() - begun)
        turns.until(lambda: not window.view.is_moving, 0.5)
        begun = time.perf_counter()
        window.measure.pin(np.array([20.0 + 5 * k, 46.0, 48.0]))
        turns.until(
            lambda n=k + 1: (
                len(window.session.derived.evaluation.readings) == n and not window.session.workbench.is_busy
            )
        )
        window.view.repaint()
        pinned.append(time.perf_counter() - begun)
        turns.until(lambda: not window.view.is_moving, 0.5)
    yield f"another limit of the map until ledger and colours show it: median {1000 * np.median(told):.0f} ms, longest {1000 * max(told):.0f} ms"
    yield f"a reading pinned until its card is drawn: median {1000 * np.median(pinned):.0f} ms, longest {1000 * max(pinned):.0f} ms"
    turns.longest.clear()
    for key in (*Key, *reversed(Key)):
        begun = time.perf_counter()
        window.hub.go(key)
        application.processEvents()
        turns.longest.append((time.perf_counter() - begun, f"going to {key}"))
        turns.until(lambda: not window.session.workbench.is_busy, 0.3)
    worst = sorted(turns.longest)[::-1]
    yield "longest turns of the event loop in a walk: " + ", ".join(
        f"{1000 * t:.0f} ms {what}" for t, what in worst[:4]
    )
    window.session.discard()
    window.close()


class Turns:
    """Lets the event loop turn and remembers how long each turn took."""

    def __init__(self) -> None:
        self.longest: list[tuple[float, str]] = []

    def until(self, ready: Callable[[], bool], least: float = 0.0) -> None:
        """Turn until something is so, and for some seconds at least."""
        from PyQt6.QtWidgets import QApplication

        begun = last = time.perf_counter()
        while not ready() or time.perf_counter() - begun < least:
            QApplication.processEvents()
            now = time.perf_counter()
            self.longest.append((now - last, "while waiting"))
            time.sleep(0.001)
            last = time.perf_counter()
