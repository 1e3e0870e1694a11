"""How long work tells where it is and learns that it should stop."""

from __future__ import annotations

import threading
from collections.abc import Callable

from juxtum.errors import Cancelled

Listener = Callable[[str, float], None]


class Progress:
    """Carries phases and a share done outwards, and the wish to cancel inwards.

    Parameters
    ----------
    listener : callable, optional
        Called with the phase and the share done (0 to 1); from whatever thread works.
    stop : threading.Event, optional
        Set from outside when the work should stop; otherwise one of its own.

    Examples
    --------
    >>> heard = []
    >>> progress = Progress(lambda phase, share: heard.append((phase, share)))
    >>> progress.phase("reading the scan", 0.5)
    >>> heard
    [('reading the scan', 0.5)]
    """

    def __init__(self, listener: Listener | None = None, stop: threading.Event | None = None) -> None:
        self._listener = listener
        self._stop = stop or threading.Event()
        self._low, self._high = 0.0, 1.0

    def cancel(self) -> None:
        """Ask the work to stop at its next check."""
        self._stop.set()

    @property
    def is_cancelled(self) -> bool:
        """Whether somebody asked to stop."""
        return self._stop.is_set()

    def check(self) -> None:
        """Raise `Cancelled` if somebody asked to stop."""
        if self._stop.is_set():
            raise Cancelled

    def phase(self, text: str, share: float = 0.0) -> None:
        """Tell the phase and how much of it is done, and stop here if asked to."""
        self.check()
        if self._listener is not None:
            self._listener(text, self._low + (self._high - self._low) * min(max(share, 0.0), 1.0))

    def part(self, low: float, high: float) -> Progress:
        """A view of this progress whose 0 to 1 covers `low` to `high` of it."""
        inner = Progress(self._listener, self._stop)
        span = self._high - self._low
        inner._low, inner._high = self._low + span * low, self._low + span * high
        return inner


def silent() -> Progress:
    """A progress that nobody listens to."""
    return Progress()
