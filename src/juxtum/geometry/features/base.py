"""What every ideal feature answers, so that one solver fits all of them and one datum system takes all of them."""

from __future__ import annotations

from abc import ABC, abstractmethod
from dataclasses import dataclass, replace
from typing import ClassVar, Self

import numpy as np
import numpy.typing as npt

from juxtum.errors import InputError
from juxtum.geometry.arrays import Floats, frozen, orthonormal_frame, unit
from juxtum.geometry.transform import RigidTransform, rotation_from_vector


@dataclass(frozen=True, eq=False)
class Held:
    """Which rigid motions a feature locks when it is a datum (its situation, ISO 5459).

    Parameters
    ----------
    place : array (3,)
        A point of the feature.
    shifts : array (S, 3)
        Orthonormal directions along which it cannot be moved: one for a plane, two for an axis, three for a point.
    direction : array (3,), optional
        Its axis or normal, which locks the two turns that change it; None where it has none.
    """

    place: Floats
    shifts: Floats
    direction: Floats | None = None

    def brought_to(self, place: Floats) -> Floats:
        """The point (3,) of the feature nearest to a place, moving along what is not locked."""
        offset = np.asarray(place) - self.place
        return np.asarray(place - self.shifts.T @ (self.shifts @ offset))


@dataclass(frozen=True, eq=False)
class Feature(ABC):
    """An ideal feature: a value object on its own minimal parameters.

    A step (P,) changes the parameters in the order of the columns of `linearised`: first offsets across the feature
    along the rows of its frame, then tilts of its axis towards the first two of them (radians), then sizes (mm, rad).
    """

    point: Floats
    """Where it is (3,)."""

    name: ClassVar[str]
    """In words."""
    least: ClassVar[int]
    """Fewest points that fix it."""
    rows: ClassVar[int] = 1
    """Residuals of one point: a surface misses it by one number, a curve by two, a point by three."""
    loose: ClassVar[tuple[str, str]] = ("the points do not fix it", "Take more of it")
    """What is said when the points leave it free, and what then helps."""
    tilts: ClassVar[slice] = slice(0, 0)
    """Which parameters of a step tilt its axis or normal."""
    lengths: ClassVar[tuple[str, ...]] = ()
    """Fields that are sizes and have to be above zero, mm."""

    def __post_init__(self) -> None:
        object.__setattr__(self, "point", frozen(self.point))
        for length in self.lengths:
            object.__setattr__(
                self, length, positive(getattr(self, length), f"{length.replace('_', ' ')} of the {self.name}")
            )

    @abstractmethod
    def distances(self, points: npt.ArrayLike) -> Floats:
        """Distances (N,) of points from the feature, mm; signed for surfaces."""

    @abstractmethod
    def linearised(self, points: Floats) -> tuple[Floats, Floats]:
        """Residuals (N * rows,) of points (N, 3) and their derivatives (N * rows, P) by a step; point by point."""

    @abstractmethod
    def stepped(self, step: Floats) -> Self:
        """The feature after a step (P,) of its parameters."""

    def moved(self, transform: RigidTransform) -> Self:
        """The feature after a rigid motion."""
        return replace(self, point=transform.apply(self.point))

    def holds(self) -> Held:
        """The rigid motions that it locks: all shifts, unless its kind says otherwise."""
        return Held(self.point, np.eye(3))

    @property
    def sizes(self) -> dict[str, float]:
        """Its sizes by name, mm, or radians for an angle."""
        return {length.replace("_", " "): getattr(self, length) for length in self.lengths}

    def anchored(self, place: Floats) -> Self:
        """The same feature with its reference point as near to a place as it can be."""
        return self


@dataclass(frozen=True, eq=False)
class Axial(Feature):
    """A feature about the line through `point` along `axis`."""

    axis: Floats

    def __post_init__(self) -> None:
        super().__post_init__()
        object.__setattr__(self, "axis", direction_of(self.axis, self.name))

    def moved(self, transform: RigidTransform) -> Self:
        """The feature after a rigid motion."""
        return replace(self, point=transform.apply(self.point), axis=transform.turn(self.axis))

    def holds(self) -> Held:
        """All shifts and two turns."""
        return Held(self.point, np.eye(3), self.axis)


def direction_of(values: npt.ArrayLike, what: str) -> Floats:
    """A unit vector (3,), read-only.

    Raises
    ------
    InputError
        When it has no length.
    """
    vector = np.asarray(values, dtype=np.float64)
    if vector.shape != (3,) or not np.isfinite(vector).all() or np.linalg.norm(vector) < 1e-12:
        raise InputError(f"the direction of the {what} has no length", next="Give three numbers that are not all zero")
    return frozen(unit(vector))


def positive(value: float, what: str) -> float:
    """A size that has to be above zero.

    Raises
    ------
    InputError
        When it is not.
    """
    if not (np.isfinite(value) and value > 0):
        raise InputError(f"the {what} is not positive", next=f"Give a {what.split(maxsplit=1)[0]} above zero")
    return float(value)


def tilted(axis: Floats, towards_first: float, towards_second: float) -> Floats:
    """An axis (3,) tilted towards the first two rows of its frame, radians."""
    u, v, _ = orthonormal_frame(axis)
    return rotation_from_vector(towards_first * v - towards_second * u) @ axis


@dataclass(frozen=True, eq=False)
class Cylindrical:
    """Points in the frame of an axis: along its rows (N each), how far from it (N,), and the unit way out (N each)."""

    x: Floats
    y: Floats
    z: Floats
    reach: Floats
    out_x: Floats
    out_y: Floats

    @classmethod
    def of(cls, points: npt.ArrayLike, place: Floats, axis: Floats) -> Cylindrical:
        """Of points (N, 3) about the line through `place` along `axis`."""
        x, y, z = orthonormal_frame(axis) @ (np.asarray(points, dtype=np.float64) - place).T
        reach = np.maximum(np.sqrt(x * x + y * y), 1e-12)
        return cls(x, y, z, reach, x / reach, y / reach)
