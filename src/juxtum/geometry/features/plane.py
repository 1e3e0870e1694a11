"""A plane."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

import numpy as np
import numpy.typing as npt

from juxtum.errors import InputError
from juxtum.geometry.arrays import Floats, orthonormal_frame
from juxtum.geometry.features.base import Feature, Held, direction_of, tilted
from juxtum.geometry.transform import RigidTransform


@dataclass(frozen=True, eq=False)
class Plane(Feature):
    """A plane through `point` with unit `normal`; a step is an offset along the normal and its two tilts."""

    normal: Floats

    name: ClassVar[str] = "plane"
    tilts: ClassVar[slice] = slice(1, 3)
    least: ClassVar[int] = 3
    loose: ClassVar[tuple[str, str]] = (
        "the points lie on one line and do not make a plane",
        "Add points to the side of it",
    )

    def __post_init__(self) -> None:
        super().__post_init__()
        object.__setattr__(self, "normal", direction_of(self.normal, "plane"))

    @classmethod
    def through(cls, points: npt.ArrayLike) -> Plane:
        """The plane through exactly three points (3, 3); refuses collinear ones."""
        a, b, c = np.asarray(points, dtype=np.float64)
        normal = np.cross(b - a, c - a)
        size = max(float(np.linalg.norm(b - a)), float(np.linalg.norm(c - a)), 1e-12)
        if np.linalg.norm(normal) < 1e-9 * size * size:
            raise InputError("the three points lie on one line", next="Pick a third point to the side of it")
        return cls((a + b + c) / 3, normal)

    def distances(self, points: npt.ArrayLike) -> Floats:
        """Signed distances (N,) along the normal."""
        return np.asarray((np.asarray(points) - self.point) @ self.normal)

    def flipped(self) -> Plane:
        """The same plane looking the other way."""
        return Plane(self.point, -self.normal)

    def linearised(self, points: Floats) -> tuple[Floats, Floats]:
        """Distances fall with the plane's offset, and change with a tilt in proportion to the way along it."""
        x, y, z = orthonormal_frame(self.normal) @ (points - self.point).T
        return z, np.stack([-np.ones(len(z)), x, y], axis=1)

    def stepped(self, step: Floats) -> Plane:
        """After an offset and two tilts."""
        return Plane(self.point + step[0] * self.normal, tilted(self.normal, step[1], step[2]))

    def moved(self, transform: RigidTransform) -> Plane:
        """After a rigid motion."""
        return Plane(transform.apply(self.point), transform.turn(self.normal))

    def anchored(self, place: Floats) -> Plane:
        """With its point below a place."""
        return Plane(place - float((place - self.point) @ self.normal) * self.normal, self.normal)

    def holds(self) -> Held:
        """The shift along its normal, and the two turns that tilt it."""
        return Held(self.point, self.normal[None], self.normal)
