"""Files that are there whole or not at all."""

from __future__ import annotations

import os
from collections.abc import Callable
from pathlib import Path

from juxtum.errors import JobError


def write_atomically(path: Path, write: Callable[[Path], object]) -> None:
    """Write a file beside its place, flush it to disk and move it there in one step.

    Parameters
    ----------
    write : callable
        Called with the path to write to.

    Raises
    ------
    JobError
        When it cannot be written; what was there stays as it was.
    """
    unfinished = path.with_name(f".{path.name}.{os.getpid()}.part")
    try:
        write(unfinished)
        with unfinished.open("rb") as file:
            os.fsync(file.fileno())
        os.replace(unfinished, path)
        folder = os.open(path.parent, os.O_RDONLY)
        try:
            os.fsync(folder)
        finally:
            os.close(folder)
    except OSError as problem:
        unfinished.unlink(missing_ok=True)
        raise JobError("the file could not be written", str(path), "Check the folder, its permissions and the free space") from problem
