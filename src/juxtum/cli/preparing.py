"""What the demo needs, made before anybody waits for it: its scan and its alignment, and beside them its capture."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

from juxtum.job import FileStore, Runner
from juxtum.job.document import usual_alignment, usual_cleaning
from juxtum.progress import Progress, silent

BESIDE = "from juxtum.cli.preparing import make_capture; make_capture()"


def prepare_demo(progress: Progress) -> Path:
    """Make the demo's scan, alignment and capture where they are not there yet, and all kernels on the way; where the scan is.

    The capture, which takes as long as all the rest, is made by a process of its own where there is a core for it.
    """
    # What goes wrong there is told by this process, which then tries it itself.
    command, silence = [sys.executable, "-c", BESIDE], subprocess.DEVNULL
    beside = subprocess.Popen(command, stderr=silence) if (os.cpu_count() or 1) > 1 else None
    try:
        path = _align(progress.part(0.0, 0.7))
        if beside is not None:
            progress.phase("capturing the demo part", 0.7)
            beside.wait()
    finally:
        if beside is not None and beside.poll() is None:
            beside.terminate()
    # There already, unless the process beside this one has failed.
    make_capture(progress.part(0.7, 1.0))
    return path


def make_capture(progress: Progress | None = None) -> None:
    """The capture of the demo job; it needs no scan."""
    from juxtum.demo.capture import with_capture
    from juxtum.demo.job import demo_job

    files = FileStore()
    with_capture(demo_job(files, with_scan=False), files, progress or silent())


def _align(progress: Progress) -> Path:
    """The demo's scan, evaluated as the demo is."""
    from juxtum.demo.job import datum_step, demo_job
    from juxtum.demo.world import scan_path

    path = scan_path(progress.part(0.0, 0.6))
    files = FileStore()
    job = demo_job(files)
    for step in (*usual_cleaning("scan"), *usual_alignment(), datum_step("best fit")):
        job = job.with_step(step)
    Runner(files).evaluation(job, None, progress.part(0.6, 1.0))
    return path
