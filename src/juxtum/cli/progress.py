"""Progress on a terminal."""

from __future__ import annotations

import sys

from juxtum.cli.stopping import ASKED
from juxtum.progress import Progress


def show_progress() -> Progress:
    """A progress that writes one line over and over, when somebody watches."""
    if not sys.stderr.isatty():
        return Progress(stop=ASKED)
    return Progress(
        lambda phase, share: print(f"\r\033[K{100 * share:3.0f} %  {phase}", end="", file=sys.stderr, flush=True), ASKED
    )


def end_progress() -> None:
    """Wipe the line."""
    if sys.stderr.isatty():
        print("\r\033[K", end="", file=sys.stderr, flush=True)
