"""What a STEP AP242 file states of its faces: names, datums, geometrical tolerances (semantic, not drawn)."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import Any

from juxtum.exchange.model_entities import Model, Unread, refs
from juxtum.exchange.model_line import ModelLine
from juxtum.exchange.model_sizes import size_lines
from juxtum.exchange.model_targets import targets_of
from juxtum.exchange.part21 import Enum, Ref, Statements

KINDS = {
    "STRAIGHTNESS_TOLERANCE": "straightness",
    "FLATNESS_TOLERANCE": "flatness",
    "ROUNDNESS_TOLERANCE": "roundness",
    "CYLINDRICITY_TOLERANCE": "cylindricity",
    "LINE_PROFILE_TOLERANCE": "profile-line",
    "SURFACE_PROFILE_TOLERANCE": "profile-surface",
    "ANGULARITY_TOLERANCE": "angularity",
    "PARALLELISM_TOLERANCE": "parallelism",
    "PERPENDICULARITY_TOLERANCE": "perpendicularity",
    "POSITION_TOLERANCE": "position",
    "COAXIALITY_TOLERANCE": "coaxiality",
    "CONCENTRICITY_TOLERANCE": "concentricity",
    "SYMMETRY_TOLERANCE": "symmetry",
    "CIRCULAR_RUNOUT_TOLERANCE": "runout",
    "TOTAL_RUNOUT_TOLERANCE": "total-runout",
}
MODIFIERS = {"MAXIMUM_MATERIAL_REQUIREMENT": "M", "LEAST_MATERIAL_REQUIREMENT": "L"}
WITHOUT_EFFECT = ("FREE_STATE", "SEPARATE_REQUIREMENT", "COMMON_ZONE")
NOT_READ = {
    "GEOMETRIC_TOLERANCE_WITH_DEFINED_UNIT": "per length or area",
    "GEOMETRIC_TOLERANCE_WITH_MAXIMUM_TOLERANCE": "with a largest value of its own",
    "UNEQUALLY_DISPOSED_GEOMETRIC_TOLERANCE": "that lies unequally",
}
MOST = 2_000
"""More lines are no drawing."""


def read_lines(statements: Statements) -> tuple[list[ModelLine], list[str]]:
    """Datums, tolerances and sizes of a file, and a sentence for each that cannot be taken as it is meant."""
    model = Model(statements)
    zones, lines, left = _zones(model), [], []

    def take(title: str, read: Callable[[], ModelLine | None]) -> None:
        try:
            line = read()
        except Unread as problem:
            left.append(f"{title}: {problem}")
            return
        if line is not None:
            lines.append(line)

    for number in statements.named("DATUM"):
        if "DATUM" in statements.of(number):
            letter = str((statements.of(number)["DATUM"] or ("",))[-1])
            take(f"datum {letter}", partial(_datum, model, number, letter))
    for number in statements.named("TOLERANCE")[: 4 * MOST]:
        kind = next((KINDS[name] for name in statements.of(number) if name in KINDS), None)
        if kind is not None:
            take(f"{kind} (#{number})", partial(_tolerance, model, number, kind, zones))
    size_lines(model, take)
    return lines[:MOST], left


def _datum(model: Model, number: int, letter: str) -> ModelLine | None:
    faces, targets = model.datum_faces(number), targets_of(model, number)
    if not faces and not targets:
        raise Unread("no face belongs to it")
    return ModelLine("datum", letter, faces, words=targets)


def _zones(model: Model) -> dict[int, tuple[str, ...]]:
    """Words about the form of its zone for each tolerance that has one."""
    found: dict[int, tuple[str, ...]] = {}
    of_zone: dict[int, list[int]] = {}
    for number in model.held.named("TOLERANCE_ZONE"):
        values = model.attributes(number, "TOLERANCE_ZONE")
        if len(values) < 6 or not isinstance(values[5], Ref):
            continue
        form = str((model.attributes(values[5].number) or ("",))[0]).lower()
        of_zone[number] = [ref.number for ref in refs([values[4]])]
        word = ("d",) if "circular" in form or "spherical" in form else ()
        found |= {tolerance: found.get(tolerance, ()) + word for tolerance in of_zone[number]}
    for number in model.held.named("PROJECTED_ZONE_DEFINITION"):
        values = model.attributes(number, "PROJECTED_ZONE_DEFINITION")
        if len(values) >= 4 and isinstance(values[0], Ref) and isinstance(values[-1], Ref):
            try:
                word = (f"P{model.measure(values[-1].number):g}",)
            except Unread:
                word = ("P?",)
            found |= {tolerance: found.get(tolerance, ()) + word for tolerance in of_zone.get(values[0].number, ())}
    return found


def _tolerance(model: Model, number: int, kind: str, zones: dict[int, tuple[str, ...]]) -> ModelLine:
    entities = model.held.of(number)
    base = entities.get("GEOMETRIC_TOLERANCE") or model.attributes(number)
    for name, words in NOT_READ.items():
        if name in entities:
            raise Unread(f"a tolerance {words} is not read")
    if len(base) < 4 or not isinstance(base[2], Ref) or not isinstance(base[3], Ref):
        raise Unread("it cannot be read")
    faces = model.faces(base[3].number)
    if not faces:
        raise Unread("no face belongs to it")
    named = entities.get("GEOMETRIC_TOLERANCE_WITH_DATUM_REFERENCE") or base[4:5]
    asked = [*zones.get(number, ())]
    for value in entities.get("GEOMETRIC_TOLERANCE_WITH_MODIFIERS", ((),))[0]:
        word = value.word if isinstance(value, Enum) else ""
        if word in MODIFIERS:
            asked.append(MODIFIERS[word])
        elif word not in WITHOUT_EFFECT:
            raise Unread(f"its modifier '{word.lower().replace('_', ' ')}' is not read")
    title = next((text for text in base[:2] if text and text != "NONE"), "")
    letters = datum_letters(model, [ref.number for ref in refs(named)])
    width = model.measure(base[2].number)
    return ModelLine(kind, str(title), faces, datums=letters, value=width, words=tuple(dict.fromkeys(asked)))


def datum_letters(model: Model, numbers: list[int]) -> tuple[str, ...]:
    """Letters of the datums that a system, or older references, name in their order.

    Raises
    ------
    Unread
        When a datum is asked in a way that has a meaning of its own.
    """
    found: list[tuple[float, str]] = []
    for number in numbers:
        entities = model.held.of(number)
        if "DATUM_SYSTEM" in entities:
            for ref in refs(entities["DATUM_SYSTEM"][4:]):
                found.append((len(found), _compartment(model, ref.number, "DATUM_REFERENCE_COMPARTMENT")))
        elif "DATUM_REFERENCE" in entities:
            precedence, datum = entities["DATUM_REFERENCE"][:2]
            found.append((float(precedence or 0), _letter(model, datum)))
        else:
            raise Unread("its datums cannot be read")
    return tuple(letter for _, letter in sorted(found, key=lambda one: one[0]))


def _compartment(model: Model, number: int, name: str) -> str:
    values = model.attributes(number, name)
    if len(values) < 5:
        raise Unread("its datums cannot be read")
    if len(values) > 5 and values[5]:
        raise Unread("a modifier of its datum is not read")
    base = values[4]
    if isinstance(base, Ref) and "DATUM" in model.held.of(base.number):
        return _letter(model, base)
    elements = refs([base])
    return "-".join(_compartment(model, ref.number, "DATUM_REFERENCE_ELEMENT") for ref in elements)


def _letter(model: Model, datum: Any) -> str:
    values = model.attributes(datum.number, "DATUM") if isinstance(datum, Ref) else ()
    if not values or not values[-1]:
        raise Unread("its datums cannot be read")
    return str(values[-1])
