"""Timers with their interval, which Qt's own constructor does not take where types are checked."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import QObject, QTimer


def timer(parent: QObject, milliseconds: int, run: Callable[[], object], *, once: bool = False) -> QTimer:
    """A timer that is not started yet; it runs again and again, or once each time it is started."""
    made = QTimer(parent)
    made.setInterval(milliseconds)
    made.setSingleShot(once)
    made.timeout.connect(run)
    return made
