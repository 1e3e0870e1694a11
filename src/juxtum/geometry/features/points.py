"""A point and a sphere, which lock three shifts and no turn; a contact, which locks one shift."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

import numpy as np
import numpy.typing as npt

from juxtum.geometry.arrays import Floats
from juxtum.geometry.features.base import Feature, Held, direction_of
from juxtum.geometry.transform import RigidTransform


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
class Contact(Feature):
    """A place at which a surface is held along its normal, as on a pad; a step moves it that way."""

    normal: Floats

    name: ClassVar[str] = "contact"
    least: ClassVar[int] = 1

    def __post_init__(self) -> None:
        super().__post_init__()
        object.__setattr__(self, "normal", direction_of(self.normal, self.name))

    def distances(self, points: npt.ArrayLike) -> Floats:
        """Signed distances (N,) along the normal."""
        return np.asarray((np.asarray(points) - self.point) @ self.normal)

    def linearised(self, points: Floats) -> tuple[Floats, Floats]:
        """Distances along the normal."""
        return self.distances(points), -np.ones((len(points), 1))

    def stepped(self, step: Floats) -> Contact:
        """After a shift along the normal."""
        return Contact(self.point + step[0] * self.normal, self.normal)

    def moved(self, transform: RigidTransform) -> Contact:
        """After a rigid motion."""
        return Contact(transform.apply(self.point), transform.turn(self.normal))

    def holds(self) -> Held:
        """One shift, along the normal."""
        return Held(self.point, self.normal[None])


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
