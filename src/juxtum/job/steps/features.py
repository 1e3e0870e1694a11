"""The step that measures a feature of the scan."""

from __future__ import annotations

from typing import Annotated, Literal, Self

from pydantic import Field, model_validator

from juxtum.evaluate.features import Question
from juxtum.evaluate.fields import Finite, Name, Triple
from juxtum.job.steps.base import StepModel
from juxtum.nominal.fingerprints import FoundAgain

Grown = Literal["plane", "cylinder", "sphere", "cone"]


class FeatureStep(StepModel):
    """A feature grown from a place on the scan, of the scan's points on faces, or through picked places; part coordinates, mm."""

    kind: Literal["feature"] = "feature"
    label: Name
    element: Grown | None = None
    """What it is; as the surface tells where nothing is said."""
    seed: Triple | None = None
    faces: Annotated[tuple[Annotated[int, Field(ge=1)], ...], Field(max_length=100)] = ()
    places: Annotated[tuple[Triple, ...], Field(max_length=1000)] = ()
    tolerance: Annotated[Finite, Field(gt=0, le=10)] | None = None
    """Within which a region is grown; by the roughness of the surface where nothing is said."""

    @model_validator(mode="after")
    def _one_source(self) -> Self:
        if (self.seed is not None) + bool(self.faces) + bool(self.places) != 1:
            raise ValueError("a feature comes of one of a seed, faces or places")
        if self.places and self.element is None:
            raise ValueError("which kind of feature the places make is not said")
        return self

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
