"""The steps that measure a feature of the scan, and that make one of others."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Annotated, Literal, Self

import numpy as np
from pydantic import Field, model_validator

from juxtum.associate.constrained import Held
from juxtum.associate.construct import direction_of
from juxtum.errors import InputError
from juxtum.evaluate.features import Question, Recipe, TakenFeature
from juxtum.evaluate.fields import Finite, Name, Triple
from juxtum.geometry.arrays import Floats
from juxtum.job.steps.base import StepModel
from juxtum.nominal.fingerprints import FoundAgain

AXES = ("X", "Y", "Z")
Way = Literal["meet", "middle", "line", "plane", "circle", "onto", "offset", "between"]
Element = Literal["plane", "cylinder", "sphere", "cone", "torus", "slot", "rectangle", "freeform"]


class FeatureStep(StepModel):
    """A feature grown from a place on the scan, of the scan's points on faces, or through picked places; part coordinates, mm."""

    kind: Literal["feature"] = "feature"
    label: Name
    element: Element | None = None
    """What it is; as the surface tells where nothing is said."""
    seed: Triple | None = None
    faces: Annotated[tuple[Annotated[int, Field(ge=1)], ...], Field(max_length=100)] = ()
    places: Annotated[tuple[Triple, ...], Field(max_length=1000)] = ()
    tolerance: Annotated[Finite, Field(gt=0, le=10)] | None = None
    """Within which a region is grown; by the roughness of the surface where nothing is said."""
    held: Literal["along", "across"] | None = None
    """How its axis or normal is held to another feature or to an axis of the part."""
    to: Name | None = None
    """The label of that feature, one that stands earlier; or X, Y or Z."""
    radius: Annotated[Finite, Field(gt=0, le=1e6)] | None = None
    """Given, mm, where it is not to be found."""

    @model_validator(mode="after")
    def _one_source(self) -> Self:
        if (self.seed is not None) + bool(self.faces) + bool(self.places) != 1:
            raise ValueError("a feature comes of one of a seed, faces or places")
        if self.places and self.element is None:
            raise ValueError("which kind of feature the places make is not said")
        if (self.held is None) != (self.to is None):
            raise ValueError("a feature is held along or across something, and both are said or neither")
        return self

    @property
    def parts(self) -> tuple[str, ...]:
        """Labels of the features that it hangs on."""
        return () if self.to is None or self.to in AXES else (self.to,)

    @property
    def is_held(self) -> bool:
        """Whether it is not free."""
        return self.held is not None or self.radius is not None

    def hold(self, others: Sequence[TakenFeature]) -> Held | None:
        """What it must keep.

        Raises
        ------
        InputError
            When the feature that it is held to was not measured, or has no direction.
        """
        if not self.is_held:
            return None
        words = [] if self.radius is None else [f"its radius is given as {self.radius:g} mm"]
        if self.held is None:
            return Held(radius=self.radius, told=words[0])
        if self.to in AXES:
            way: Floats | None = np.eye(3)[AXES.index(str(self.to))]
            words.insert(0, f"held {self.held} {self.to} of the part")
        else:
            made = others[0].measured
            way = None if made is None else direction_of(made.feature)
            words.insert(0, f"held {self.held} {self.to}: how sure the direction of {self.to} is does not count in it")
        if way is None:
            raise InputError(f"{self.to} has no axis and no normal to be held to", self.label, "Name another feature")
        return Held(way, self.held == "across", self.radius, "; ".join(words))

    @property
    def faces_named(self) -> tuple[int, ...]:
        """Those whose points it takes."""
        return self.faces

    def on_faces(self, found: FoundAgain) -> Self:
        """The same on another revision of the nominal; faces that are gone are left as they were, and told when measured."""
        return self.model_copy(update={"faces": tuple(found.numbers.get(face, face) for face in self.faces)})

    @property
    def question(self) -> Question:
        """As it is measured."""
        return Question(self.element or "", self.seed, self.faces, self.places, self.tolerance)


class ConstructStep(StepModel):
    """A feature made of others that stand earlier, named by their labels; see `juxtum.associate.construct`."""

    kind: Literal["construct"] = "construct"
    label: Name
    way: Way
    of: Annotated[tuple[Name, ...], Field(min_length=1, max_length=200)]
    amount: Finite = 0.0
    """Of an offset, mm."""

    @model_validator(mode="after")
    def _each_once(self) -> Self:
        if len(set(self.of)) < len(self.of):
            raise ValueError("one feature is named twice")
        return self

    @property
    def parts(self) -> tuple[str, ...]:
        """Labels of the features that it is made of."""
        return self.of

    @property
    def recipe(self) -> Recipe:
        """As it is made."""
        return Recipe(self.way, self.amount)
