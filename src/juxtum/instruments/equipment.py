"""Equipment that carries targets for good: plates, turntables and blocks, as documents a plan chooses from."""

from __future__ import annotations

from enum import StrEnum
from functools import cache
from importlib.resources import files
from pathlib import Path
from typing import Annotated, Literal

import numpy as np
from pydantic import Field, model_validator

from juxtum.errors import InputError
from juxtum.exchange.documents import Form, parse_document, read_document
from juxtum.geometry.arrays import Floats, frozen
from juxtum.instruments.models import Document, Positive, Text

SCHEMA = "juxtum-equipment-1"
Finite = Annotated[float, Field(ge=-20_000, le=20_000, allow_inf_nan=False)]
Triple = tuple[Finite, Finite, Finite]


class EquipmentKind(StrEnum):
    """What the part stands on or beside."""

    PLATE = "plate"
    TURNTABLE = "turntable"
    BLOCK = "block"


class EquipmentTarget(Document):
    """A target for good: place in mm and direction it faces, in the equipment's own coordinates."""

    place: Triple
    normal: Triple = (0.0, 0.0, 1.0)


class Equipment(Document):
    """A plate, a turntable or a block; of several blocks each has a pattern of its own.

    Its own coordinates begin in the middle, where it stands; the surface on which a plate or a turntable carries the
    part is its plane z = 0, and a block stands on it.

    Parameters
    ----------
    size : length, width and height, mm; of a turntable its diameter twice.
    carries : the heaviest part, kg; nothing stands on a block.
    diameter : of its discs, mm.
    """

    schema_name: Literal["juxtum-equipment-1"] = Field("juxtum-equipment-1", alias="schema")
    id: Annotated[str, Field(pattern=r"^[a-z0-9][a-z0-9-]{0,39}$")]
    name: Text
    kind: EquipmentKind
    size: tuple[Positive, Positive, Positive]
    carries: Annotated[float, Field(ge=0, le=1e6, allow_inf_nan=False)] = 0.0
    diameter: Positive = 6.0
    targets: Annotated[tuple[EquipmentTarget, ...], Field(min_length=3, max_length=400)]

    @model_validator(mode="after")
    def _possible(self) -> Equipment:
        for number, target in enumerate(self.targets, 1):
            if abs(float(np.linalg.norm(target.normal)) - 1) > 1e-3:
                raise ValueError(f"the direction of target {number} must have the length one")
        if self.kind is EquipmentKind.BLOCK and self.carries:
            raise ValueError("nothing stands on a block")
        return self

    @property
    def places(self) -> Floats:
        """Of the targets, own coordinates (T, 3)."""
        return frozen(np.array([t.place for t in self.targets]))

    @property
    def normals(self) -> Floats:
        """Of the targets, own coordinates (T, 3)."""
        return frozen(np.array([t.normal for t in self.targets]))

    @property
    def is_under(self) -> bool:
        """Whether the part stands on it."""
        return self.kind is not EquipmentKind.BLOCK


FORM = Form(Equipment, "equipment", "See docs/instrument-format.md")


@cache
def shipped_equipment() -> tuple[Equipment, ...]:
    """The invented equipment that ships with the application, in the order in which it is offered."""
    folder = files("juxtum.instruments").joinpath("data", "equipment")
    found = sorted((entry for entry in folder.iterdir() if entry.name.endswith(".json")), key=lambda entry: entry.name)
    return tuple(parse_document(entry.read_bytes(), entry.name, FORM) for entry in found)


def corner_blocks() -> tuple[Equipment, ...]:
    """The blocks that ship."""
    return tuple(made for made in shipped_equipment() if made.kind is EquipmentKind.BLOCK)


def equipment_named(text: str) -> Equipment:
    """Equipment by its file, or one that ships by its id.

    Raises
    ------
    InputError
        When there is no such file and none of this id, or the file is none.

    Examples
    --------
    >>> equipment_named("rp-45").kind.value
    'plate'
    """
    if text.lower().endswith(".json") or Path(text).is_file():
        return read_document(Path(text), FORM)
    for made in shipped_equipment():
        if made.id == text:
            return made
    names = ", ".join(f"{e.id} ({e.name})" for e in shipped_equipment())
    raise InputError(f"there is no equipment '{text}'", "equipment", f"Give a file, or one of these: {names}")
