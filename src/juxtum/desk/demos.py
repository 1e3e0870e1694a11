"""What is brought ready made: demo jobs, and the characteristics of a drawing."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

from juxtum.evaluate.drawing import read_drawing
from juxtum.evaluate.kinds import Kind, NotTaken
from juxtum.job import FileStore, Job
from juxtum.job.procedure import with_characteristics
from juxtum.progress import Progress

if TYPE_CHECKING:
    from juxtum.desk.desk import Desk


def open_demo(desk: Desk, part: str) -> None:
    """Open a demo job: BC-220, HB-36, BC-220 in pieces, PS-14, or a tray of VC-8; scans are made on first use."""
    session = desk.session

    def start(job: object) -> None:
        assert isinstance(job, Job)
        session.start(job, then=desk.look_home)

    session.compute(lambda progress: _demo(part, session.files, progress), start)


def _demo(part: str, files: FileStore, progress: Progress) -> Job:
    from juxtum.demo.beam_job import beam_job
    from juxtum.demo.capture import with_capture
    from juxtum.demo.job import demo_job
    from juxtum.demo.shaft_job import shaft_job
    from juxtum.demo.tray import tray_job
    from juxtum.demo.views import views_job

    if part == "HB-36":
        return beam_job(files)
    if part == "VC-8":
        return tray_job(files, progress)
    if part == "PS-14":
        return shaft_job(files, progress)
    if part == "pieces":
        return views_job(files, progress)
    return with_capture(demo_job(files, progress), files, progress)


def bring_drawing(desk: Desk, path: Path) -> None:
    """Take the characteristics of a drawing in place of those that there are."""
    runner = desk.session.runner
    take_drawing(desk, path.name, lambda job, progress: read_drawing(path, runner.nominal(job, progress)))


def take_drawing(
    desk: Desk,
    source: str,
    read: Callable[[Job, Progress], tuple[Kind, ...]],
    left_out: Callable[[], str] = lambda: "",
) -> None:
    """Take characteristics in place of those that there are, and say what came and what was left out."""
    session = desk.session
    before = len(session.job.procedure.characteristics)

    def change(job: Job, progress: Progress) -> Job:
        return job.model_copy(update={"procedure": with_characteristics(job.procedure, read(job, progress))})

    def told() -> None:
        count = sum(not isinstance(c, NotTaken) for c in session.job.procedure.characteristics)
        were = "were" if before > 1 else "was"
        gone = f"; {before} that {were} there went, undo brings them back" if before else ""
        left = left_out()
        rest = f" Not taken, and not decided until stated by hand: {left}." if left else ""
        desk.announce(f"{count} characteristics from {source}{gone}.{rest}")

    session.edit_slowly(f"bring drawing {source}", change, then=told)
