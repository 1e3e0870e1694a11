"""What is typed behind options, as values; each complains in words that argparse passes on."""

from __future__ import annotations

import argparse

from juxtum.errors import InputError
from juxtum.units import Unit, parse_length


def length(text: str) -> float:
    """A length in mm, of whatever is typed."""
    try:
        return parse_length(text)
    except InputError as problem:
        raise argparse.ArgumentTypeError(problem.what) from problem


def unit(text: str) -> Unit:
    """A unit of length."""
    try:
        return Unit(text)
    except ValueError as problem:
        raise argparse.ArgumentTypeError(f"'{text}' is not a unit; use mm, cm, m or in") from problem


def series(text: str) -> tuple[int, float]:
    """How many, and how far apart in mm: `5,10`."""
    many, comma, spacing = text.replace(";", ",").partition(",")
    if not comma:
        raise argparse.ArgumentTypeError(f"'{text}' is not a series; use for example 5,10")
    return count(many.strip()), length(spacing)


def temperature(text: str) -> float:
    """Degrees Celsius."""
    try:
        value = float(text.replace(",", "."))
    except ValueError as problem:
        raise argparse.ArgumentTypeError(f"'{text}' is not a temperature in degrees Celsius") from problem
    if not -40 <= value <= 120:
        raise argparse.ArgumentTypeError(f"{value:g} degrees Celsius is no temperature of a part")
    return value


def seed(text: str) -> int:
    """A seed of random numbers."""
    if not text.isdigit() or int(text) >= 2**32:
        raise argparse.ArgumentTypeError(f"'{text}' is not a seed; use a whole number from 0")
    return int(text)


def port(text: str) -> int:
    """A port of this machine."""
    if not text.isdigit() or int(text) > 65_535:
        raise argparse.ArgumentTypeError(f"'{text}' is not a port; use 0 to 65535")
    return int(text)


def positive(text: str) -> float:
    """A length above nothing, mm."""
    value = length(text)
    if value <= 0:
        raise argparse.ArgumentTypeError(f"'{text}' is not more than nothing")
    return value


def share(text: str) -> float:
    """From 0 to 1."""
    try:
        value = float(text.replace(",", "."))
    except ValueError as problem:
        raise argparse.ArgumentTypeError(f"'{text}' is not a share; use a number such as 0.95") from problem
    if not 0 < value <= 1:
        raise argparse.ArgumentTypeError(f"'{text}' is not a share between 0 and 1")
    return value


def count(text: str) -> int:
    """A whole number from 1."""
    if not text.isdigit() or not 1 <= int(text) <= 10_000:
        raise argparse.ArgumentTypeError(f"'{text}' is not a number from 1 to 10000")
    return int(text)


def faces(text: str) -> tuple[int, ...]:
    """Numbers of faces: `14,63`."""
    words = [word for word in text.split(",") if word]
    if not all(word.isdigit() and int(word) >= 1 for word in words):
        raise argparse.ArgumentTypeError(f"'{text}' is not a list of face numbers; use for example 14,63")
    return tuple(int(word) for word in words)


def band(text: str) -> tuple[float, float]:
    """From near to far, mm: `30-100`."""
    near, dash, far = text.partition("-")
    if not dash:
        raise argparse.ArgumentTypeError(f"'{text}' is not a band; use for example 30-100")
    return positive(near), positive(far)


def clock(text: str) -> str:
    """A time of day."""
    from juxtum.plan.cost.schedule import parse_clock

    try:
        parse_clock(text)
    except InputError as problem:
        raise argparse.ArgumentTypeError(problem.what) from problem
    return text.strip()
