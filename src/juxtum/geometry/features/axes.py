"""A line and a cylinder: what locks two shifts and two turns about an axis."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

import numpy as np
import numpy.typing as npt

from juxtum.geometry.arrays import Floats, frozen, orthonormal_frame
from juxtum.geometry.features.base import Cylindrical, Feature, Held, direction_of, positive, tilted
from juxtum.geometry.transform import RigidTransform


def _foot(place: Floats, point: Floats, axis: Floats) -> Floats:
    return np.asarray(point + float((place - point) @ axis) * axis)


@dataclass(frozen=True, eq=False)
class Line(Feature):
    """An endless line through `point` along `axis`; a step is two offsets across it and its two tilts."""

    point: Floats
    axis: Floats

    name: ClassVar[str] = "line"
    least: ClassVar[int] = 2
    rows: ClassVar[int] = 2
    loose: ClassVar[tuple[str, str]] = ("the points do not make a line", "Add points along it")

    def __post_init__(self) -> None:
        object.__setattr__(self, "point", frozen(self.point))
        object.__setattr__(self, "axis", direction_of(self.axis, "line"))

    def distances(self, points: npt.ArrayLike) -> Floats:
        """Distances (N,)."""
        return Cylindrical.of(points, self.point, self.axis).reach

    def linearised(self, points: Floats) -> tuple[Floats, Floats]:
        """What each point misses it by, along both rows of its frame."""
        at = Cylindrical.of(points, self.point, self.axis)
        none, one = np.zeros(len(at.z)), np.ones(len(at.z))
        first, second = np.stack([-one, none, -at.z, none], axis=1), np.stack([none, -one, none, -at.z], axis=1)
        return np.stack([at.x, at.y], axis=1).ravel(), np.stack([first, second], axis=1).reshape(-1, 4)

    def stepped(self, step: Floats) -> Line:
        """After two offsets and two tilts."""
        return Line(self.point + step[:2] @ orthonormal_frame(self.axis)[:2], tilted(self.axis, step[2], step[3]))

    def moved(self, transform: RigidTransform) -> Line:
        """After a rigid motion."""
        return Line(transform.apply(self.point), transform.turn(self.axis))

    def anchored(self, place: Floats) -> Line:
        """With its point beside a place."""
        return Line(_foot(place, self.point, self.axis), self.axis)

    def holds(self) -> Held:
        """Two shifts across and two turns."""
        return Held(self.point, orthonormal_frame(self.axis)[:2], self.axis)


@dataclass(frozen=True, eq=False)
class Cylinder(Feature):
    """An endless cylinder about the line through `point` along `axis`; a step is that of its axis, then its radius."""

    point: Floats
    axis: Floats
    radius: float

    name: ClassVar[str] = "cylinder"
    least: ClassVar[int] = 5
    loose: ClassVar[tuple[str, str]] = ("the points do not bend round an axis", "Take more of the wall")

    def __post_init__(self) -> None:
        object.__setattr__(self, "point", frozen(self.point))
        object.__setattr__(self, "axis", direction_of(self.axis, "cylinder"))
        object.__setattr__(self, "radius", positive(self.radius, "radius of the cylinder"))

    @property
    def sizes(self) -> dict[str, float]:
        """Its radius."""
        return {"radius": self.radius}

    def radial(self, points: npt.ArrayLike) -> Floats:
        """Vectors (N, 3) from the axis to the points."""
        offset = np.asarray(points) - self.point
        return np.asarray(offset - np.outer(offset @ self.axis, self.axis))

    def distances(self, points: npt.ArrayLike) -> Floats:
        """Signed distances (N,), positive outside."""
        return np.asarray(np.linalg.norm(self.radial(points), axis=1) - self.radius)

    def linearised(self, points: Floats) -> tuple[Floats, Floats]:
        """Distances from the axis, less the radius."""
        at = Cylindrical.of(points, self.point, self.axis)
        columns = [-at.out_x, -at.out_y, -at.z * at.out_x, -at.z * at.out_y, -np.ones(len(at.z))]
        return at.reach - self.radius, np.stack(columns, axis=1)

    def stepped(self, step: Floats) -> Cylinder:
        """After two offsets, two tilts and a change of the radius."""
        place = self.point + step[:2] @ orthonormal_frame(self.axis)[:2]
        return Cylinder(place, tilted(self.axis, step[2], step[3]), abs(self.radius + step[4]))

    def moved(self, transform: RigidTransform) -> Cylinder:
        """After a rigid motion."""
        return Cylinder(transform.apply(self.point), transform.turn(self.axis), self.radius)

    def anchored(self, place: Floats) -> Cylinder:
        """With its point on the axis beside a place."""
        return Cylinder(_foot(place, self.point, self.axis), self.axis, self.radius)

    def holds(self) -> Held:
        """Two shifts across and two turns."""
        return Held(self.point, orthonormal_frame(self.axis)[:2], self.axis)
