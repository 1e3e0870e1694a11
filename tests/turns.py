"""Which tests a run of the whole suite leaves for another one, so that it takes a quarter of an hour.

A heavy test (`heavy.txt`, those of three seconds and more) has its turn in one run of eighteen, by the number of the commit; all that is light,
what guards the wrong numbers of old, and a user's walk through the window run every time. `--long` runs everything.
"""

from __future__ import annotations

import os
from pathlib import Path

from long_cases import LONG

TURNS = 18


def _dealt(lines: list[str]) -> dict[str, int]:
    """The turn of each, the longest first to whichever turn has least to do, so that turns take equally long."""
    loads, turns = [0] * TURNS, {}
    for line in sorted(lines, key=lambda line: -int(line.split()[0])):
        seconds, name = line.split()
        turns[name] = loads.index(min(loads))
        loads[turns[name]] += int(seconds)
    return turns


HEAVY = _dealt((Path(__file__).parent / "heavy.txt").read_text("utf-8").splitlines())
"""Tests by file and function with their turn, listed with about how many seconds they take; a file alone where its tests follow each other through
one window, or share what takes long to make."""


def names_gone(known: list[str]) -> str:
    """A name of a list that no test has any more; empty where all are there."""
    functions = {unit_of(name) for name in known} | {file_of(name) for name in known}
    gone = [part for part in LONG if not any(part in name for name in known)] + sorted(HEAVY.keys() - functions)
    return gone[0] if gone else ""


def is_long(name: str) -> bool:
    """Whether a test is a further case of what a shorter one shows."""
    return any(part in name for part in LONG)


def file_of(name: str) -> str:
    """The file of a test, without its folder."""
    return name.split("::", maxsplit=1)[0].rsplit("/", 1)[-1]


def unit_of(name: str) -> str:
    """File and function of a test, whatever it is run with."""
    return f"{file_of(name)}::{name.rsplit('::', maxsplit=1)[-1].split('[', maxsplit=1)[0]}"


def has_its_turn(name: str) -> bool:
    """Whether a test runs now: light ones always."""
    unit = next((unit for unit in (unit_of(name), file_of(name)) if unit in HEAVY), "")
    return not unit or HEAVY[unit] == int(os.environ.get("JUXTUM_TURN") or 0) % TURNS
