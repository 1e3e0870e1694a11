"""Which columns of a list of points hold X, Y and Z, and in which unit, by the words of its header."""

from __future__ import annotations

import re
from dataclasses import dataclass
from pathlib import Path

from juxtum.exchange.raw import refuse
from juxtum.units import Unit

_NAME = re.compile(r"^(?P<name>[a-z]+)[\s_]*(?:[\[(/]?\s*(?P<unit>[a-z\"\u00b5]+)\s*[\])]?)?$")
_UNITS = {"mm": Unit.MILLIMETRE, "millimetre": Unit.MILLIMETRE, "millimeter": Unit.MILLIMETRE,
          "millimetres": Unit.MILLIMETRE, "millimeters": Unit.MILLIMETRE, "cm": Unit.CENTIMETRE, "m": Unit.METRE,
          "in": Unit.INCH, "inch": Unit.INCH, "inches": Unit.INCH, '"': Unit.INCH}  # fmt: skip
_SPELT_OUT = ("mm", "cm", "inch", "inches", "millimetre", "millimeter", "millimetres", "millimeters")
_DRESSING = ("coord", "coordinate", "pos", "position", "axis", "val")
_COMMENTS = ("#", "/", "%")
AXES = ("x", "y", "z")


@dataclass(frozen=True)
class Columns:
    """Places of X, Y and Z in a row, of the normal where the header names one, and the unit that it names."""

    places: tuple[int, int, int] = (0, 1, 2)
    unit: Unit | None = None
    normals: tuple[int, int, int] | None = None


def columns_of(header: str, path: Path) -> Columns | None:
    """Read a header; None when it names no axes at all.

    Raises
    ------
    InputError
        When it names some axes but not all, one twice, or a unit that is not known.

    Examples
    --------
    >>> columns_of("Y [in]; X [in]; Z [in]", Path("a.csv"))
    Columns(places=(1, 0, 2), unit=<Unit.INCH: 'in'>, normals=None)
    """
    words = _words(header)
    named = [(index, *axis) for index, word in enumerate(words) if (axis := _axis(word)) is not None]
    if not named:
        return None
    names = [name for _, name, _ in named]
    if header.strip()[:1] in _COMMENTS and sorted(names) != sorted(AXES):
        return None
    if sorted(names) != sorted(AXES):
        refuse(
            path,
            f"the header does not name X, Y and Z once each: '{header[:60]}'",
            "Name the three columns, or leave the header out",
        )
    units = {unit for _, _, unit in named if unit} | {
        word.strip("[]()") for word in words if word.strip("[]()") in _SPELT_OUT
    }
    if len(units) > 1:
        refuse(path, f"the header names more than one unit: '{header[:60]}'", "Give all three columns in one unit")
    word = units.pop() if units else ""
    if word and word not in _UNITS:
        refuse(path, f"the unit '{word}' of its header is not known", "Use mm, cm, m or in")
    places = {name: index for index, name, _ in named}
    return Columns((places["x"], places["y"], places["z"]), _UNITS.get(word), _normal_places(words))


def _normal_places(words: list[str]) -> tuple[int, int, int] | None:
    """Where the parts of a normal stand, by the usual names of their columns."""
    for names in (
        ("nx", "ny", "nz"),
        ("i", "j", "k"),
        ("normal x", "normal y", "normal z"),
        ("normal_x", "normal_y", "normal_z"),
    ):
        if all(words.count(name) == 1 for name in names):
            return words.index(names[0]), words.index(names[1]), words.index(names[2])
    return None


def _words(header: str) -> list[str]:
    """The columns' names: parted by ; tabs or commas where there are any, by blanks that stand before no bracket otherwise."""
    text = header.strip().lstrip("#/%!").strip().lower()
    for mark in (";", "\t", ","):
        if mark in text:
            return [word.strip().strip('"') if word.count('"') != 1 else word.strip() for word in text.split(mark)]
    return re.split(r"\s+(?![\[(])", text)


def _axis(word: str) -> tuple[str, str] | None:
    """Axis and unit of a column, or None where it is something else, such as a normal or a colour."""
    match = _NAME.match(word)
    if match is None:
        return None
    name, unit = match["name"], match["unit"] or ""
    for dressing in _DRESSING:
        if unit == dressing:
            unit = ""
        name = name.removesuffix(dressing)
    return (name, unit) if name in AXES else None
