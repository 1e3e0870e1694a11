"""What is asked for on the command line in words of its own: alignments and features."""

from __future__ import annotations

import argparse
import re
from pathlib import Path

from pydantic import BaseModel, ConfigDict, ValidationError

from juxtum.associate.construct import WAYS
from juxtum.errors import InputError
from juxtum.exchange.documents import Form, read_document
from juxtum.exchange.named_places import read_named_places
from juxtum.job.document import usual_alignment
from juxtum.job.steps import (
    AsScanned,
    BestFit,
    ByEntities,
    ConstructStep,
    DatumChoice,
    Datums,
    FeatureStep,
    KnownTargets,
    ReferencePoints,
    Step,
    WallsStep,
    read_reference_places,
)  # fmt: skip

FEATURE = re.compile(
    r"(?:(plane|cylinder|sphere|cone|torus|slot|rectangle|freeform)\s+)?(?:at\s+([-+.,;\deE\s]+?)|(\d+(?:\+\d+)*))"
    r"(?:\s+(along|across)\s+(\w+))?(?:\s+radius\s+([-+.\deE]+))?",
    re.IGNORECASE,
)
MADE = re.compile(rf"({'|'.join(WAYS)})\s+(\w+(?:\s+\w+)*?)(?:\s+by\s+([-+.\deE]+))?", re.IGNORECASE)
HOW = (
    "Write for example: 51 - cylinder 14+15 along F1 - at 12,-3.5,40 - plane at 12,-3.5,40 - meet F1 F2 - between F1 F2"
)


class DatumFile(BaseModel):
    """The document behind `--align datums:FILE.json`."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    datums: tuple[DatumChoice, ...]


def asked_alignment(options: argparse.Namespace) -> list[Step]:
    """The alignments that `--align` asks for, in order.

    Raises
    ------
    InputError
    """
    choice: str = options.align
    if choice == "none":
        return [AsScanned()]
    fit: list[Step] = [*usual_alignment()]
    if choice == "best-fit":
        return fit
    kind, colon, named = choice.partition(":")
    if kind == "datums" and colon:
        return [*fit, Datums(name="datums", start="best fit", datums=read_datums(Path(named)))]
    if kind == "points" and colon:
        return [*fit, ReferencePoints(start="best fit", points=read_reference_places(Path(named)))]
    if kind == "entities" and colon:
        return [read_document(Path(named), Form(ByEntities, "an alignment by entities", "See docs/job-format.md"))]
    if kind == "targets" and named.count(",") == 1:
        measured, known = (_places(Path(name)) for name in named.split(","))
        return [KnownTargets(measured=measured, known=known)]
    if kind in ("zone", "stock") and not colon:
        inside = BestFit(name=kind, start="best fit", criterion=kind, lower=options.lower, upper=options.upper)
        return [*fit, inside]
    raise InputError(
        f"'{choice}' is not an alignment", "--align",
        "Use best-fit, none, zone, stock, datums:FILE.json, points:FILE.csv, entities:FILE.json or targets:MEASURED.csv,KNOWN.csv",
    )  # fmt: skip


def _places(path: Path) -> tuple[tuple[float, float, float], ...]:
    return tuple(row.place for row in read_named_places(path, "targets"))


def read_datums(path: Path) -> tuple[DatumChoice, ...]:
    """Datums from their JSON document.

    Raises
    ------
    InputError
    """
    return read_document(path, Form(DatumFile, "a list of datums", "See docs/job-format.md")).datums


def asked_feature(text: str, label: str) -> FeatureStep | ConstructStep:
    """A feature as `--feature` names it: faces of the nominal, a place on the scan, or others that it is made of.

    Raises
    ------
    InputError

    Examples
    --------
    >>> asked_feature("cylinder at 12,-3.5,40", "F1").seed
    (12.0, -3.5, 40.0)
    >>> asked_feature("meet F1 F2", "F3").of
    ('F1', 'F2')
    """
    made, found = MADE.fullmatch(text.strip()), FEATURE.fullmatch(text.strip())
    try:
        if made is not None:
            way, names, amount = made.groups()
            return ConstructStep(label=label, way=way.lower(), of=tuple(names.split()), amount=float(amount or 0.0))
        if found is None:
            raise InputError(f"'{text}' names no feature", "--feature", HOW)
        return FeatureStep.model_validate({"label": label} | _asked(*found.groups()))
    except ValidationError as problem:
        reason = str(problem.errors()[0].get("ctx", {}).get("error", "")) or f"'{text}' names no feature"
        raise InputError(reason, "--feature", HOW) from problem
    except ValueError as problem:
        raise InputError(f"'{text}' names no feature", "--feature", HOW) from problem


def _asked(
    kind: str | None, place: str | None, numbers: str | None, held: str | None, to: str | None, radius: str | None
) -> dict[str, object]:
    asked: dict[str, object] = {"element": None if kind is None else kind.lower()}
    if place is not None:
        asked["seed"] = place.replace(";", ",").split(",")
    elif numbers is not None:
        asked["faces"] = [int(number) for number in numbers.split("+")]
    if held is not None and to is not None:
        asked |= {"held": held.lower(), "to": to.upper()}
    return asked if radius is None else asked | {"radius": float(radius)}


def asked_walls(options: argparse.Namespace) -> list[Step]:
    """What `--walls` and its limits ask for.

    Raises
    ------
    InputError
    """
    least, most = options.wall_least, options.wall_most
    if options.walls is None and least is None and most is None:
        return []
    try:
        return [WallsStep(way=options.walls or "ray", least=least, most=most)]
    except ValidationError as problem:
        what = "the least thickness of a wall is not below the most"
        raise InputError(what, f"--wall-least {least:g} --wall-most {most:g}", "Swap them") from problem
