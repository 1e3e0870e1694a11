"""How fast map, ledger and readings follow the alignment that is put in force."""

from __future__ import annotations

import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from resource import RUSAGE_SELF, getrusage
from typing import TYPE_CHECKING

import numpy as np

if TYPE_CHECKING:
    from benchmarks.window import Turns
    from juxtum.desk.session import Session
    from juxtum.desk.window import MainWindow
    from juxtum.job import FileStore, Job

REST = 3.0


def following() -> Iterator[str]:
    """Three alignments of a scan of 1.5 million points with the demo's drawing, each put in force in the real window."""
    from PyQt6.QtCore import QSettings

    from benchmarks.window import Turns
    from juxtum.desk.app import make_application

    application = make_application(["bench"])
    from juxtum.desk.window import MainWindow
    from juxtum.guide.findings import Key

    sys.setswitchinterval(0.002)
    folder = tempfile.mkdtemp()
    window = MainWindow(QSettings(folder + "/s.ini", QSettings.Format.IniFormat))
    window.resize(1280, 800)
    window.show()
    session = window.session
    job = _job(session.files, Path(folder))
    begun, turns = time.perf_counter(), Turns()
    session.start(job)
    turns.until(lambda: session.derived.evaluation is not None and not session.workbench.is_busy)
    window.hub.go(Key.MEASURE)
    count, drawn = len(session.derived.evaluation.deviation.points), len(job.procedure.characteristics)
    yield f"{count} points and {drawn} characteristics from the file to ledger and colours: {time.perf_counter() - begun:.1f} s"
    window.view.repaint()
    application.processEvents()
    yield _made_ahead(session, turns)
    for name in ("regional", "datums A|B|C", "best fit", "regional"):
        if name != session.derived.in_force:
            yield f"'{name}' in force, until ledger and colours show it: {_took(window, turns, lambda n=name: window.judging.choose_alignment(n)):.2f} s"
    yield f"other limits of the map: {_took(window, turns, lambda: window.measure.set_limits(-0.25, 0.25)):.2f} s"
    session.discard()
    window.close()


def _made_ahead(session: Session, turns: Turns) -> str:
    """How long it took to make the others, how the event loop turned meanwhile, and how much memory was held."""
    from juxtum.desk.workbench import Lane

    turns.longest.clear()
    begun = rested = time.perf_counter()
    # What is made ahead begins a second after the last work, and goes on from one alignment to the next.
    while time.perf_counter() - rested < REST:
        turns.until(lambda: True, 0.05)
        if session.workbench.is_working(Lane.AHEAD):
            rested = time.perf_counter()
    waits = np.array([seconds for seconds, _ in turns.longest])
    told = (
        f"event loop: 99 % of turns under {1000 * np.quantile(waits, 0.99):.0f} ms, longest {1000 * waits.max():.0f} ms"
    )
    return f"the other alignments were made ahead in {rested - begun:.1f} s; {told}; {_held():.1f} GB held at most"


def _took(window: MainWindow, turns: Turns, ask: Callable[[], object]) -> float:
    """Seconds from asking for something until it is shown."""
    begun = time.perf_counter()
    ask()
    turns.until(lambda: not window.session.workbench.is_busy)
    window.view.repaint()
    return time.perf_counter() - begun


def _held() -> float:
    """The most memory that this process has held so far, GB."""
    return getrusage(RUSAGE_SELF).ru_maxrss / 1e6


def _job(files: FileStore, folder: Path) -> Job:
    """BC-220 with its drawing, its scan made four times as fine, a best fit, a fit to some faces and the drawing's datums."""
    import trimesh

    from juxtum.cli.commands import _cleaning
    from juxtum.demo.job import datum_step, demo_job
    from juxtum.demo.world import drawing_path
    from juxtum.evaluate.drawing import read_drawing
    from juxtum.job import Runner
    from juxtum.job.procedure import with_characteristics
    from juxtum.job.steps import BestFit, Rough
    from juxtum.units import Unit

    job, runner = demo_job(files), Runner(files)
    for cleaning in _cleaning("auto"):
        job = job.with_step(cleaning)
    scan = runner.cleaned(job)
    points, triangles = trimesh.remesh.subdivide(scan.points, scan.triangles)  # type: ignore[union-attr]
    trimesh.Trimesh(points, triangles, process=False).export(folder / "fine.ply")
    job = demo_job(files)
    drawn = with_characteristics(job.procedure, read_drawing(drawing_path(), runner.nominal(job)))
    for step in (
        Rough(name="rough"),
        BestFit(name="best fit", start="rough"),
        BestFit(name="regional", start="rough", faces=(12, 14, 16, 51)),
        datum_step("best fit"),
    ):
        drawn = drawn.with_step(step)
    return job.with_scan(files.adopt(folder / "fine.ply", Unit("mm"))).model_copy(update={"procedure": drawn})
