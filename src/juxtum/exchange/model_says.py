"""Names, datums, sizes and tolerances beside the shape of a STEP file; in the process of the CAD library."""

from __future__ import annotations

import re
from dataclasses import replace
from pathlib import Path
from typing import Any

from juxtum.exchange.model_line import FaceMark
from juxtum.exchange.model_tolerances import read_lines
from juxtum.exchange.part21 import Statements, plain
from juxtum.exchange.solid import CadArrays

STATES = re.compile(rb"_TOLERANCE\s*\(|DIMENSIONAL_(?:SIZE|LOCATION)\s*\(|DATUM\s*\(")
NAMELESS = ("", "NONE")
LONGEST = 80
"""Letters of a name that are kept."""


def marks_of(faces: list[Any], reader: Any) -> tuple[FaceMark, ...]:
    """Place in the order of the file (from 1) and name of each face, as the library's reader took them from it.

    The library finds the entity of a face but not its number; the entities are told apart by being the same object.
    """
    model, transfer = reader.WS().Model(), reader.WS().TransferReader()
    held = [model.Value(place) for place in range(1, model.NbEntities() + 1)]
    places = {id(entity): place for place, entity in enumerate(held, 1)}
    found = []
    for face in faces:
        entity = transfer.EntityFromShapeResult(face, 1)
        name = entity.Name() if hasattr(entity, "Name") else None
        text = plain(name.ToCString()).strip()[:LONGEST] if name is not None else ""
        found.append(FaceMark(places.get(id(entity), 0), "" if text in NAMELESS else text))
    return tuple(found)


def with_lines(arrays: CadArrays, path: Path) -> CadArrays:
    """With the lines that the file states, and the faces under their numbers in it."""
    if not arrays.marks:
        return arrays
    content = path.read_bytes()
    if not STATES.search(content):
        return replace(arrays, marks=tuple(FaceMark(0, mark.name) for mark in arrays.marks))
    statements = Statements(content.decode("utf-8", "replace"))
    order = statements.order
    marks = tuple(
        FaceMark(order[mark.number - 1] if 0 < mark.number <= len(order) else 0, mark.name) for mark in arrays.marks
    )
    if any(mark.number and not statements.of(mark.number).keys() & {"ADVANCED_FACE", "FACE_SURFACE"} for mark in marks):
        return replace(arrays, unread=("the tolerances in the model could not be tied to its faces",))
    lines, unread = read_lines(statements)
    return replace(arrays, marks=marks, lines=tuple(lines), unread=tuple(unread))
