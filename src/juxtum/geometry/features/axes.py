"""A line and a cylinder: what locks two shifts and two turns about an axis."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import ClassVar, Self

import numpy as np
import numpy.typing as npt

from juxtum.geometry.arrays import Floats, orthonormal_frame
from juxtum.geometry.features.base import Axial, Cylindrical, Held, tilted


class _Endless(Axial):
    """What goes on along its axis: its point may be any on it."""

    def anchored(self, place: Floats) -> Self:
        """With its point on the axis beside a place."""
        return replace(self, point=self.point + float((place - self.point) @ self.axis) * self.axis)

    def holds(self) -> Held:
        """Two shifts across and two turns."""
        return Held(self.point, orthonormal_frame(self.axis)[:2], self.axis)


@dataclass(frozen=True, eq=False)
class Line(_Endless):
    """An endless line through `point` along `axis`; a step is two offsets across it and its two tilts."""

    name: ClassVar[str] = "line"
    tilts: ClassVar[slice] = slice(2, 4)
    least: ClassVar[int] = 2
    rows: ClassVar[int] = 2
    loose: ClassVar[tuple[str, str]] = ("the points do not make a line", "Add points along it")

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


@dataclass(frozen=True, eq=False)
class Cylinder(_Endless):
    """An endless cylinder about the line through `point` along `axis`; a step is that of its axis, then its radius."""

    radius: float

    name: ClassVar[str] = "cylinder"
    tilts: ClassVar[slice] = slice(2, 4)
    least: ClassVar[int] = 5
    loose: ClassVar[tuple[str, str]] = ("the points do not bend round an axis", "Take more of the wall")
    lengths: ClassVar[tuple[str, ...]] = ("radius",)

    def radial(self, points: npt.ArrayLike) -> Floats:
        """Vectors (N, 3) from the axis to the points."""
        offset = np.asarray(points) - self.point
        return np.asarray(offset - np.outer(offset @ self.axis, self.axis))

    def distances(self, points: npt.ArrayLike) -> Floats:
        """Signed distances (N,), positive outside."""
        radial = self.radial(points)
        return np.asarray(np.sqrt(np.einsum("ij,ij->i", radial, radial)) - self.radius)

    def linearised(self, points: Floats) -> tuple[Floats, Floats]:
        """Distances from the axis, less the radius."""
        at = Cylindrical.of(points, self.point, self.axis)
        columns = [-at.out_x, -at.out_y, -at.z * at.out_x, -at.z * at.out_y, np.full(len(at.z), -1.0)]
        return at.reach - self.radius, np.stack(columns).T

    def stepped(self, step: Floats) -> Cylinder:
        """After two offsets, two tilts and a change of the radius."""
        place = self.point + step[:2] @ orthonormal_frame(self.axis)[:2]
        return Cylinder(place, tilted(self.axis, step[2], step[3]), abs(self.radius + step[4]))
