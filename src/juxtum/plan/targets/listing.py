"""Targets as a list in part coordinates, for and from other programs: name, X, Y, Z in mm."""

from __future__ import annotations

import csv
import io
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from juxtum.errors import InputError
from juxtum.exchange.limits import check_file
from juxtum.nominal import Nominal
from juxtum.plan.targets.targets import Target

MOST_BYTES = 1_000_000
MOST_ROWS = 1000
NEAR = 5.0
"""A target that lies farther from the part than this, mm, is not on it."""
NAMES, X = ("name", "number"), "x"


@dataclass(frozen=True)
class _Row:
    """A line of the list: its number in the file, its name, its place."""

    line: int
    name: str
    place: tuple[float, float, float]


def read_targets(path: Path, nominal: Nominal, diameter: float) -> tuple[Target, ...]:
    """Targets of a list, put onto the nearest surface of the part.

    Columns `name,X,Y,Z` in this order; where the first line has names, they say which columns these are (so that what
    Juxtum writes as `targets.csv` is read too).

    Parameters
    ----------
    diameter : float
        Of the discs, mm.

    Raises
    ------
    InputError
        Naming the line that cannot be read, or the target that does not lie on the part.
    """
    if check_file(path) > MOST_BYTES:
        raise InputError("this is too large to be a list of targets", str(path), "Give name, X, Y and Z of each, in mm")
    try:
        text = path.read_text("utf-8-sig")
    except UnicodeDecodeError as problem:
        raise InputError(
            "this is not a list of targets", str(path), "Give name, X, Y and Z of each, as CSV"
        ) from problem
    rows = _rows(text, str(path))
    places = np.array([row.place for row in rows])
    found = nominal.projector.project(places, limit=NEAR)
    for row, is_near in zip(rows, found.found, strict=True):
        if not is_near:
            what = f"line {row.line}: target {row.name} lies more than {NEAR:g} mm from the part"
            raise InputError(what, str(path), "See that the list is in part coordinates and in mm")
    edges = nominal.edge_distances(found.feet, 25 * diameter)
    return tuple(
        Target(np.array(foot), np.array(normal), int(face) + 1, float(edge))
        for foot, normal, face, edge in zip(found.feet, found.normals, found.faces, edges, strict=True)
    )


def _rows(text: str, where: str) -> list[_Row]:
    first = text.split("\n", 1)[0]
    separator = ";" if first.count(";") > first.count(",") else "\t" if first.count("\t") > first.count(",") else ","
    lines = list(csv.reader(io.StringIO(text), delimiter=separator))
    columns, start = [0, 1, 2, 3], 0
    titles = [cell.strip().lower().removesuffix(" [mm]") for cell in lines[0]] if lines else []
    if X in titles:
        missing = [axis for axis in "xyz" if axis not in titles]
        if missing:
            raise InputError(f"the list has no column {missing[0].upper()}", where, "Give name, X, Y and Z")
        name = next((titles.index(word) for word in NAMES if word in titles), -1)
        columns, start = [name, *(titles.index(axis) for axis in "xyz")], 1
    rows = [
        _row(cells, columns, number, where)
        for number, cells in enumerate(lines[start:], start + 1)
        if any(cell.strip() for cell in cells)
    ]
    if not rows:
        raise InputError("the list has no targets", where, "Give name, X, Y and Z of each, in mm")
    if len(rows) > MOST_ROWS:
        raise InputError(f"the list has {len(rows)} targets, {MOST_ROWS} are the most", where, "Give fewer")
    return rows


def _row(cells: list[str], columns: list[int], number: int, where: str) -> _Row:
    try:
        name = cells[columns[0]].strip() if columns[0] >= 0 else str(number)
        x, y, z = (float(cells[k].strip()) for k in columns[1:])
    except (ValueError, IndexError) as problem:
        raise InputError(
            f"line {number} is not a name and three numbers", where, "Give name, X, Y and Z, in mm"
        ) from problem
    if not np.isfinite([x, y, z]).all() or max(abs(x), abs(y), abs(z)) > 1e6:
        raise InputError(f"line {number}: a place of a part cannot be so far away", where, "Give X, Y and Z in mm")
    return _Row(number, name or str(number), (x, y, z))
