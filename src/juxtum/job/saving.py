"""Saving over a file that others may have changed meanwhile: nobody's work is overwritten."""

from __future__ import annotations

from dataclasses import dataclass
from itertools import count
from pathlib import Path

from juxtum.errors import JobError
from juxtum.job.document import Job
from juxtum.job.files import FileStore
from juxtum.job.store import save_job


@dataclass(frozen=True)
class Saved:
    """A job's file as it was when it was last read or written: what tells whether somebody else wrote it since."""

    path: Path
    size: int
    time: int
    node: int


def as_on_disk(path: Path) -> Saved:
    """How a file is now.

    Raises
    ------
    JobError
        When it is not there.
    """
    try:
        found = path.stat()
    except OSError as problem:
        raise JobError("there is no such file", str(path), "Open another one") from problem
    return Saved(path, found.st_size, found.st_mtime_ns, found.st_ino)


def save_beside_others(job: Job, path: Path, files: FileStore, known: Saved | None) -> Saved:
    """Save a job; under another name when its file was changed by somebody else since it was `known`.

    Raises
    ------
    JobError
        When it cannot be written.
    """
    target = path
    if known is not None and path.exists() and as_on_disk(path) != known:
        names = (path.with_name(f"{path.stem} ({number}){path.suffix}") for number in count(2))
        target = next(name for name in names if not name.exists())
    save_job(job, target, files)
    return as_on_disk(target)
