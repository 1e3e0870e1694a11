"""A point and a sphere: what locks three shifts and no turn."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

import numpy as np
import numpy.typing as npt

from juxtum.geometry.arrays import Floats
from juxtum.geometry.features.base import Feature


@dataclass(frozen=True, eq=False)
class Point(Feature):
    """A point; a step moves it."""

    name: ClassVar[str] = "point"
    least: ClassVar[int] = 1
    rows: ClassVar[int] = 3

    def distances(self, points: npt.ArrayLike) -> Floats:
        """Distances (N,)."""
        return np.asarray(np.linalg.norm(np.asarray(points) - self.point, axis=1))

    def linearised(self, points: Floats) -> tuple[Floats, Floats]:
        """The three coordinates of what each point misses it by."""
        return (points - self.point).ravel(), np.tile(-np.eye(3), (len(points), 1))

    def stepped(self, step: Floats) -> Point:
        """After a shift."""
        return Point(self.point + step)


@dataclass(frozen=True, eq=False)
class Sphere(Feature):
    """A sphere; a step moves its centre and adds to its radius."""

    radius: float

    name: ClassVar[str] = "sphere"
    least: ClassVar[int] = 4
    loose: ClassVar[tuple[str, str]] = ("the points do not bend round a centre", "Take more of the sphere")
    lengths: ClassVar[tuple[str, ...]] = ("radius",)

    def distances(self, points: npt.ArrayLike) -> Floats:
        """Signed distances (N,), positive outside."""
        return np.asarray(np.linalg.norm(np.asarray(points) - self.point, axis=1) - self.radius)

    def linearised(self, points: Floats) -> tuple[Floats, Floats]:
        """Distances from the centre, less the radius."""
        offset = points - self.point
        reach = np.maximum(np.linalg.norm(offset, axis=1), 1e-12)
        return reach - self.radius, np.column_stack([-offset / reach[:, None], -np.ones(len(points))])

    def stepped(self, step: Floats) -> Sphere:
        """After a shift and a change of the radius."""
        return Sphere(self.point + step[:3], abs(self.radius + step[3]))
