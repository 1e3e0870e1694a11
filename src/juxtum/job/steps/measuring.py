"""Steps that say how deviations are taken, read and judged."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, Literal, Self

import numpy as np
from pydantic import Field, model_validator

from juxtum.errors import InputError
from juxtum.evaluate import DecisionRule, grid_places
from juxtum.evaluate.fields import Finite, Name, Triple
from juxtum.evaluate.walls import WallLimits
from juxtum.exchange.named_places import read_named_places
from juxtum.geometry.arrays import Floats
from juxtum.job.steps.base import StepModel
from juxtum.nominal import Nominal
from juxtum.nominal.fingerprints import FoundAgain


class Measure(StepModel):
    """How the nominal is searched, and the limits of the map, mm and degrees."""

    kind: Literal["measure"] = "measure"
    limit: Annotated[Finite, Field(gt=0, le=1000)] = 3.0
    angle: Annotated[Finite, Field(gt=0, le=180)] = 60.0
    lower: Finite = -0.2
    upper: Finite = 0.2
    colours: Literal["steps", "graded", "verdict", "above", "below"] = "steps"
    """How the map is coloured."""
    shown: Literal["mm", "share"] = "mm"
    """Deviations, or how much of the tolerance of its own face each takes up."""
    lines: Annotated[Finite, Field(gt=0)] | None = None
    """Lines of the same deviation are drawn at each multiple of this, in what the map shows."""

    @model_validator(mode="after")
    def _ordered(self) -> Measure:
        if self.lower >= self.upper:
            raise ValueError("the lower limit must lie below the upper limit")
        return self


class ReadingStep(StepModel):
    """A reading at a place in part coordinates."""

    kind: Literal["reading"] = "reading"
    label: Name
    place: Triple

    def places(self, nominal: Nominal) -> tuple[tuple[str, Floats], ...]:
        """Where it is taken, part coordinates, with its label."""
        return ((self.label, np.array(self.place)),)


MOST_READINGS = 500
"""Of a list: each is measured and kept by itself."""


def read_readings(path: Path) -> tuple[ReadingStep, ...]:
    """Readings of a list: name, X, Y, Z, and a group that goes before the name.

    Raises
    ------
    InputError
        Naming the line that cannot be read.
    """
    made: dict[str, ReadingStep] = {}
    for row in read_named_places(path, "readings", ("group",)):
        label = " ".join(word for word in (row.more.get("group", ""), row.name) if word)[:80]
        if label in made:
            raise InputError(
                f"line {row.line}: there are two readings '{label}'", str(path), "Give each a name of its own"
            )
        made[label] = ReadingStep(label=label, place=row.place)
    if len(made) > MOST_READINGS:
        what = f"the list has {len(made)} readings, {MOST_READINGS} are the most"
        raise InputError(what, str(path), "Give fewer, or spread a grid over a face")
    return tuple(made.values())


class GridStep(StepModel):
    """A grid of readings over a nominal face."""

    kind: Literal["grid"] = "grid"
    label: Name
    face: Annotated[int, Field(ge=1)]
    spacing: Annotated[Finite, Field(gt=0)]

    @property
    def faces_named(self) -> tuple[int, ...]:
        """The one that it lies over."""
        return (self.face,)

    def on_faces(self, found: FoundAgain) -> Self:
        """The same on another revision of the nominal."""
        return self.model_copy(update={"face": found.numbers.get(self.face, self.face)})

    def places(self, nominal: Nominal) -> tuple[tuple[str, Floats], ...]:
        """Where its readings are taken, part coordinates, with their labels."""
        return tuple(
            (f"{self.label}.{k + 1}", place) for k, place in enumerate(grid_places(nominal, self.face, self.spacing))
        )


class WallsStep(StepModel):
    """How thick the walls are all over the part: straight through (`ray`), or by the largest ball that fits in (`ball`)."""

    kind: Literal["walls"] = "walls"
    way: Literal["ray", "ball"] = "ray"
    least: Annotated[Finite, Field(gt=0)] | None = None
    most: Annotated[Finite, Field(gt=0)] | None = None

    @model_validator(mode="after")
    def _ordered(self) -> WallsStep:
        if self.least is not None and self.most is not None and self.least >= self.most:
            raise ValueError("the least thickness must lie below the most")
        return self

    @property
    def limits(self) -> WallLimits:
        """How thick walls may be."""
        return WallLimits(self.least, self.most)


class Decide(StepModel):
    """The alignment to which verdicts refer, and the decision rule."""

    kind: Literal["decide"] = "decide"
    alignment: Name = "best fit"
    rule: DecisionRule = DecisionRule.GUARDED
    guard: Annotated[Finite, Field(ge=0, le=10)] = 1.0
