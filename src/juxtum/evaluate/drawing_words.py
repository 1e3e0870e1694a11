"""The words of a drawing's row: what modifiers mean for a kind, and how a characteristic is written again."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from enum import StrEnum
from typing import Any

from juxtum.errors import InputError
from juxtum.evaluate.drawn.references import Datum, common_datum, datum_words, read_pattern
from juxtum.evaluate.kinds import Characteristic, Toleranced

DIRECTIONS = ("x", "y", "z", "3d")
SIZES = ("gauss", "two-point", "inscribed", "circumscribed")


class Rules(StrEnum):
    """By which rules a drawing is read: each requirement by itself, or sizes with their envelope."""

    ISO = "iso"
    ASME = "asme"


@dataclass(frozen=True)
class Row:
    """One row, and the line it stands on."""

    line: int
    cells: Mapping[str, str]

    def text(self, column: str) -> str:
        """What stands in a column."""
        return self.cells.get(column, "").strip()

    def number(self, column: str) -> float | None:
        """A number; None where nothing stands.

        Raises
        ------
        InputError
        """
        text = self.text(column)
        if not text:
            return None
        try:
            value = float(text.replace(",", "."))
        except ValueError:
            raise self.problem(column, f"'{text}' is not a number", "Give a number in mm or degrees") from None
        if not abs(value) < 1e9:
            raise self.problem(column, f"'{text}' is not a size", "Give a number in mm or degrees")
        return value

    def problem(self, column: str, what: str, how: str) -> InputError:
        """A sentence with line and column."""
        return InputError(what, f"line {self.line}, column {column}", how)


@dataclass
class Words:
    """Modifiers of a row that were not taken yet."""

    row: Row
    left: list[str] = field(default_factory=list)

    def take(self, *options: str) -> str:
        """The first of some words that is there; empty where none is."""
        for word in options:
            if word in self.left:
                self.left.remove(word)
                return word
        return ""

    def after(self, word: str, count: int) -> tuple[float, ...] | None:
        """The numbers after a word.

        Raises
        ------
        InputError
        """
        if word not in self.left:
            return None
        at = self.left.index(word)
        texts = self.left[at + 1 : at + 1 + count]
        try:
            numbers = tuple(float(text) for text in texts)
        except ValueError:
            numbers = ()
        if len(numbers) < count:
            raise self.row.problem(
                "modifier",
                f"'{word}' wants {count} number{'s' if count > 1 else ''} after it",
                f"Write {word} 0.3" if count == 1 else f"Write {word} 0 0 1",
            )
        del self.left[at : at + 1 + count]
        return numbers


def modified(
    tag: str,
    words: Words,
    pattern: tuple[Any, ...],
    sizes: Mapping[tuple[Any, ...], tuple[float, float]],
    rules: Rules,
) -> dict[str, Any]:
    """What the modifiers of a row mean for its kind.

    Raises
    ------
    InputError
    """
    values: dict[str, Any] = {}
    if tag in ("flatness", "straightness", "roundness", "cylindricity") and (criterion := words.take("zone", "gauss")):
        values["criterion"] = criterion
    if tag in ("straightness", "parallelism", "perpendicularity", "angularity"):
        values["diametral"] = bool(words.take("d"))
    if tag in ("position", "coaxiality", "concentricity", "symmetry"):
        words.take("d")
    if tag == "position":
        values |= _position(words, pattern, sizes)
    if tag in ("diameter", "width"):
        values["size"] = words.take(*SIZES) or "gauss"
        values["envelope"] = bool(words.take("envelope")) or rules is Rules.ASME
    if tag == "radius":
        values["is_minor"] = bool(words.take("minor"))
    if tag == "distance":
        along = words.after("along", 3)
        values["along"] = along or words.take(*DIRECTIONS)
        words.take("gauss")
    if tag in ("profile-line", "profile-surface") and (unequal := words.after("unequal", 1)):
        values["unequal"] = unequal[0]
    if tag == "angularity" and words.left:
        try:
            values["angle"] = float(words.left[0])
            del words.left[0]
        except ValueError:
            pass
    return values


def _position(
    words: Words, pattern: tuple[Any, ...], sizes: Mapping[tuple[Any, ...], tuple[float, float]]
) -> dict[str, Any]:
    values: dict[str, Any] = {"bonus": {"M": "most", "L": "least", "": ""}[words.take("M", "L")]}
    known = [sizes[member] for member in pattern if member in sizes]
    if values["bonus"] and len(known) == len(pattern):
        values["size_limits"] = known[0]
    values["pattern"] = bool(words.take("pattern"))
    projected = [word for word in words.left if word[:1] == "P" and word[1:].replace(".", "", 1).isdigit()]
    if projected:
        words.left.remove(projected[0])
        values["projected"] = float(projected[0][1:])
    return values


def modifier_words(made: Characteristic) -> str:
    """The modifiers of a characteristic, as a row has them.

    Examples
    --------
    >>> from juxtum.evaluate.kinds import kind_of
    >>> position = kind_of("position").model_validate({"id": "1", "title": "t", "faces": [1], "bonus": "most", "projected": 20})
    >>> modifier_words(position)
    'M P20'
    """
    values = {name: getattr(made, name) for name in type(made).model_fields}
    words = ["d"] if values.get("diametral") else []
    words += {"most": ["M"], "least": ["L"]}.get(values.get("bonus", ""), [])
    words += ["pattern"] if values.get("pattern") else []
    words += [f"P{values['projected']:g}"] if values.get("projected") else []
    words += [values["size"]] if values.get("size", "gauss") != "gauss" else []
    words += [name for name, key in (("envelope", "envelope"), ("minor", "is_minor")) if values.get(key)]
    words += ["gauss"] if values.get("criterion") == "gauss" else []
    along = values.get("along", "")
    words += [along] if isinstance(along, str) and along else []
    words += [f"along {along[0]:g} {along[1]:g} {along[2]:g}"] if isinstance(along, tuple) else []
    words += [f"unequal {values['unequal']:g}"] if values.get("unequal") is not None else []
    words += [f"{values['angle']:g}"] if values.get("angle") is not None else []
    return " ".join(words)


def typed(
    kind: type[Characteristic],
    texts: Mapping[str, str],
    known: Mapping[str, Datum],
    sizes: Mapping[tuple[Any, ...], tuple[float, float]],
) -> dict[str, Any]:
    """Features, datums and what the modifiers mean, as somebody typed them for a characteristic of a kind.

    Parameters
    ----------
    texts : mapping
        `features`, `datums`, `modifier`. A datum is a letter that is known, or a feature by its faces.
    known : mapping
        Datums by their letter.
    sizes : mapping
        Limits of size by feature.

    Raises
    ------
    InputError
    """
    if not issubclass(kind, Toleranced):
        return {}
    pattern = read_pattern(texts["features"])
    datums = [
        _datum(part.strip(), letter, known)
        for part, letter in zip(texts["datums"].split("|"), "ABCDEF", strict=False)
        if part.strip()
    ]
    words = Words(Row(0, texts), texts["modifier"].split())
    try:
        values = modified(kind.tag, words, pattern, sizes, Rules.ISO)
    except InputError as problem:
        raise InputError(problem.what, "modifier", problem.next) from problem
    if words.left:
        raise InputError(
            f"'{' '.join(words.left)}' does not belong to {kind.name}", "modifier", "See docs/drawing-format.md"
        )
    return {"features": pattern, "datums": tuple(datums)} | values


def _datum(text: str, letter: str, known: Mapping[str, Datum]) -> Datum:
    if text in known:
        return known[text]
    together = common_datum(text, known)
    if together is not None:
        return together
    if not text[:1].isdigit():
        words = ", ".join(sorted(known)) or "none yet"
        raise InputError(
            f"there is no datum '{text}'", "datums", f"Datums of this job: {words}; or name faces, such as 14|51"
        )
    features, _, words = text.partition(" at ")
    members = read_pattern(features)
    targets = datum_words(f"at {words}")[1] if words else ()
    return Datum(letter=letter, of=members[0], association="gauss", targets=targets)
