"""What is asked for on the command line in words of its own: alignments and features."""

from __future__ import annotations

import argparse
import re
from pathlib import Path

from pydantic import BaseModel, ConfigDict, ValidationError

from juxtum.errors import InputError
from juxtum.exchange.documents import Form, read_document
from juxtum.exchange.named_places import read_named_places
from juxtum.job.document import usual_alignment
from juxtum.job.steps import (
    AsScanned,
    BestFit,
    DatumChoice,
    Datums,
    FeatureStep,
    KnownTargets,
    ReferencePoints,
    Step,
    read_reference_places,
)  # fmt: skip

FEATURE = re.compile(r"(?:(plane|cylinder|sphere|cone)\s+)?(?:at\s+(.+)|(\d+(?:\+\d+)*))", re.IGNORECASE)
HOW = "Write for example: 51 - cylinder 14+15 - at 12,-3.5,40 - plane at 12,-3.5,40"


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
    if kind == "targets" and named.count(",") == 1:
        measured, known = (_places(Path(name)) for name in named.split(","))
        return [KnownTargets(measured=measured, known=known)]
    if kind in ("zone", "stock") and not colon:
        inside = BestFit(name=kind, start="best fit", criterion=kind, lower=options.lower, upper=options.upper)
        return [*fit, inside]
    raise InputError(
        f"'{choice}' is not an alignment", "--align",
        "Use best-fit, none, zone, stock, datums:FILE.json, points:FILE.csv or targets:MEASURED.csv,KNOWN.csv",
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


def asked_feature(text: str, label: str) -> FeatureStep:
    """A feature as `--feature` names it: faces of the nominal, or a place on the scan.

    Raises
    ------
    InputError

    Examples
    --------
    >>> asked_feature("cylinder at 12,-3.5,40", "F1").seed
    (12.0, -3.5, 40.0)
    """
    found = FEATURE.fullmatch(text.strip())
    if found is None:
        raise InputError(f"'{text}' names no feature", "--feature", HOW)
    kind, place, numbers = found.groups()
    asked: dict[str, object] = {"label": label, "element": None if kind is None else kind.lower()}
    if place is not None:
        asked["seed"] = place.replace(";", ",").split(",")
    else:
        asked["faces"] = [int(number) for number in numbers.split("+")]
    try:
        return FeatureStep.model_validate(asked)
    except ValidationError as problem:
        raise InputError(f"'{text}' names no feature", "--feature", HOW) from problem
