"""What a file from outside may ask for before anything is allocated."""

from __future__ import annotations

import hashlib
from pathlib import Path

from juxtum.errors import InputError

JOB_SUFFIX = ".juxtum"
MAX_FILE_BYTES = 8 * 1024**3
MAX_POINTS = 150_000_000
MAX_TRIANGLES = 150_000_000


def check_file(path: Path) -> int:
    """Size of a readable, regular, non-empty file in bytes.

    Raises
    ------
    InputError
        For anything else, saying which.
    """
    try:
        if path.is_dir():
            raise InputError("this is a folder, not a file", str(path), "Name the file inside it")
        if not path.exists():
            raise InputError("there is no such file", str(path), "Check the name")
        if not path.is_file():
            raise InputError("this is not a regular file", str(path), "Name a file on disk")
        with path.open("rb"):
            size = path.stat().st_size
    except PermissionError as problem:
        raise InputError("the file may not be read", str(path), "Check its permissions") from problem
    except OSError as problem:
        raise InputError("the file cannot be opened", str(path), "Check the name and the disk") from problem
    if size == 0:
        raise InputError("the file is empty", str(path), "Copy or export it again")
    if size > MAX_FILE_BYTES:
        raise InputError(f"the file is larger than {MAX_FILE_BYTES // 1024**3} GB", str(path), "Thin it first")
    return size


def check_counts(points: int, triangles: int, path: Path) -> None:
    """Refuse counts from a header that no real scan has."""
    if points < 0 or triangles < 0:
        raise InputError("the header names a negative count", str(path), "Export the file again")
    if points > MAX_POINTS or triangles > MAX_TRIANGLES:
        raise InputError("the header names more data than any scan has", str(path), "Export the file again")


def read_head(path: Path, count: int) -> bytes:
    """The first bytes of a file."""
    with path.open("rb") as file:
        return file.read(count)


def content_hash(path: Path) -> str:
    """SHA-256 of a file as hexadecimal digits."""
    with path.open("rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()
