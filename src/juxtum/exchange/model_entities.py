"""What hangs together in a STEP file: faces, what is stated of them, and measures with their units."""

from __future__ import annotations

import math
from collections import defaultdict
from collections.abc import Iterable
from typing import Any

from juxtum.exchange.part21 import Enum, Ref, Statements, Typed

FACES = ("ADVANCED_FACE", "FACE_SURFACE")
SHELLS = ("CLOSED_SHELL", "OPEN_SHELL", "CONNECTED_FACE_SET")
METRES = {"EXA": 1e18, "KILO": 1e3, "DECI": 0.1, "CENTI": 1e-2, "MILLI": 1e-3, "MICRO": 1e-6, None: 1.0}


class Unread(Exception):
    """A line that cannot be taken as it is meant."""


class Model:
    """The statements of a file and what hangs together in them.

    Parameters
    ----------
    statements : Statements
    """

    def __init__(self, statements: Statements) -> None:
        self.held = statements
        self._items: dict[int, list[int]] = defaultdict(list)
        self._parts: dict[int, list[int]] = defaultdict(list)
        self._wholes: dict[int, list[int]] = defaultdict(list)
        self._shown: dict[int, list[int]] | None = None
        for number in statements.named("_USAGE"):
            values = self.attributes(number)
            if len(values) >= 5 and isinstance(values[2], Ref):
                self._items[values[2].number] += [ref.number for ref in refs(values[4:])]
        for number in statements.named("SHAPE_ASPECT_[A-Z_]*RELATIONSHIP"):
            values = self.attributes(number)
            if len(values) >= 4 and isinstance(values[2], Ref) and isinstance(values[3], Ref):
                self._parts[values[2].number].append(values[3].number)
                self._wholes[values[3].number].append(values[2].number)

    def wholes(self, aspect: int) -> tuple[int, ...]:
        """What a shape aspect is related from: of a datum its features and targets."""
        return tuple(self._wholes[aspect])

    def representations(self, aspect: int) -> tuple[int, ...]:
        """Numbers of the representations that say something of a shape aspect."""
        if self._shown is None:
            shown: dict[int, list[int]] = defaultdict(list)
            of_property: dict[int, int] = {}
            for number in self.held.named("PROPERTY_DEFINITION|SHAPE_DEFINITION_REP"):
                values = self.attributes(number)
                if len(values) == 2 and isinstance(values[0], Ref) and isinstance(values[1], Ref):
                    shown[values[0].number].append(values[1].number)
                elif len(values) >= 3 and isinstance(values[2], Ref):
                    of_property[number] = values[2].number
            self._shown = defaultdict(list)
            for number, of in of_property.items():
                self._shown[of] += shown[number]
        return tuple(self._shown[aspect])

    def length_unit(self, context: int) -> float:
        """Millimetres that a unit of length has where a representation stands.

        Raises
        ------
        Unread
        """
        for ref in refs(self.held.of(context).get("GLOBAL_UNIT_ASSIGNED_CONTEXT", ())):
            if "LENGTH_UNIT" in self.held.of(ref.number):
                return self._unit(ref.number)
        raise Unread("its unit cannot be read")

    def attributes(self, number: int, name: str = "") -> tuple[Any, ...]:
        """Values of an entity of a statement; of its only or longest one where none is named."""
        entities = self.held.of(number)
        if name:
            return entities.get(name, ())
        return max(entities.values(), key=len, default=())

    def faces(self, aspect: int) -> tuple[int, ...]:
        """Numbers of the faces that a shape aspect, or what it is made of, stands for.

        Raises
        ------
        Unread
            When something else than faces belongs to it.
        """
        found: dict[int, None] = {}
        known, left = set(), [aspect]
        while left:
            now = left.pop(0)
            if now in known:
                continue
            known.add(now)
            for item in self._items[now]:
                found |= dict.fromkeys(self._of_item(item))
            left += self._parts[now]
        return tuple(found)

    def datum_faces(self, datum: int) -> tuple[int, ...]:
        """Numbers of the faces that make a datum."""
        found = dict.fromkeys(self.faces(datum))
        for feature in self._wholes[datum]:
            if not any("DATUM_TARGET" in name for name in self.held.of(feature)):
                found |= dict.fromkeys(self.faces(feature))
        return tuple(found)

    def _of_item(self, item: int) -> Iterable[int]:
        names = self.held.of(item)
        if any(name in names for name in FACES):
            return (item,)
        shell = next((name for name in SHELLS if name in names), None)
        if shell is not None:
            return tuple(ref.number for ref in refs(names[shell][1:]))
        raise Unread(f"it hangs on {_spoken(next(iter(names), 'something unknown'))}, not on faces")

    def measure(self, number: int) -> float:
        """A measure with its unit, in mm or degrees.

        Raises
        ------
        Unread
        """
        for name, values in self.held.of(number).items():
            if not name.endswith("MEASURE_WITH_UNIT") and name != "MEASURE_REPRESENTATION_ITEM":
                continue
            values = tuple(value for value in values if not isinstance(value, str))
            if len(values) < 2 or not isinstance(values[-1], Ref):
                continue
            given = values[0].values[0] if isinstance(values[0], Typed) else values[0]
            if isinstance(given, float) and math.isfinite(given):
                return given * self._unit(values[-1].number)
        raise Unread("its value cannot be read")

    def _unit(self, number: int, depth: int = 0) -> float:
        """Millimetres or degrees that a unit has."""
        names = self.held.of(number)
        if names.get("SI_UNIT"):
            words = [value.word if isinstance(value, Enum) else None for value in names["SI_UNIT"]]
            prefix, unit = (words[-2] if len(words) > 1 else None), words[-1]
            if unit == "METRE" and prefix in METRES:
                return 1000 * METRES[prefix]
            if unit == "RADIAN":
                return math.degrees(1.0)
        if "CONVERSION_BASED_UNIT" in names and depth < 3:
            last = names["CONVERSION_BASED_UNIT"][-1]
            for name, values in self.held.of(last.number).items() if isinstance(last, Ref) else ():
                if name.endswith("MEASURE_WITH_UNIT") and isinstance(values[-1], Ref):
                    given = values[0].values[0] if isinstance(values[0], Typed) else values[0]
                    return float(given) * self._unit(values[-1].number, depth + 1)
        raise Unread("its unit cannot be read")


def refs(values: Iterable[Any]) -> list[Ref]:
    """All pointers among values and the lists within them."""
    found = []
    for value in values:
        if isinstance(value, Ref):
            found.append(value)
        elif isinstance(value, tuple | Typed):
            found += refs(value if isinstance(value, tuple) else value.values)
    return found


def _spoken(name: str) -> str:
    words = name.lower().replace("_", " ")
    return f"{'an' if words[:1] in 'aeiou' else 'a'} {words}"
