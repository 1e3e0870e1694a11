"""A circle, a cone and a torus: what locks all shifts, and two turns."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

import numpy as np
import numpy.typing as npt

from juxtum.errors import InputError
from juxtum.geometry.arrays import Floats, frozen, orthonormal_frame
from juxtum.geometry.features.base import Axial, Cylindrical, Held, tilted


@dataclass(frozen=True, eq=False)
class Circle(Axial):
    """A circle in space; a step is a shift along its frame, two tilts and a change of the radius."""

    radius: float

    name: ClassVar[str] = "circle"
    tilts: ClassVar[slice] = slice(3, 5)
    least: ClassVar[int] = 3
    rows: ClassVar[int] = 2
    loose: ClassVar[tuple[str, str]] = ("the points lie on one line", "Take points all round")
    lengths: ClassVar[tuple[str, ...]] = ("radius",)

    def distances(self, points: npt.ArrayLike) -> Floats:
        """Distances (N,)."""
        at = Cylindrical.of(points, self.point, self.axis)
        return np.hypot(at.reach - self.radius, at.z)

    def linearised(self, points: Floats) -> tuple[Floats, Floats]:
        """What each point misses it by, outwards and along the axis."""
        at = Cylindrical.of(points, self.point, self.axis)
        none, one = np.zeros(len(at.z)), np.ones(len(at.z))
        outwards = [-at.out_x, -at.out_y, none, -at.z * at.out_x, -at.z * at.out_y, -one]
        along = [none, none, -one, at.x, at.y, none]
        rows = np.stack([np.stack(outwards, axis=1), np.stack(along, axis=1)], axis=1)
        return np.stack([at.reach - self.radius, at.z], axis=1).ravel(), rows.reshape(-1, 6)

    def stepped(self, step: Floats) -> Circle:
        """After a shift, two tilts and a change of the radius."""
        place = self.point + step[:3] @ orthonormal_frame(self.axis)
        return Circle(place, tilted(self.axis, step[3], step[4]), abs(self.radius + step[5]))


@dataclass(frozen=True, eq=False)
class Cone(Axial):
    """A cone that has `radius` at `point` and widens along `axis` by the tangent of `half_angle` (radians).

    A step is two offsets across, two tilts, a change of the radius and one of the half angle. The reference is not the
    apex, which lies far away on a slender cone.
    """

    radius: float
    half_angle: float

    name: ClassVar[str] = "cone"
    tilts: ClassVar[slice] = slice(2, 4)
    least: ClassVar[int] = 6
    loose: ClassVar[tuple[str, str]] = (
        "the points do not make a cone",
        "Take more of the wall, all round and along it",
    )
    lengths: ClassVar[tuple[str, ...]] = ("radius",)

    def __post_init__(self) -> None:
        super().__post_init__()
        if not 0 < abs(self.half_angle) < np.pi / 2:
            raise InputError(
                "the half angle of the cone is not between 0 and 90 degrees", next="Give an angle between them"
            )

    @property
    def apex(self) -> Floats:
        """Where its radius is nothing (3,)."""
        return np.asarray(self.point - self.radius / np.tan(self.half_angle) * self.axis)

    @property
    def sizes(self) -> dict[str, float]:
        """Its half angle, radians."""
        return {"half angle": self.half_angle}

    def distances(self, points: npt.ArrayLike) -> Floats:
        """Signed distances (N,) from its straight lines, positive outside."""
        return self.linearised(np.asarray(points, dtype=np.float64))[0]

    def linearised(self, points: Floats) -> tuple[Floats, Floats]:
        """Distances at right angles to its straight lines."""
        at = Cylindrical.of(points, self.point, self.axis)
        sine, cosine = np.sin(self.half_angle), np.cos(self.half_angle)
        beyond = at.reach - self.radius
        tilt_x, tilt_y = -cosine * at.z * at.out_x - sine * at.x, -cosine * at.z * at.out_y - sine * at.y
        columns = [
            -cosine * at.out_x,
            -cosine * at.out_y,
            tilt_x,
            tilt_y,
            np.full(len(at.z), -cosine),
            -(sine * beyond + cosine * at.z),
        ]
        return cosine * beyond - sine * at.z, np.stack(columns, axis=1)

    def stepped(self, step: Floats) -> Cone:
        """After two offsets, two tilts, a change of the radius and one of the half angle."""
        place = self.point + step[:2] @ orthonormal_frame(self.axis)[:2]
        return Cone(place, tilted(self.axis, step[2], step[3]), abs(self.radius + step[4]), self.half_angle + step[5])

    def anchored(self, place: Floats) -> Cone:
        """With its point on the axis beside a place, unless that lies at the apex or beyond it."""
        along = float((place - self.point) @ self.axis)
        radius = self.radius + along * np.tan(self.half_angle)
        return Cone(self.point + along * self.axis, self.axis, radius, self.half_angle) if radius > 1e-9 else self

    def holds(self) -> Held:
        """All shifts, at its apex, and two turns."""
        return Held(frozen(self.apex), np.eye(3), self.axis)


@dataclass(frozen=True, eq=False)
class Torus(Axial):
    """A torus about `axis`; a step is a shift along its frame, two tilts, and changes of both radii."""

    radius: float
    minor_radius: float

    name: ClassVar[str] = "torus"
    tilts: ClassVar[slice] = slice(3, 5)
    least: ClassVar[int] = 7
    loose: ClassVar[tuple[str, str]] = ("the points do not make a torus", "Take more of it, all round")
    lengths: ClassVar[tuple[str, ...]] = ("radius", "minor_radius")

    def distances(self, points: npt.ArrayLike) -> Floats:
        """Signed distances (N,), positive outside of the tube."""
        at = Cylindrical.of(points, self.point, self.axis)
        return np.asarray(np.hypot(at.reach - self.radius, at.z) - self.minor_radius)

    def linearised(self, points: Floats) -> tuple[Floats, Floats]:
        """Distances from the circle in the middle of the tube, less the minor radius."""
        at = Cylindrical.of(points, self.point, self.axis)
        beyond = at.reach - self.radius
        size = np.maximum(np.hypot(beyond, at.z), 1e-12)
        out, up = beyond / size, at.z / size
        tilt_x, tilt_y = -out * at.z * at.out_x + up * at.x, -out * at.z * at.out_y + up * at.y
        columns = [-out * at.out_x, -out * at.out_y, -up, tilt_x, tilt_y, -out, -np.ones(len(at.z))]
        return size - self.minor_radius, np.stack(columns, axis=1)

    def stepped(self, step: Floats) -> Torus:
        """After a shift, two tilts and changes of both radii."""
        place = self.point + step[:3] @ orthonormal_frame(self.axis)
        return Torus(
            place, tilted(self.axis, step[3], step[4]), abs(self.radius + step[5]), abs(self.minor_radius + step[6])
        )
