"""CAD models kept on disk as the arrays that were made of them, so that a job that is opened again need not read them again."""

from __future__ import annotations

import contextlib
import hashlib
import os
import zipfile
from functools import cache
from importlib.metadata import version
from pathlib import Path

from juxtum.errors import InputError, JuxtumError
from juxtum.exchange.cad_process import read_cad_arrays
from juxtum.exchange.limits import check_file
from juxtum.exchange.solid import CadArrays
from juxtum.exchange.writing import write_atomically
from juxtum.folders import cache_folder, is_keeping
from juxtum.progress import Progress

MOST_BYTES = 1024**3
"""All that is kept together; what was not used for longest goes first."""
DAMAGED = (OSError, ValueError, KeyError, TypeError, IndexError, EOFError, zipfile.BadZipFile)


def model_arrays(path: Path, progress: Progress | None = None) -> CadArrays:
    """The arrays of a STEP or IGES file, as kept under the hash of its content, or read.

    Raises
    ------
    InputError
        When the file cannot be used.
    Cancelled
        When the progress was asked to stop.
    """
    check_file(path)
    if not is_keeping():
        return read_cad_arrays(path, progress)
    kept = _folder() / f"{_hash_of(path)}-{_reader()}.npz"
    try:
        arrays = CadArrays.load(kept)
        os.utime(kept)
        return arrays
    except DAMAGED:
        arrays = read_cad_arrays(path, progress)
    with contextlib.suppress(OSError, JuxtumError):
        kept.parent.mkdir(parents=True, exist_ok=True)
        write_atomically(kept, arrays.save)
        _thin()
    return arrays


@cache
def _reader() -> str:
    """A hash over the code and the library that make the arrays: another program makes its own."""
    held = hashlib.sha256(version("cadquery-ocp-novtk").encode())
    for entry in sorted(Path(__file__).parent.glob("*.py")):
        held.update(entry.name.encode() + entry.read_bytes())
    return held.hexdigest()[:20]


def _folder() -> Path:
    return cache_folder() / "models"


def _hash_of(path: Path) -> str:
    try:
        with path.open("rb") as file:
            return hashlib.file_digest(file, "sha256").hexdigest()
    except OSError as problem:
        raise InputError("the file cannot be read", str(path), "Check that it is there and may be read") from problem


def _thin() -> None:
    held = sorted(_folder().glob("*.npz"), key=lambda path: path.stat().st_mtime, reverse=True)
    whole = 0
    for path in held:
        whole += path.stat().st_size
        if whole > MOST_BYTES:
            path.unlink(missing_ok=True)
