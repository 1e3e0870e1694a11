"""Being asked to end: work stops at its next check, so that nothing is torn in the middle."""

from __future__ import annotations

import os
import signal
import sys
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from types import FrameType

POLITE = frozenset({"inspect", "run", "plan", "info", "prepare"})
"""Commands that look, while they work, whether they should stop; the others wait for something and are interrupted."""
ASKED = threading.Event()
"""Set once somebody pressed Ctrl+C or the system asked the program to end."""


@contextmanager
def ending_tidily(command: str) -> Iterator[None]:
    """While it lasts, Ctrl+C and the system's wish to end stop a command where it may be stopped.

    An exception in the middle of whatever runs would hit compiled code and libraries that are just being loaded, which
    then end the program. Asked a second time, the program ends at once; what it leaves unfinished, the next one clears.
    """
    if threading.current_thread() is not threading.main_thread():
        yield
        return
    ASKED.clear()
    handler = _asked if command in POLITE else _interrupted
    before = [(number, signal.signal(number, handler)) for number in (signal.SIGINT, signal.SIGTERM)]
    try:
        yield
    finally:
        for number, known in before:
            signal.signal(number, known)


def _asked(_: int, __: FrameType | None) -> None:
    if ASKED.is_set():
        os._exit(2)
    ASKED.set()
    if sys.stderr.isatty():
        os.write(2, b"\nstopping; once more to stop at once\n")


def _interrupted(_: int, __: FrameType | None) -> None:
    raise KeyboardInterrupt
