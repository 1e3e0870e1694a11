"""A characteristic typed in one line: what it asks, how much, from which datums, of which faces."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Any

from juxtum.errors import InputError
from juxtum.evaluate.drawing import TAGS, characteristic_of, datums_of
from juxtum.evaluate.drawing_words import Row, Rules
from juxtum.evaluate.drawn.references import Datum
from juxtum.evaluate.fits import is_code
from juxtum.evaluate.kinds import Kind, kind_of
from juxtum.evaluate.kinds.size import Sized
from juxtum.nominal import Nominal

HOW = "Write for example: position d0.2 M A|B|C of 31;32 - diameter 72 H7 of 51 - distance 40 \u00b10.1 x of 14|22"
_OTHER_NAMES = {"profile": "profile-surface", "hole": "diameter", "bore": "diameter", "circularity": "roundness"}
_NOISE = re.compile(r"\b(faces?|holes?|pins?|the)\b", re.IGNORECASE)
_DATUMS = re.compile(r"[A-Z](-[A-Z])?(\|[A-Z](-[A-Z])?)+|[A-Z]-[A-Z]")
_NUMBER = re.compile(r"[+-]?\d+([.,]\d+)?")


def typed_characteristic(
    text: str,
    number: str,
    nominal: Nominal,
    datums: Mapping[str, Datum],
    sizes: Mapping[tuple[Any, ...], tuple[float, float]],
    rules: Rules = Rules.ISO,
) -> Kind:
    """What a line asks for.

    Parameters
    ----------
    number : str
        Its number on the drawing.
    datums, sizes : mapping
        Datums by their letters, and limits of size by feature, as far as they are known.

    Raises
    ------
    InputError
        Saying what is missing or not understood.
    """
    row = row_of(text, number)
    try:
        made = characteristic_of(row, datums, nominal, rules, sizes)
        made.check(nominal)
    except InputError as problem:
        column = problem.where.rpartition("column ")[2]
        raise InputError(problem.what, f"typed line, {column}", problem.next) from problem
    return made


def typed_datum(text: str, nominal: Nominal) -> Datum:
    """A datum typed as `A=14`, or `B=14|22 gauss`.

    Raises
    ------
    InputError
    """
    letter, sign, rest = text.strip().partition("=")
    features, _, modifier = rest.strip().partition(" ")
    if not sign:
        raise InputError(f"'{text}' is no datum", "datum", "Write for example A=14, or B=51 gauss")
    row = Row(1, {"id": letter.strip(), "kind": "datum", "features": features, "modifier": modifier.strip()})
    try:
        return datums_of([row], nominal)[letter.strip()]
    except InputError as problem:
        raise InputError(problem.what, f"datum '{text}'", problem.next) from problem


def row_of(text: str, number: str) -> Row:
    """The same as a row of a drawing's table.

    Raises
    ------
    InputError

    Examples
    --------
    >>> row = row_of("position d0.2 M A|B|C of holes 31;32", "7")
    >>> [row.text(name) for name in ("kind", "upper", "modifier", "datums", "features")]
    ['position', '0.2', 'd M', 'A|B|C', '31;32']
    """
    asked, of, features = text.strip().partition(" of ")
    if not of or not features.strip():
        raise InputError("it does not say of which faces", "typed line", HOW)
    words = asked.replace("\u2300", "d").replace("\u00d8", "d").replace("\u00f8", "d").split()
    tag = _kind(words)
    cells = {"id": number, "kind": tag, "features": "".join(_NOISE.sub(" ", features).split())}
    _take_datums(words, cells, tag)
    if issubclass(kind_of(tag), Sized):
        _take_size(words, cells)
    else:
        _take_zone(words, cells)
    cells["modifier"] = " ".join([*cells.get("modifier", "").split(), *words])
    return Row(1, cells)


def _kind(words: list[str]) -> str:
    """The kind, of one or two words, taken from the beginning."""
    for count in (2, 1):
        name = "-".join(words[:count]).lower()
        name = _OTHER_NAMES.get(name, name)
        if len(words) >= count and name in TAGS:
            del words[:count]
            return name
    first = words[0] if words else ""
    raise InputError(f"'{first}' is no kind of characteristic", "typed line", f"Kinds are: {' '.join(TAGS)}")


def _take_datums(words: list[str], cells: dict[str, str], tag: str) -> None:
    """`A|B|C`, or a single letter that is no modifier."""
    for word in words:
        alone = len(word) == 1 and word.isupper() and not (tag == "position" and word in "ML")
        if _DATUMS.fullmatch(word) or alone:
            words.remove(word)
            cells["datums"] = word
            return


def _take_zone(words: list[str], cells: dict[str, str]) -> None:
    """The width of the zone, with a d before it where it is round."""
    for word in words:
        bare = word[1:] if word[:1] == "d" else word
        if _NUMBER.fullmatch(bare):
            words.remove(word)
            cells["upper"] = bare
            cells["modifier"] = "d" if word != bare else ""
            return
    raise InputError("it does not say how wide its zone is", "typed line", HOW)


def _take_size(words: list[str], cells: dict[str, str]) -> None:
    """A nominal, and after it both deviations: \u00b10.1, +0.1 -0.2, +0.1/-0.2, or a code."""
    if words and _NUMBER.fullmatch(words[0].removeprefix("d")) and words[0][:1] not in "+-":
        cells["nominal"] = words.pop(0).removeprefix("d")
    if words and is_code(words[0]):
        cells["upper"] = words.pop(0)
        return
    if words and words[0].upper() == "ISO" and len(words) > 1 and is_code(words[1]):
        cells["upper"] = words[1]
        del words[:2]
        return
    if words and words[0].startswith(("\u00b1", "+/-", "+-")):
        value = words.pop(0).lstrip("\u00b1+/-") or (words.pop(0) if words else "")
        cells |= {"upper": value, "lower": f"-{value}"}
        return
    found: list[str] = []
    while words and len(found) < 2:
        parts = words[0].split("/")
        if not all(_NUMBER.fullmatch(part) for part in parts):
            break
        found += parts
        words.pop(0)
    if len(found) != 2:
        raise InputError("it does not say how far the size may deviate", "typed line", HOW)
    high, low = sorted(found, key=lambda part: float(part.replace(",", ".")), reverse=True)
    cells |= {"upper": high, "lower": low}
