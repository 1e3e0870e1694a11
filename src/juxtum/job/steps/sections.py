"""The step that cuts nominal and scan with planes."""

from __future__ import annotations

from typing import Annotated, Literal, Self

import numpy as np
from pydantic import Field, model_validator

from juxtum.errors import InputError
from juxtum.evaluate.fields import Finite, Name, Triple
from juxtum.evaluate.sections.cutting import SectionPlane, parallel, radial
from juxtum.evaluate.sections.taken import Along
from juxtum.geometry.arrays import Floats
from juxtum.job.steps.base import StepModel
from juxtum.nominal import Nominal
from juxtum.nominal.fingerprints import FoundAgain

MOST = 200


class SectionStep(StepModel):
    """One plane, several beside each other, or several through an axis; part coordinates, mm.

    With a face the plane is that face's own, `offset` out of the material; of a radial series the axis is that face's.
    """

    kind: Literal["section"] = "section"
    label: Name
    point: Triple = (0.0, 0.0, 0.0)
    normal: Triple = (0.0, 0.0, 1.0)
    face: Annotated[int, Field(ge=1)] | None = None
    offset: Finite = 0.0
    series: Literal["parallel", "radial"] = "parallel"
    count: Annotated[int, Field(ge=1, le=MOST)] = 1
    spacing: Finite = 10.0
    along: Along = "surface"

    @model_validator(mode="after")
    def _checked(self) -> Self:
        if not any(self.normal):
            raise ValueError("the direction of the plane has no length")
        if self.series == "parallel" and self.count > 1 and self.spacing == 0:
            raise ValueError("the spacing of the series is nothing")
        return self

    @property
    def faces_named(self) -> tuple[int, ...]:
        """The one that gives the plane, where one does."""
        return () if self.face is None else (self.face,)

    def on_faces(self, found: FoundAgain) -> Self:
        """The same on another revision of the nominal."""
        face = None if self.face is None else found.numbers.get(self.face, self.face)
        return self.model_copy(update={"face": face})

    def planes(self, nominal: Nominal) -> tuple[SectionPlane, ...]:
        """Where it cuts.

        Raises
        ------
        InputError
            When its face does not exist, or has no plane or axis.
        """
        point, normal = np.array(self.point), np.array(self.normal)
        if self.face is not None:
            point, normal = self._of_face(nominal, self.face)
        if self.series == "radial":
            return radial(self.label, (point, normal), self.count)
        moved = point + self.offset * normal / np.linalg.norm(normal)
        return parallel(SectionPlane(self.label, moved, normal), self.count, self.spacing)

    def _of_face(self, nominal: Nominal, number: int) -> tuple[Floats, Floats]:
        face = nominal.face(number)
        wanted = "axis" if self.series == "radial" else "plane"
        feature = face.feature
        normal = getattr(feature, "axis" if wanted == "axis" else "normal", None)
        if feature is None or normal is None:
            raise InputError(
                f"{face.title} has no {wanted}", self.label, f"Choose a face that has one, or give the {wanted}"
            )
        return np.array(feature.point), np.array(normal)
