"""What is to be measured, as planning sees it."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from juxtum.errors import InputError
from juxtum.evaluate import Aim, Environment
from juxtum.geometry.arrays import Floats, Ints
from juxtum.geometry.features import Plane
from juxtum.instruments.materials import Material
from juxtum.nominal import Nominal, faces_mask

UNKNOWN_DENSITY, UNKNOWN_CAPACITY = 7.2, 500.0
"""Of a metal, while nobody said which."""


@dataclass(frozen=True)
class Task:
    """All characteristics, the datum features and the room.

    Parameters
    ----------
    aims : tuple of Aim
    datums : tuple of int
        Faces of the datum system; empty for a best fit to the whole part.
    environment : Environment
    material : Material, optional
        Of the part; while nobody chose one its mass counts as that of cast iron.
    """

    aims: tuple[Aim, ...]
    datums: tuple[int, ...] = ()
    environment: Environment = field(default_factory=Environment)
    material: Material | None = None

    @property
    def density(self) -> float:
        """Of the material, g/cm3."""
        return self.material.density if self.material is not None else UNKNOWN_DENSITY

    @property
    def capacity(self) -> float:
        """Specific heat of the material, J per kg and kelvin."""
        return self.material.capacity if self.material is not None else UNKNOWN_CAPACITY

    def check(self, nominal: Nominal) -> None:
        """See that there is something to measure and that all faces exist.

        Raises
        ------
        InputError
        """
        if not self.aims:
            raise InputError(
                "there is nothing to measure: the drawing has no characteristic", "plan", "Add one in Brief"
            )
        for number in {n for aim in self.aims for n in aim.faces} | set(self.datums):
            nominal.face(number)

    @property
    def own_faces(self) -> tuple[int, ...]:
        """Faces with a characteristic of their own, without those of the whole part."""
        return tuple(sorted({n for aim in self.aims for n in aim.faces}))

    def measured_faces(self, nominal: Nominal) -> tuple[int, ...]:
        """All faces that must be scanned, datums included."""
        if any(not aim.faces for aim in self.aims):
            return tuple(face.number for face in nominal.faces)
        return tuple(sorted(set(self.own_faces) | set(self.datums)))

    def centre(self, nominal: Nominal) -> Floats:
        """Where lengths start (3,): the middle of the datums, or of the part."""
        if not self.datums:
            return nominal.centre
        faces = [nominal.face(n) for n in self.datums]
        return np.asarray(np.mean([face.centre for face in faces], axis=0))

    def ends(self, nominal: Nominal, aim: Aim) -> tuple[Floats, Floats]:
        """Two places (3,), from the one to the other of which a characteristic is measured.

        From the middle of the datums to its farthest place; a form from one end of its faces to the other.
        """
        points = points_of(nominal, aim.faces)
        start = points[_farthest(points, points.mean(0))] if aim.within else self.centre(nominal)
        return start, points[_farthest(points, start)]

    def length(self, nominal: Nominal, aim: Aim) -> float:
        """Longest distance over which a characteristic is measured, mm."""
        start, end = self.ends(nominal, aim)
        return float(np.linalg.norm(end - start))

    def mass(self, nominal: Nominal) -> float:
        """Of the part, kg; NaN when the nominal is not closed."""
        return nominal.volume * self.density * 1e-6


def _farthest(points: Floats, place: Floats) -> int:
    return int(np.argmax(np.linalg.norm(points - place, axis=1)))


def whole_part(lower: float, upper: float) -> Task:
    """The task when nothing is known of the drawing: the profile of the whole part."""
    return Task((Aim("1", "Profile of the whole part", upper - lower),))


def rows_of(nominal: Nominal, faces: tuple[int, ...]) -> Ints:
    """Triangles of the tessellation on some faces, or all of them."""
    if not faces:
        return np.arange(len(nominal.triangle_faces))
    return np.flatnonzero(faces_mask(nominal.triangle_faces, faces))


def ways_of(nominal: Nominal, aim: Aim) -> int:
    """In how many ways across each other a characteristic may lie off, by the kind of its faces."""
    is_flat = all(isinstance(nominal.face(number).feature, Plane) for number in aim.faces)
    return aim.ways[is_flat]


def points_of(nominal: Nominal, faces: tuple[int, ...]) -> Floats:
    """Points of the tessellation (N, 3) on some faces, or all of them."""
    if not faces:
        return nominal.mesh.points
    return np.asarray(nominal.mesh.points[np.unique(nominal.mesh.triangles[rows_of(nominal, faces)])])


def area_of(nominal: Nominal, faces: tuple[int, ...]) -> float:
    """Area of some faces, or of all of them, mm2."""
    return float(sum(nominal.face(n).area for n in faces)) if faces else nominal.area
