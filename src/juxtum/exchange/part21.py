"""Statements of a STEP file (ISO 10303-21) as they are written, for what the CAD library does not hand on whole."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

STATEMENT = re.compile(r"#(\d+)\s*=\s*((?:[^;'#]++|#|'[^']*+')*+);")
COMMENT = re.compile(r"/\*.*?\*/", re.DOTALL)
TOKEN = re.compile(r"\s*(?:'((?:[^']|'')*)'|#(\d+)|\.([A-Z0-9_]+)\.|([A-Z_][A-Z0-9_]*)|([-+0-9.][-+0-9.E]*)|([(),$*]))")
WIDE = re.compile(r"\\X([24])\\([0-9A-F]*)\\X0\\")
LIKELY = re.compile("TOLERANCE|DATUM|DIMENSION|ASPECT|_USAGE|ANGULAR|ZONE|PROPERTY_DEFINITION|SHAPE_DEFINITION_REP")
"""Of a large model nearly all else is shape, and is not gone through for each name."""
DEEPEST = 60
"""Lists within lists of a sound file go three deep."""


@dataclass(frozen=True)
class Ref:
    """A pointer to another statement."""

    number: int


@dataclass(frozen=True)
class Enum:
    """A word of a list that the standard gives."""

    word: str


@dataclass(frozen=True)
class Typed:
    """A value under the name of its type."""

    name: str
    values: tuple[Any, ...]


class Statements:
    """The statements of a file, read when they are asked for.

    Parameters
    ----------
    text : str
        Of the whole file.

    Examples
    --------
    >>> held = Statements("DATA;#4=FLATNESS_TOLERANCE('','top',#5,#6);#5=(LENGTH_UNIT()SI_UNIT(.MILLI.,.METRE.));ENDSEC;")
    >>> held.of(4)
    {'FLATNESS_TOLERANCE': ('', 'top', Ref(number=5), Ref(number=6))}
    >>> sorted(held.of(5)), held.named("TOLERANCE")
    (['LENGTH_UNIT', 'SI_UNIT'], [4])
    """

    def __init__(self, text: str) -> None:
        self._texts: dict[int, str] = {}
        self.order: list[int] = []
        """Numbers in the order of the file."""
        self._read: dict[int, dict[str, tuple[Any, ...]]] = {}
        self._likely: list[int] = []
        for number, body in STATEMENT.findall(COMMENT.sub(" ", text)):
            self._texts[int(number)] = body
            self.order.append(int(number))
            if LIKELY.search(body):
                self._likely.append(int(number))

    def of(self, number: int) -> dict[str, tuple[Any, ...]]:
        """The entities of a statement, by name, with their values; empty where there is none or it cannot be read."""
        if number not in self._read:
            self._read[number] = _entities(self._texts.get(number, ""))
        return self._read[number]

    def named(self, part: str) -> list[int]:
        """Numbers of the statements in which an entity's name holds a word: one of those that tolerances are stated with."""
        wanted = re.compile(rf"(?:^|[\s()])[A-Z0-9_]*(?:{part})[A-Z0-9_]*\s*\(")
        return [number for number in self._likely if wanted.search(self._texts[number])]


def _entities(body: str) -> dict[str, tuple[Any, ...]]:
    try:
        tokens = list(_tokens(body))
        if tokens[:1] == [("mark", "(")]:
            tokens = tokens[1:-1]
        values, end = _values([*tokens, ("mark", ")")], 0, 0)
    except (ValueError, IndexError):
        return {}
    if end != len(tokens) + 1:
        return {}
    return {value.name: value.values for value in values if isinstance(value, Typed)}


def _tokens(body: str) -> Iterator[tuple[str, Any]]:
    """Kind and value of each word: a value, a name, or a mark between them."""
    at, body = 0, body.strip()
    while at < len(body):
        found = TOKEN.match(body, at)
        if found is None:
            raise ValueError(body[at : at + 20])
        at = found.end()
        text, ref, enum, name, number, sign = found.groups()
        if name is not None:
            yield "name", name
        elif sign is not None and sign not in "$*":
            yield "mark", sign
        elif text is not None:
            yield "value", plain(text)
        elif ref is not None:
            yield "value", Ref(int(ref))
        elif enum is not None:
            yield "value", Enum(enum)
        else:
            yield "value", None if number is None else float(number)


def _values(tokens: list[tuple[str, Any]], at: int, depth: int) -> tuple[tuple[Any, ...], int]:
    """Values up to the closing bracket, and the place behind it."""
    if depth > DEEPEST:
        raise ValueError("too deep")
    made: list[Any] = []
    while True:
        kind, value = tokens[at]
        at += 1
        if (kind, value) == ("mark", ")"):
            return tuple(made), at
        if (kind, value) == ("mark", "("):
            inner, at = _values(tokens, at, depth + 1)
            made.append(inner)
        elif kind == "name":
            if tokens[at] != ("mark", "("):
                raise ValueError(value)
            inner, at = _values(tokens, at + 1, depth + 1)
            made.append(Typed(value, inner))
        elif kind == "value":
            made.append(value)


def plain(text: str) -> str:
    """A text as it reads, without the escapes that the standard writes other letters with.

    Examples
    --------
    >>> plain("it''s \\\\X2\\\\00D8\\\\X0\\\\8")
    "it's \u00d88"
    """
    text = text.replace("''", "'")
    text = WIDE.sub(lambda found: _letters(found[2], 4 if found[1] == "2" else 8), text)
    text = re.sub(r"\\X\\([0-9A-F]{2})", lambda found: chr(int(found[1], 16)), text)
    text = re.sub(r"\\S\\(.)", lambda found: chr(ord(found[1]) + 128), text)
    return text.replace("\\\\", "\\")


def _letters(codes: str, width: int) -> str:
    values = [int(codes[at : at + width], 16) for at in range(0, len(codes) - width + 1, width)]
    return "".join(chr(value) for value in values if value < 0x110000 and not 0xD800 <= value < 0xE000)
