"""Keeps what is captured: every accepted patch goes to disk and into the job at once."""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime

from juxtum.capture.kept.document import CaptureRecord
from juxtum.capture.kept.result import kept_points, record_of, surface_of, write_patch
from juxtum.capture.live.session import CaptureSession
from juxtum.exchange.inputfile import InputFile
from juxtum.exchange.meshes import write_ply
from juxtum.exchange.writing import as_file_name, write_atomically
from juxtum.folders import data_folder
from juxtum.job import FileStore, Job
from juxtum.job.planning import with_captured_circumstances
from juxtum.job.touching import touches_in, with_touches
from juxtum.progress import Progress


class Keeper:
    """Writes patches as they are accepted.

    Parameters
    ----------
    files : FileStore
    job : str
        Identity of the job.
    told : callable
        Told the record after each change.
    """

    def __init__(self, files: FileStore, job: str, device: str, told: Callable[[CaptureRecord], None]) -> None:
        self._files, self._device, self._told = files, device, told
        self._folder = data_folder() / "captures" / job
        self._folder.mkdir(parents=True, exist_ok=True)
        self._kept: dict[int, tuple[int, InputFile]] = {}
        self._began = _now()
        self.record: CaptureRecord | None = None
        """The newest that was told."""
        self.seed: int | None = None
        """Of the stand-in, so that it can be brought up again before the same part."""

    def tell(self, told: Callable[[CaptureRecord], None]) -> None:
        """Tell another one of changes from now on."""
        self._told = told

    def know(self, record: CaptureRecord) -> None:
        """Patches that are on disk already."""
        self._kept = {p.number: (p.points, p.file) for p in record.patches}
        self._began = record.began or self._began

    def keep(self, session: CaptureSession) -> bool:
        """Write what is new or was changed; whether the record changed. Called on the capture's thread."""
        settled = [p for p in session.good if p is not session.current]
        now = {p.number: len(p.store) for p in settled}
        if now == {number: count for number, (count, _) in self._kept.items()}:
            return False
        for patch in settled:
            held = self._kept.get(patch.number)
            if held is None or held[0] != len(patch.store):
                self._kept[patch.number] = (len(patch.store), self._files.adopt(write_patch(patch, self._folder)))
        self._kept = {number: self._kept[number] for number in now}
        files = {number: file for number, (_, file) in self._kept.items()}
        running = session.current
        if running is not None:
            # The record speaks of what is settled.
            session.patches.remove(running)
        try:
            record = record_of(session, files, self._device, self.seed, (self._began, _now()))
        finally:
            if running is not None:
                session.patches.append(running)
        self.record = record
        self._told(record)
        return True


def _now() -> str:
    return datetime.now().isoformat(timespec="milliseconds")


def captured(record: CaptureRecord) -> Callable[[Job], Job]:
    """Puts a record into a job, unless the job holds another capture than the one that it goes on with."""

    def fact(job: Job) -> Job:
        other = job.capture is not None and job.capture.began != record.began
        return job if other else job.model_copy(update={"capture": record})

    return fact


def with_scan_of_capture(job: Job, files: FileStore, progress: Progress) -> Job:
    """The job with one surface of all its patches as its scan.

    Raises
    ------
    JuxtumError
        When nothing is captured, or a patch is damaged.
    """
    patches = kept_points(job.capture, files.locate) if job.capture is not None else ()
    surface = surface_of(patches, progress=progress.part(0, 0.9))
    folder = data_folder() / "captures" / job.id
    folder.mkdir(parents=True, exist_ok=True)
    path = folder / f"{as_file_name(job.brief.part)} captured.ply"
    write_atomically(path, lambda target: write_ply(target, surface))
    assert job.capture is not None
    made = job.with_scan(files.adopt(path))
    for held in touches_in(job):
        # The part is the same: only more of it was captured.
        made = with_touches(made, held.name, held.file)
    return with_captured_circumstances(made, job.capture)
