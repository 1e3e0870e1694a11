"""How a drawing names features: `14`, `14+15` for one feature of several faces, `14|22` for two, `31;32;33` for a pattern."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field

from juxtum.errors import InputError
from juxtum.evaluate.fields import Finite
from juxtum.nominal.fingerprints import FoundAgain

_NUMBER = r"[+-]?\d+(?:\.\d+)?"
Faces = tuple[Annotated[int, Field(ge=1)], ...]
"""One feature: numbers of the faces that make it, from 1."""
Reference = Annotated[tuple[Faces, ...], Field(min_length=1, max_length=2)]
"""One feature, or two: the sides of a slot, or from where to where."""
Pattern = Annotated[tuple[Reference, ...], Field(max_length=500)]
"""Several alike, each of which has to conform."""


MOST_TARGETS = 24


class DatumTarget(BaseModel):
    """A place of a datum on which the part rests: a round area, or a point."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    place: tuple[Finite, Finite, Finite]
    """Part coordinates, mm."""
    diameter: Annotated[Finite, Field(ge=0)] = 0.0
    """Of the area, mm; 0 of a point."""


class Datum(BaseModel):
    """A datum of a drawing."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    letter: Annotated[str, Field(pattern="^[A-Z](-[A-Z])?$")]
    of: Reference
    association: Literal["gauss", "contacting"] = "contacting"
    is_common: bool = False
    """Whether its two features are one datum together, such as A-B, and not the two sides of a middle plane."""
    targets: Annotated[tuple[DatumTarget, ...], Field(max_length=MOST_TARGETS)] = ()
    """Where it is taken, if not all over its faces."""


def common_datum(text: str, known: Mapping[str, Datum]) -> Datum | None:
    """The datum that two others make together, written as A-B; None for what is written otherwise or names an unknown one.

    Raises
    ------
    InputError
        When one of the two is a middle plane or a common datum itself.

    Examples
    --------
    >>> known = {k: Datum(letter=k, of=((n,),)) for k, n in (("A", 3), ("B", 9))}
    >>> common_datum("A-B", known).of
    ((3,), (9,))
    """
    first, dash, second = text.partition("-")
    if not dash or first not in known or second not in known or first == second:
        return None
    one, two = known[first], known[second]
    if len(one.of) != 1 or len(two.of) != 1:
        raise InputError("a middle plane is no part of a common datum here", f"datum {text}", "Name single features")
    if one.targets or two.targets:
        raise InputError("a datum of targets is no part of a common datum here", f"datum {text}", "Name whole features")
    # The softer of both: what touches two at once is not looked for.
    association: Literal["gauss", "contacting"] = (
        "gauss" if "gauss" in (one.association, two.association) else "contacting"
    )
    return Datum(letter=text, of=(one.of[0], two.of[0]), association=association, is_common=True)


def datum_words(text: str) -> tuple[Literal["gauss", "contacting"], tuple[DatumTarget, ...]]:
    """How a datum is associated, and at which places it is taken.

    Raises
    ------
    InputError
        When a word is none of a datum's.

    Examples
    --------
    >>> datum_words("gauss")
    ('gauss', ())
    >>> [(t.place, t.diameter) for t in datum_words("at 10 20 0 d8 at 60 20 0")[1]]
    [((10.0, 20.0, 0.0), 8.0), ((60.0, 20.0, 0.0), 0.0)]
    """
    association: Literal["gauss", "contacting"] = "contacting"
    head, *places = re.split(r"\bat\b", text)
    for word in head.split():
        if word not in ("gauss", "contacting"):
            raise InputError(f"a datum is not '{word}'", next="Write gauss or contacting, or targets: at 10 20 0 d8")
        association = "gauss" if word == "gauss" else "contacting"
    if len(places) > MOST_TARGETS:
        raise InputError(f"{len(places)} targets are too many for a datum", next=f"Give {MOST_TARGETS} at most")
    return association, tuple(_target(place) for place in places)


def _target(text: str) -> DatumTarget:
    found = re.fullmatch(rf"\s*({_NUMBER})\s+({_NUMBER})\s+({_NUMBER})(?:\s+d\s?({_NUMBER}))?\s*", text)
    if found is None or any(abs(float(value)) > 1e6 for value in found.groups(default="0")):
        what = f"'at{text.rstrip()}' is no target of a datum"
        raise InputError(what, next="Give X, Y and Z in mm, and the diameter of an area: at 10 20 0 d8")
    x, y, z, diameter = (float(value) for value in found.groups(default="0"))
    return DatumTarget(place=(x, y, z), diameter=diameter)


def read_pattern(text: str) -> tuple[tuple[Faces, ...], ...]:
    """Features as a drawing names them.

    Raises
    ------
    InputError
        When the text names none.

    Examples
    --------
    >>> read_pattern("14+15|22")
    (((14, 15), (22,)),)
    >>> read_pattern("31;32")
    (((31,),), ((32,),))
    """
    if not re.fullmatch(r"\s*\d+(\s*[+|;]\s*\d+)*\s*", text):
        raise InputError(
            f"'{text}' names no features",
            next="Give numbers of faces: 14, 14+15 for one feature, 14|22 for two, 31;32 for a pattern",
        )
    members = tuple(
        tuple(tuple(int(face) for face in feature.split("+")) for feature in member.split("|"))
        for member in text.split(";")
    )
    if any(len(member) > 2 for member in members):
        raise InputError(f"'{text}' names more than two features", next="Give two at most: 14|22")
    if any(0 in feature for member in members for feature in member):
        raise InputError(f"'{text}' names a face 0", next="Faces are numbered from 1")
    return members


def pattern_words(pattern: tuple[tuple[Faces, ...], ...]) -> str:
    """As a drawing names them.

    Examples
    --------
    >>> pattern_words((((14, 15), (22,)),))
    '14+15|22'
    """
    return ";".join("|".join("+".join(map(str, faces)) for faces in member) for member in pattern)


def renumbered(pattern: tuple[tuple[Faces, ...], ...], found: FoundAgain) -> tuple[tuple[Faces, ...], ...]:
    """The same on another revision of the nominal; what is lost there drops out."""
    members = (tuple(found.renumbered(faces)[0] for faces in member) for member in pattern)
    return tuple(member for member in members if all(member))
