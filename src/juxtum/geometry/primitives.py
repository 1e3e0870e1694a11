"""Ideal features as frozen value objects."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from juxtum.errors import InputError
from juxtum.geometry.arrays import Floats, frozen, unit


def _direction(values: npt.ArrayLike, what: str) -> Floats:
    vector = np.asarray(values, dtype=np.float64)
    if vector.shape != (3,) or not np.isfinite(vector).all() or np.linalg.norm(vector) < 1e-12:
        raise InputError(f"the direction of the {what} has no length", next="Give three numbers that are not all zero")
    return frozen(unit(vector))


@dataclass(frozen=True, eq=False)
class Plane:
    """A plane through `point` with unit `normal`."""

    point: Floats
    normal: Floats

    def __post_init__(self) -> None:
        object.__setattr__(self, "point", frozen(self.point))
        object.__setattr__(self, "normal", _direction(self.normal, "plane"))

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


@dataclass(frozen=True, eq=False)
class Cylinder:
    """An endless cylinder about the line through `point` along `axis`."""

    point: Floats
    axis: Floats
    radius: float

    def __post_init__(self) -> None:
        object.__setattr__(self, "point", frozen(self.point))
        object.__setattr__(self, "axis", _direction(self.axis, "cylinder"))
        if not (np.isfinite(self.radius) and self.radius > 0):
            raise InputError("the radius of the cylinder is not positive", next="Give a radius above zero")

    def radial(self, points: npt.ArrayLike) -> Floats:
        """Vectors (N, 3) from the axis to the points."""
        offset = np.asarray(points) - self.point
        return np.asarray(offset - np.outer(offset @ self.axis, self.axis))

    def distances(self, points: npt.ArrayLike) -> Floats:
        """Signed distances (N,), positive outside."""
        return np.asarray(np.linalg.norm(self.radial(points), axis=1) - self.radius)
