"""A drawing's characteristics from rows of a table: `id,kind,features,datums,nominal,upper,lower,modifier,title`."""

from __future__ import annotations

import csv
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

from pydantic import ValidationError

from juxtum.errors import InputError
from juxtum.evaluate.drawing_words import Row, Rules, Words, modified
from juxtum.evaluate.drawn.frames import check_datum
from juxtum.evaluate.drawn.references import Datum, common_datum, datum_words, read_pattern
from juxtum.evaluate.fits import Of, is_code, limits_of
from juxtum.evaluate.kinds import KINDS, Characteristic, Kind, kind_of
from juxtum.evaluate.kinds.size import Sized
from juxtum.exchange.limits import check_file
from juxtum.exchange.sheets import read_sheet
from juxtum.nominal import Nominal
from juxtum.nominal.common import is_hollow

COLUMNS = ("id", "kind", "features", "datums", "nominal", "upper", "lower", "modifier", "title")
MOST_BYTES, MOST_ROWS = 5_000_000, 5_000
TAGS = tuple(kind.tag for kind in KINDS if kind.tag != "profile")


def read_drawing(path: Path, nominal: Nominal, rules: Rules = Rules.ISO) -> tuple[Kind, ...]:
    """The characteristics of a drawing.

    Parameters
    ----------
    nominal : Nominal
        Gives sizes that the drawing leaves out.

    Raises
    ------
    InputError
        With line and column of what cannot be read.
    """
    rows = _rows(path)
    try:
        datums = datums_of(rows, nominal)
        lines = [row for row in rows if row.text("kind") != "datum"]
        sizes = sizes_of(lines, nominal, rules)
        made = tuple(characteristic_of(row, datums, nominal, rules, sizes) for row in lines)
        _check_ids(lines, made)
        for row, one in zip(lines, made, strict=True):
            checked_row(row, one, nominal)
    except InputError as problem:
        raise InputError(problem.what, f"{path.name}, {problem.where}", problem.next) from problem
    if not made:
        raise InputError("the drawing has no characteristics", path.name, "Give a row for each")
    return made


def _rows(path: Path) -> list[Row]:
    if check_file(path) > MOST_BYTES:
        raise InputError("this is too large to be a drawing's table", path.name, "Give fewer rows")
    table = read_sheet(path, MOST_ROWS) if path.suffix.lower() == ".xlsx" else _read_csv(path)
    heads = [cell.strip().lower() for cell in table[0]] if table else []
    missing = [name for name in ("id", "kind", "features") if name not in heads]
    if missing:
        raise InputError(
            f"there is no column '{missing[0]}'", f"{path.name}, line 1", f"The columns are {','.join(COLUMNS)}"
        )
    unknown = [name for name in heads if name and name not in COLUMNS]
    if unknown:
        raise InputError(
            f"column '{unknown[0]}' is not known", f"{path.name}, line 1", f"The columns are {','.join(COLUMNS)}"
        )
    if len(table) > MOST_ROWS:
        raise InputError(f"{len(table)} rows are too many", path.name, f"Give {MOST_ROWS} at most")
    rows = []
    for number, cells in enumerate(table[1:], 2):
        if not any(cell.strip() for cell in cells):
            continue
        if len(cells) > len(heads) and any(cell.strip() for cell in cells[len(heads) :]):
            raise InputError(
                f"{len(cells)} cells under {len(heads)} columns",
                f"{path.name}, line {number}",
                "Put text with a comma in quotes",
            )
        rows.append(Row(number, dict(zip(heads, cells, strict=False))))
    return rows


def _read_csv(path: Path) -> list[list[str]]:
    try:
        text = path.read_text("utf-8-sig")
    except UnicodeDecodeError:
        raise InputError("this is no text", path.name, "Save the table as CSV in UTF-8, or as XLSX") from None
    first = text.split("\n", 1)[0]
    reader = csv.reader(text.splitlines(), delimiter="\t" if "\t" in first else "," if "," in first else ";")
    try:
        return list(reader)
    except csv.Error as problem:
        raise InputError(f"this is no table: {problem}", path.name, "Save the table as CSV") from None


def _pattern(row: Row) -> tuple[tuple[tuple[int, ...], ...], ...]:
    try:
        return read_pattern(row.text("features"))
    except InputError as problem:
        raise row.problem("features", problem.what, problem.next) from problem


def datums_of(rows: Sequence[Row], nominal: Nominal) -> dict[str, Datum]:
    """Datums by their letter; each on features that are there.

    Raises
    ------
    InputError
    """
    found: dict[str, Datum] = {}
    for row in rows:
        if row.text("kind") != "datum":
            continue
        datum = _datum(row)
        if datum.letter in found:
            raise row.problem("id", f"there are two datums '{datum.letter}'", "Give each a letter of its own")
        try:
            check_datum(nominal, datum)
        except InputError as problem:
            column = "modifier" if datum.targets else "features"
            raise row.problem(column, problem.what, problem.next) from problem
        found[datum.letter] = datum
    return found


def _datum(row: Row) -> Datum:
    letter = row.text("id")
    if len(letter) != 1 or not letter.isalpha() or not letter.isupper():
        raise row.problem("id", f"'{letter}' is no letter of a datum", "Give one capital letter")
    try:
        association, targets = datum_words(row.text("modifier"))
    except InputError as problem:
        raise row.problem("modifier", problem.what, problem.next) from problem
    members = _pattern(row)
    if len(members) > 1:
        raise row.problem("features", "a pattern is no datum here", "Name one feature, or two sides as 14|22")
    if targets and len(members[0]) > 1:
        raise row.problem("features", "two sides have no targets here", "Name the faces of the targets as 14+15")
    return Datum(letter=letter, of=members[0], association=association, targets=targets)


def _named(row: Row, datums: Mapping[str, Datum]) -> tuple[Datum, ...]:
    text = row.text("datums")
    letters = [letter.strip() for letter in text.split("|")] if text else []
    try:
        datums = {**datums, **{c.letter: c for one in letters if (c := common_datum(one, datums)) is not None}}
    except InputError as problem:
        raise row.problem("datums", problem.what, problem.next) from problem
    for letter in letters:
        if letter not in datums:
            known = ", ".join(sorted(datums)) or "none"
            raise row.problem("datums", f"there is no datum '{letter}'", f"Datums of this drawing: {known}")
    if len(set(letters)) < len(letters):
        raise row.problem("datums", "a datum is named twice", "Name each once")
    return tuple(datums[letter] for letter in letters)


def sizes_of(rows: Sequence[Row], nominal: Nominal, rules: Rules) -> dict[tuple[Any, ...], tuple[float, float]]:
    """Limits of size of each feature that has a diameter or a width on the drawing."""
    found: dict[tuple[Any, ...], tuple[float, float]] = {}
    for row in rows:
        if row.text("kind") in ("diameter", "width"):
            made = characteristic_of(row, {}, nominal, rules, {})
            limits = made.limits
            assert limits.lower is not None and limits.upper is not None
            for member in _pattern(row):
                found[member] = (limits.lower, limits.upper)
    return found


def characteristic_of(
    row: Row,
    datums: Mapping[str, Datum],
    nominal: Nominal,
    rules: Rules,
    sizes: Mapping[tuple[Any, ...], tuple[float, float]],
) -> Kind:
    """The characteristic of one row.

    Raises
    ------
    InputError
        With its column.
    """
    tag = row.text("kind")
    if tag not in TAGS:
        raise row.problem("kind", f"'{tag}' is no kind of characteristic", f"Kinds are: {' '.join(TAGS)} datum")
    kind, pattern = kind_of(tag), _pattern(row)
    words = Words(row, row.text("modifier").split())
    values: dict[str, Any] = {
        "id": row.text("id"),
        "title": row.text("title") or f"{kind.short} {row.text('features')}",
    }
    values |= {"features": pattern, "datums": _named(row, datums) if datums or row.text("datums") else ()}
    values |= _sized(row) if issubclass(kind, Sized) else {"limit": _zone(row)}
    values |= modified(tag, words, pattern, sizes, rules)
    if words.left:
        raise row.problem(
            "modifier", f"'{' '.join(words.left)}' does not belong to {kind.name}", "See docs/drawing-format.md"
        )
    try:
        made = kind.model_validate(values)
    except ValidationError as problem:
        first = problem.errors()[0]
        column = next((str(part) for part in first["loc"] if str(part) in COLUMNS), "upper")
        raise row.problem(column, str(first["msg"]).removeprefix("Value error, "), "Change it") from problem
    if isinstance(made, Sized):
        try:
            made = made.resolved(nominal)
        except InputError as problem:
            raise row.problem("features", problem.what, problem.next) from problem
        return _coded(row, made, nominal) if is_code(row.text("upper")) else made
    return made


def _coded(row: Row, made: Any, nominal: Nominal) -> Any:
    """With the deviations that a code gives its nominal size."""
    try:
        lower, upper = limits_of(row.text("upper"), made.nominal, _coded_as(made, nominal))
    except InputError as problem:
        raise row.problem("upper", problem.what, problem.next) from problem
    title = made.title if row.text("title") else f"{made.title} {row.text('upper')}"
    return made.model_copy(update={"lower": lower, "upper": upper, "title": title})


def _coded_as(made: Sized, nominal: Nominal) -> Of:
    """Whether a size is one of a hole or a shaft, of another length, or an angle."""
    first = made.members[0]
    if made.unit != "mm":
        return "angle"
    if made.tag == "diameter":
        return "hole" if is_hollow(nominal, first[0][0]) else "shaft"
    if made.tag == "width" and len(first) == 2:
        one, two = (nominal.face(faces[0]) for faces in first)
        looks = getattr(one.feature, "normal", None)
        # The sides of a slot look at each other, those of a rib away.
        return "length" if looks is None else "hole" if float(looks @ (two.centre - one.centre)) > 0 else "shaft"
    return "length"


def _zone(row: Row) -> float:
    upper = row.number("upper")
    if upper is None or upper <= 0:
        raise row.problem(
            "upper",
            "the width of the zone is not above zero" if upper is not None else "the width of the zone is missing",
            "Give it in mm",
        )
    return upper


def _sized(row: Row) -> dict[str, Any]:
    if is_code(row.text("upper")):
        if row.text("lower"):
            raise row.problem("lower", "a code gives both deviations", "Leave it empty")
        # Until its nominal is known: the code gives deviations by size.
        return {"nominal": row.number("nominal"), "upper": 1.0, "lower": -1.0}
    upper, lower = row.number("upper"), row.number("lower")
    if upper is None or lower is None:
        raise row.problem(
            "upper" if upper is None else "lower",
            "a size needs both deviations",
            "Give upper and lower, such as 0.1 and -0.1",
        )
    if lower >= upper:
        raise row.problem("lower", f"the lower deviation {lower:g} is not below the upper {upper:g}", "Swap them")
    return {"nominal": row.number("nominal"), "upper": upper, "lower": lower}


def checked_row(row: Row, made: Characteristic, nominal: Nominal) -> None:
    try:
        made.check(nominal)
    except InputError as problem:
        column = "datums" if "datum" in problem.where or "datum" in problem.what else "features"
        raise row.problem(column, problem.what, problem.next) from problem


def _check_ids(rows: Sequence[Row], made: Sequence[Characteristic]) -> None:
    seen: set[str] = set()
    for row, one in zip(rows, made, strict=True):
        if one.id in seen:
            raise row.problem("id", f"there are two characteristics '{one.id}'", "Give each an id of its own")
        seen.add(one.id)
