"""Datum targets of a STEP AP242 file: places of a face on which the part rests (ISO 10303-242, ISO 5459)."""

from __future__ import annotations

import math

from juxtum.exchange.model_entities import Model, Unread, refs
from juxtum.exchange.part21 import Ref

PLACED = "PLACED_DATUM_TARGET_FEATURE"
OTHER = "DATUM_TARGET"
POINT, CIRCLE = "point", "circle"


def targets_of(model: Model, datum: int) -> tuple[str, ...]:
    """Words about the targets of a datum as a drawing's table has them, such as `at 10 20 0 d8`; none where it is taken whole.

    Raises
    ------
    Unread
        When one of them is neither a point nor a round area, or says not where it is.
    """
    found: list[tuple[str, str]] = []
    for aspect in model.wholes(datum):
        entities = model.held.of(aspect)
        if PLACED in entities:
            values = model.attributes(aspect, PLACED)
            found.append((str(values[-1] or "") if values else "", _words(model, aspect)))
        elif OTHER in entities:
            raise Unread("one of its targets is drawn, not placed, and is not read")
    return tuple(words for _, words in sorted(found))


def _words(model: Model, target: int) -> str:
    values = model.attributes(target, PLACED)
    form, name = (str(values[1] or "").lower(), str(values[-1] or "")) if len(values) > 1 else ("", "")
    if form not in (POINT, CIRCLE):
        raise Unread(f"its target {name} is a {form or 'thing without a form'}, and is not read")
    place, diameter = _placed(model, target)
    if place is None or (form == CIRCLE and not diameter > 0):
        raise Unread(f"its target {name} says not where it is, or how large")
    x, y, z = (f"{value:.9g}" for value in place)
    return f"at {x} {y} {z}" + (f" d{diameter:.9g}" if form == CIRCLE else "")


def _placed(model: Model, target: int) -> tuple[list[float] | None, float]:
    """Where a target is, mm, and its diameter."""
    place, diameter = None, 0.0
    for number in model.representations(target):
        values = next((v for name, v in model.held.of(number).items() if name.startswith("SHAPE_REP")), ())
        if len(values) < 3 or not isinstance(values[2], Ref):
            continue
        for item in refs([values[1]]):
            axes = model.attributes(item.number, "AXIS2_PLACEMENT_3D")
            if len(axes) > 1 and isinstance(axes[1], Ref):
                place = _point(model, axes[1].number, model.length_unit(values[2].number))
            elif not axes:
                diameter = model.measure(item.number)
    return place, diameter


def _point(model: Model, number: int, unit: float) -> list[float]:
    values = model.attributes(number, "CARTESIAN_POINT")
    at = values[1] if len(values) > 1 else ()
    if not isinstance(at, tuple) or len(at) != 3 or not all(isinstance(v, float) and math.isfinite(v) for v in at):
        raise Unread("the place of a target cannot be read")
    return [unit * value for value in at]
