"""The day's order of work with clock times, and whether a coat lasts that long."""

from __future__ import annotations

import os
import re
from dataclasses import dataclass

from juxtum.errors import InputError
from juxtum.instruments.coats import COATS, Coat

STICK_COATED = "wipe the coat off where targets go, and stick them in their order"
PREPARE = 10.0
TURN_OVER = 6.0
ASSEMBLE = 8.0


@dataclass(frozen=True)
class Entry:
    """One line of the schedule: start in minutes since midnight, length in minutes, what is done."""

    start: float
    minutes: float
    what: str

    @property
    def clock(self) -> str:
        """Start as a clock time."""
        return clock(self.start)


@dataclass(frozen=True)
class Schedule:
    """The order of work.

    Parameters
    ----------
    entries : tuple of Entry
    warnings : tuple of str
    """

    entries: tuple[Entry, ...]
    warnings: tuple[str, ...]

    @property
    def end(self) -> float:
        """Minutes since midnight."""
        last = self.entries[-1]
        return last.start + last.minutes

    @property
    def total(self) -> float:
        """Minutes."""
        return self.end - self.entries[0].start


@dataclass(frozen=True)
class Work:
    """What has to be done, minutes each; nothing of what is zero."""

    sticking: float
    warm_up: float
    calibration: float
    photos: float
    scanning: tuple[float, ...]
    """For each set-up."""
    computing: float
    coat: Coat = COATS["none"]
    putting_down: float = 0.0
    """The part on its equipment."""


def schedule(work: Work, start: float) -> Schedule:
    """Clean, coat, stick, put down, warm up, calibrate, photograph, scan, turn, scan, assemble.

    The instrument warms up while the part is prepared. A coat comes before the targets: they sit on the bare surface,
    where it is wiped off, and its time runs from when it was put on.
    """
    entries: list[Entry] = []
    now = start

    def do(minutes: float, what: str) -> None:
        nonlocal now
        if minutes > 0:
            entries.append(Entry(now, minutes, what))
            now += minutes

    do(PREPARE, "switch the instrument on, clean the part, set it up")
    coated = now
    if work.coat.thickness > 0:
        do(3.0, f"coat: {work.coat.name}, {1000 * work.coat.thickness:.0f} \u00b5m")
        coated = now
        do(work.coat.drying, "let the coat dry")
    do(work.sticking, "stick the targets in their order" if work.coat.thickness == 0 else STICK_COATED)
    do(work.putting_down, "put the part on its equipment")
    waiting = work.warm_up - (now - start)
    do(max(waiting, 0.0), "wait until the instrument is warm")
    do(work.calibration, "calibrate and check")
    do(work.photos, "photo walk")
    for k, minutes in enumerate(work.scanning):
        if k:
            do(TURN_OVER, "turn the part over")
        do(minutes, "scan" if len(work.scanning) == 1 else f"scan, position {k + 1}")
    end = now
    do(ASSEMBLE + work.computing, "assemble and evaluate")
    warnings = []
    if end - coated > work.coat.lasts:
        late = end - coated - work.coat.lasts
        warnings.append(
            f"the coat is gone at {clock(coated + work.coat.lasts)}, {late:.0f} min before the last scan ends at {clock(end)}: "
            "warm the instrument up before coating, or use one that lasts longer"
        )
    if end >= 24 * 60:
        warnings.append("the work runs past midnight: start earlier")
    return Schedule(tuple(entries), tuple(warnings))


def parse_clock(text: str) -> float:
    """Minutes since midnight of a clock time such as 08:15.

    Raises
    ------
    InputError
    """
    found = re.fullmatch(r"\s*(\d{1,2})[:.](\d{2})\s*", text)
    if not found or int(found[1]) > 23 or int(found[2]) > 59:
        raise InputError(f"'{text}' is not a clock time", "start", "Write for example 08:15")
    return int(found[1]) * 60.0 + int(found[2])


def clock(minutes: float) -> str:
    """A clock time.

    Examples
    --------
    >>> clock(495.0), parse_clock("08:15")
    ('08:15', 495.0)
    """
    whole = round(minutes)
    return f"{whole // 60 % 24:02d}:{whole % 60:02d}"


def machine_memory() -> float:
    """Memory of this machine, bytes."""
    return float(os.sysconf("SC_PAGE_SIZE") * os.sysconf("SC_PHYS_PAGES"))
