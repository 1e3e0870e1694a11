"""Lists of named places: name, X, Y, Z in mm, and more columns where they are asked for."""

from __future__ import annotations

import csv
import io
from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np

from juxtum.errors import InputError
from juxtum.exchange.limits import check_file

MOST_BYTES = 1_000_000
MOST_ROWS = 5000
NAMES, X = ("name", "number"), "x"


@dataclass(frozen=True)
class NamedPlace:
    """A line of a list.

    Parameters
    ----------
    line : int
        Its number in the file.
    name : str
    place : tuple of float
        mm.
    more : dict
        The further columns that it has, by their names.
    """

    line: int
    name: str
    place: tuple[float, float, float]
    more: dict[str, str] = field(default_factory=dict)


def read_named_places(path: Path, noun: str, more: Sequence[str] = ()) -> list[NamedPlace]:
    """The places of a list.

    Columns `name,X,Y,Z` and then those asked for, in this order; where the first line has names, they say which columns
    these are.

    Parameters
    ----------
    noun : str
        What the places are, in the plural, for sentences.
    more : sequence of str
        Further columns that are read where the list has them.

    Raises
    ------
    InputError
        Naming the line that cannot be read.
    """
    if check_file(path) > MOST_BYTES:
        raise InputError(f"this is too large to be a list of {noun}", str(path), "Give name, X, Y and Z of each, in mm")
    try:
        text = path.read_text("utf-8-sig")
    except UnicodeDecodeError as problem:
        raise InputError(
            f"this is not a list of {noun}", str(path), "Give name, X, Y and Z of each, as CSV"
        ) from problem
    return _rows(text, str(path), noun, more)


def _rows(text: str, where: str, noun: str, more: Sequence[str]) -> list[NamedPlace]:
    first = text.split("\n", 1)[0]
    separator = ";" if first.count(";") > first.count(",") else "\t" if first.count("\t") > first.count(",") else ","
    lines = list(csv.reader(io.StringIO(text), delimiter=separator))
    columns, start = [0, 1, 2, 3], 0
    others = {name: 4 + k for k, name in enumerate(more)}
    titles = [cell.strip().lower().removesuffix(" [mm]") for cell in lines[0]] if lines else []
    if X in titles:
        missing = [axis for axis in "xyz" if axis not in titles]
        if missing:
            raise InputError(f"the list has no column {missing[0].upper()}", where, "Give name, X, Y and Z")
        name = next((titles.index(word) for word in NAMES if word in titles), -1)
        columns, start = [name, *(titles.index(axis) for axis in "xyz")], 1
        others = {name: titles.index(name) for name in more if name in titles}
    rows = [
        _row(cells, columns, number, where, others)
        for number, cells in enumerate(lines[start:], start + 1)
        if any(cell.strip() for cell in cells)
    ]
    if not rows:
        raise InputError(f"the list has no {noun}", where, "Give name, X, Y and Z of each, in mm")
    if len(rows) > MOST_ROWS:
        raise InputError(f"the list has {len(rows)} {noun}, {MOST_ROWS} are the most", where, "Give fewer")
    return rows


def _row(cells: list[str], columns: list[int], number: int, where: str, others: dict[str, int]) -> NamedPlace:
    try:
        name = cells[columns[0]].strip() if columns[0] >= 0 else str(number)
        x, y, z = (float(cells[k].strip()) for k in columns[1:])
    except (ValueError, IndexError) as problem:
        raise InputError(
            f"line {number} is not a name and three numbers", where, "Give name, X, Y and Z, in mm"
        ) from problem
    if not np.isfinite([x, y, z]).all() or max(abs(x), abs(y), abs(z)) > 1e6:
        raise InputError(f"line {number}: a place of a part cannot be so far away", where, "Give X, Y and Z in mm")
    further = {key: cells[k].strip() for key, k in others.items() if k < len(cells) and cells[k].strip()}
    return NamedPlace(number, name or str(number), (x, y, z), further)
