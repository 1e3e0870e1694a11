"""Sizes, distances and angles with limits that a STEP AP242 file states."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable
from functools import partial
from typing import Any

from juxtum.exchange.model_entities import Model, Unread, refs
from juxtum.exchange.model_line import ModelLine
from juxtum.exchange.part21 import Ref

Take = Callable[[str, Callable[[], ModelLine | None]], None]
SIZES = {
    "diameter": ("diameter", ()),
    "spherical diameter": ("diameter", ()),
    "radius": ("radius", ()),
    "spherical radius": ("radius", ()),
    "toroidal minor radius": ("radius", ("minor",)),
    "thickness": ("thickness", ()),
}
NOTES = {
    "envelope": "envelope",
    "two point size": "two-point",
    "two-point size": "two-point",
    "least squares": "gauss",
    "least-squares": "gauss",
    "maximum inscribed": "inscribed",
    "minimum circumscribed": "circumscribed",
    "free state": "",
}
"""What is noted beside the value of a size, by words that its text holds."""
DIMENSIONS = (
    "DIMENSIONAL_SIZE",
    "ANGULAR_SIZE",
    "DIMENSIONAL_LOCATION",
    "ANGULAR_LOCATION",
    "DIRECTED_DIMENSIONAL_LOCATION",
)


def size_lines(model: Model, take: Take) -> None:
    """Hand each size, distance and angle that has limits to `take`; theoretical and reference ones have none."""
    values, limits, done = _values(model), _limits(model), set()
    for number in model.held.named("DIMENSIONAL_|ANGULAR_(?:SIZE|LOCATION)"):
        kind = next((name for name in DIMENSIONS if name in model.held.of(number)), None)
        if kind is None or number in done or not (number in limits or _is_bounded(values[number])):
            continue
        done.add(number)
        take(
            f"{kind.lower().replace('_', ' ')} (#{number})",
            partial(_size, model, number, values[number], limits.get(number)),
        )


def _values(model: Model) -> dict[int, dict[str, int]]:
    """For each dimension the statements of its values by their names."""
    found: dict[int, dict[str, int]] = defaultdict(dict)
    for number in model.held.named("DIMENSIONAL_CHARACTERISTIC_REPRESENTATION"):
        given = refs(model.attributes(number, "DIMENSIONAL_CHARACTERISTIC_REPRESENTATION"))
        if len(given) < 2:
            continue
        shape = model.held.of(given[1].number)
        values = shape.get("SHAPE_DIMENSION_REPRESENTATION") or shape.get("REPRESENTATION") or ()
        for ref in refs(values[1:2]):
            item = model.held.of(ref.number)
            if "DESCRIPTIVE_REPRESENTATION_ITEM" in item:
                found[given[0].number][f"note {ref.number}"] = ref.number
                continue
            texts = [value for entity in item.values() for value in entity if isinstance(value, str)]
            found[given[0].number][(texts or [""])[0].lower()] = ref.number
    return found


def _is_bounded(values: dict[str, int]) -> bool:
    return "upper limit" in values and "lower limit" in values


def _limits(model: Model) -> dict[int, Ref]:
    """For each dimension the range that is stated for it."""
    found = {}
    for number in model.held.named("PLUS_MINUS_TOLERANCE"):
        given = model.attributes(number, "PLUS_MINUS_TOLERANCE")
        if len(given) >= 2 and isinstance(given[0], Ref) and isinstance(given[1], Ref):
            found[given[1].number] = given[0]
    return found


def _size(model: Model, number: int, values: dict[str, int], limits: Ref | None) -> ModelLine:
    kind, words, first, second = _features(model, number)
    nominal, upper, lower = _range(model, values, limits)
    words += _noted(model, values)
    title = next((text for text in model.attributes(number) if isinstance(text, str) and " " in text.strip()), "")
    return ModelLine(kind, title if title.lower() not in SIZES else "", first, second, (), nominal, upper, lower, words)


def _noted(model: Model, values: dict[str, int]) -> tuple[str, ...]:
    """Modifiers that stand beside the values of a size."""
    found = []
    for number in values.values():
        text = str((model.attributes(number, "DESCRIPTIVE_REPRESENTATION_ITEM") or ("",))[-1]).lower()
        if not text:
            continue
        word = next((word for known, word in NOTES.items() if known in text), None)
        if word is None:
            raise Unread(f"its note '{text}' is not read")
        found += [word] if word else []
    return tuple(found)


def _features(model: Model, number: int) -> tuple[str, tuple[str, ...], tuple[int, ...], tuple[int, ...]]:
    entities = model.held.of(number)
    named: tuple[Any, ...] = model.attributes(number)
    texts = [value.lower() for entity in entities.values() for value in entity if isinstance(value, str)]
    of = [model.faces(ref.number) for ref in refs(named)]
    if any(not faces for faces in of) or not of:
        raise Unread("no face belongs to it")
    if "DIMENSIONAL_SIZE" in entities or "ANGULAR_SIZE" in entities:
        if "ANGULAR_SIZE" in entities:
            return "cone-angle", (), of[0], ()
        known = next((SIZES[text] for text in texts if text in SIZES), None)
        if known is None:
            raise Unread(f"a size called '{texts[0] if texts else ''}' is not read")
        return known[0], known[1], of[0], ()
    if len(of) < 2:
        raise Unread("it needs two features")
    if any("curved" in text for text in texts):
        raise Unread("a length along a curve is not read")
    return ("angle" if "ANGULAR_LOCATION" in entities else "distance"), (), of[0], of[1]


def _range(model: Model, values: dict[str, int], limits: Ref | None) -> tuple[float, str, str]:
    """Nominal, upper and lower deviation; a code of ISO 286 in place of both."""
    if limits is None:
        top, low = (model.measure(values[name]) for name in ("upper limit", "lower limit"))
        middle = model.measure(values["nominal value"]) if "nominal value" in values else (top + low) / 2
        return middle, f"{top - middle:.6g}", f"{low - middle:.6g}"
    stated = [name for name in values if not name.startswith("note ")]
    name = "nominal value" if "nominal value" in stated else next(iter(stated), "")
    if not name:
        raise Unread("its nominal value is missing")
    nominal, entities = model.measure(values[name]), model.held.of(limits.number)
    if "LIMITS_AND_FITS" in entities:
        form, zone, grade = (str(value or "") for value in entities["LIMITS_AND_FITS"][:3])
        letter = form.lower() if zone.lower().startswith("shaft") else form
        return nominal, f"{letter}{grade}", ""
    given = entities.get("TOLERANCE_VALUE", ())
    if len(given) < 2 or not all(isinstance(value, Ref) for value in given[:2]):
        raise Unread("its limits cannot be read")
    low, top = (model.measure(value.number) for value in given[:2])
    return nominal, f"{top:.6g}", f"{low:.6g}"
