"""CAD models kept on disk as the arrays that were made of them, so that a job that is opened again need not read them again."""

from __future__ import annotations

import contextlib
import hashlib
import os
import zipfile
from functools import cache
from importlib.metadata import version
from pathlib import Path

from juxtum.errors import JuxtumError
from juxtum.exchange.cad_process import read_cad_arrays
from juxtum.exchange.limits import check_file, content_hash
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
    digest = content_hash(path)
    kept = _folder() / f"{digest}-{_reader()}.npz"
    try:
        arrays = CadArrays.load(kept)
        os.utime(kept)
        return arrays
    except DAMAGED:
        arrays = read_cad_arrays(path, progress)
    with contextlib.suppress(OSError, JuxtumError):
        if content_hash(path) != digest:
            # Somebody wrote into it meanwhile: nobody knows of which content these arrays are.
            return arrays
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


def _thin() -> None:
    held = sorted(_folder().glob("*.npz"), key=lambda path: path.stat().st_mtime, reverse=True)
    whole = 0
    for path in held:
        whole += path.stat().st_size
        if whole > MOST_BYTES:
            path.unlink(missing_ok=True)
