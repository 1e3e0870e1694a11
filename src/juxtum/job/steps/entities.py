"""An alignment by features of the scan itself, each grown from a place that was picked on it."""

from __future__ import annotations

from dataclasses import replace
from typing import Literal

import numpy as np

from juxtum.align import Alignment
from juxtum.align.entities import Entities, entity_alignment
from juxtum.associate import without_outliers
from juxtum.associate.solve import Fit
from juxtum.errors import AlignmentError
from juxtum.evaluate.features.growing import grow
from juxtum.evaluate.fields import Name, Triple
from juxtum.geometry import RigidTransform, TriangleMesh
from juxtum.geometry.features import Feature, Plane
from juxtum.job.steps.aligning import AlignModel
from juxtum.job.steps.base import Outcomes, Source, StepModel, surface
from juxtum.progress import Progress

FAR = 5.0
"""A place farther from the scan than this was not picked on it, mm."""


class Spot(StepModel):
    """A place on the scan, in its own coordinates, and the kind of what is about it; the surface tells where none is named."""

    place: Triple
    element: Literal["", "plane", "cylinder", "sphere", "cone", "torus", "slot", "rectangle"] = ""


class ByEntities(AlignModel):
    """Alignment by entities: a plane becomes XY, a direction X, a point the origin."""

    kind: Literal["entities"] = "entities"
    name: Name = "entities"
    level: Spot
    towards: Spot | None = None
    origin: Spot | None = None
    down: bool = False
    """Whether Z looks into the material of the plane."""
    back: bool = False
    """Whether X runs against the direction."""

    @property
    def is_picked(self) -> bool:
        """Its places are those of one scan."""
        return True

    def reads(self) -> tuple[Source, ...]:
        """The scan alone: no nominal has a part in it."""
        return (surface(self.scan), *self._start)

    def found(self, outcomes: Outcomes, start: RigidTransform, progress: Progress) -> Alignment:
        """Grow what was picked, and make the frame of it."""
        scan = outcomes.scan(self.scan)
        if not isinstance(scan, TriangleMesh):
            raise AlignmentError("a list of points has no surface on which features grow", self.name, "Bring a mesh")
        progress.phase("growing what was picked")
        level = self._grown(scan, self.level.model_copy(update={"element": "plane"}))
        towards, origin = (None if spot is None else self._grown(scan, spot) for spot in (self.towards, self.origin))
        return entity_alignment(Entities(level, towards, origin, self.down, self.back))  # type: ignore[arg-type]

    def _grown(self, scan: TriangleMesh, spot: Spot) -> Fit[Feature]:
        """The feature about a place, and how well it is known; a plane looks out of the material."""
        near = scan.tree.query(np.array([spot.place]), limit=FAR)
        if not bool(near.found[0]):
            what = f"there is no scan within {FAR:g} mm of {', '.join(f'{v:g}' for v in spot.place)}"
            raise AlignmentError(what, self.name, "Pick on the scan: its places are those of its own coordinates")
        region = grow(scan, int(near.triangles[0]), spot.element)
        fit: Fit[Feature] = without_outliers(region.feature, scan.points[np.unique(scan.triangles[region.triangles])])
        feature, facing = fit.feature, scan.triangle_normals[region.triangles].mean(0)
        if isinstance(feature, Plane) and float(feature.normal @ facing) < 0:
            return replace(fit, feature=feature.flipped())
        return fit
