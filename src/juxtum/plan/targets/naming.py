"""Faces named by where they are, as somebody with the part in hand would say it, and how many targets each gets."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from juxtum.geometry.arrays import Floats
from juxtum.nominal import Nominal
from juxtum.plan.targets.targets import Target

SIDES = (("left", "right"), ("front", "back"), ("down", "up"))
"""Which way a face looks, along X, Y and Z of the drawing."""
PLACES = (("left", "right"), ("front", "back"), ("low", "high"))
"""Where on the part it is, in its outer thirds along X, Y and Z."""
SQUARE = 0.85
"""Cosine from which a face looks along one axis."""
ROUND = 0.3
"""A face whose normals cancel each other to less than this goes round."""


@dataclass(frozen=True)
class FaceCount:
    """A face with its targets: how many, in words where it is, and their numbers in the order of sticking."""

    face: int
    words: str
    numbers: tuple[int, ...]


def face_counts(nominal: Nominal, targets: tuple[Target, ...]) -> tuple[FaceCount, ...]:
    """The faces that get targets, in the order in which the first of each is stuck."""
    by_face: dict[int, list[int]] = {}
    for number, target in enumerate(targets, 1):
        by_face.setdefault(target.face, []).append(number)
    return tuple(FaceCount(face, face_words(nominal, face), tuple(numbers)) for face, numbers in by_face.items())


def face_words(nominal: Nominal, face: int) -> str:
    """A face by which way it looks, how far along that way it lies, and where on the part.

    Parameters
    ----------
    face : int
        Its number; 0 for the table.
    """
    if face == 0:
        return "on the table beside the part"
    mesh = nominal.face_mesh((face,))
    mean = mesh.triangle_areas @ mesh.triangle_normals / mesh.triangle_areas.sum()
    middle = np.average(mesh.corners.mean(1), axis=0, weights=mesh.triangle_areas)
    axis = int(np.argmax(np.abs(mean)))
    if np.linalg.norm(mean) < ROUND:
        return ", ".join(("all round", *_where(nominal, middle, None)))
    if abs(mean[axis]) < SQUARE:
        ways = [SIDES[k][int(mean[k] > 0)] for k in np.argsort(-np.abs(mean)) if abs(mean[k]) > ROUND]
        return ", ".join((f"facing {' and '.join(ways)}", *_where(nominal, middle, None)))
    level = f"at {'XYZ'[axis]} {middle[axis]:.0f}".replace("-", "\u2212")
    return ", ".join((f"facing {SIDES[axis][int(mean[axis] > 0)]} {level}", *_where(nominal, middle, axis)))


def _where(nominal: Nominal, middle: Floats, looks_along: int | None) -> list[str]:
    """In which outer thirds of the part a place lies; nothing along the axis that the face looks along."""
    low, high = nominal.mesh.bounds
    share = (middle - low) / np.maximum(high - low, 1e-9)
    words = [PLACES[k][int(share[k] > 0.5)] for k in range(3) if k != looks_along and not 1 / 3 < share[k] < 2 / 3]
    return [" ".join(words)] if words else ["in the middle"]
