"""Files that are there whole or not at all."""

from __future__ import annotations

import errno
import os
import re
import stat
import time
from collections.abc import Callable
from pathlib import Path

from juxtum.errors import JobError

STALE = 24 * 3600.0
"""Seconds after which an unfinished file beside its place was left by a program that was killed."""
LONGEST = 60


def write_atomically(path: Path, write: Callable[[Path], object]) -> None:
    """Write a file beside its place, flush it to disk and move it there in one step.

    A link is kept: what it points to is written. Permissions stay as they were; nothing that was put in the way of the
    unfinished file is followed.

    Parameters
    ----------
    write : callable
        Called with the path to write to.

    Raises
    ------
    JobError
        When it cannot be written; what was there stays as it was.
    """
    try:
        target = path.resolve() if path.is_symlink() else path
        unfinished = _claimed(target)
    except OSError as problem:
        raise _failure(path, problem) from problem
    try:
        write(unfinished)
        if target.exists():
            os.chmod(unfinished, stat.S_IMODE(target.stat().st_mode))
        with unfinished.open("rb") as file:
            os.fsync(file.fileno())
        os.replace(unfinished, target)
        _flush(target.parent)
    except OSError as problem:
        raise _failure(path, problem) from problem
    finally:
        unfinished.unlink(missing_ok=True)
    _sweep(target)


def _claimed(target: Path) -> Path:
    """A new file of our own beside the target, readable as usual, that nobody could have put there before."""
    name = f".{target.name[:LONGEST]}.{os.getpid()}-{time.monotonic_ns():x}.part"
    unfinished = target.with_name(name)
    os.close(os.open(unfinished, os.O_CREAT | os.O_EXCL | os.O_WRONLY | getattr(os, "O_NOFOLLOW", 0), 0o666))
    return unfinished


def _flush(folder: Path) -> None:
    """Have the folder's entry written too; some file systems do not know that for folders, which is no failure."""
    try:
        handle = os.open(folder, os.O_RDONLY)
    except OSError:
        return
    try:
        os.fsync(handle)
    except OSError as problem:
        if problem.errno not in (errno.EINVAL, errno.ENOTSUP, errno.EBADF, errno.EACCES, errno.EROFS):
            raise
    finally:
        os.close(handle)


def _sweep(target: Path) -> None:
    """Take away what programs that were killed have left of the same file."""
    mine = re.compile(re.escape(f".{target.name[:LONGEST]}.") + r"\d+(-[0-9a-f]+)?\.part$")
    try:
        for entry in os.scandir(target.parent):
            if (
                mine.match(entry.name)
                and entry.is_file(follow_symlinks=False)
                and time.time() - entry.stat(follow_symlinks=False).st_mtime > STALE
            ):
                os.unlink(entry.path)
    except OSError:
        return


def _failure(path: Path, problem: OSError) -> JobError:
    if problem.errno == errno.ENAMETOOLONG:
        return JobError("the name is too long for this disk", str(path)[-120:], "Choose a shorter one")
    if problem.errno in (errno.ENOSPC, errno.EDQUOT):
        return JobError("the disk is full", str(path), "Make room, or save somewhere else; nothing is lost so far")
    if problem.errno == errno.EROFS:
        return JobError("the disk can only be read", str(path), "Save somewhere else")
    return JobError("the file could not be written", str(path), "Check the folder, its permissions and the free space")


def as_file_name(text: str, otherwise: str = "part") -> str:
    """A text as the name of a file: no folders, no dots in front, nothing that cannot be printed.

    Examples
    --------
    >>> as_file_name("../../BC-220 bearing"), as_file_name("..")
    ('BC-220', 'part')
    """
    word = next(iter(re.sub(r"[^\w\- ]+", " ", text).split()), "")
    return word[:LONGEST] or otherwise
