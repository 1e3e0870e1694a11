"""The photographer's walk: is this photo enough, and which targets still lack rays or angle?"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from juxtum.geometry.arrays import Bools, Floats, unit
from juxtum.instruments.models import Camera

LEAST_RAYS = 4
LEAST_ANGLE = 40.0
SHARED_CODES = 3


@dataclass(frozen=True)
class PhotoVerdict:
    """Whether a photo is enough.

    Parameters
    ----------
    is_enough : bool
    targets, codes : int
        In the picture.
    shared : int
        Codes in it that an earlier photo shows too.
    angle : float
        Median angle at which its targets are seen, degrees from their normals.
    words : str
    """

    is_enough: bool
    targets: int
    codes: int
    shared: int
    angle: float
    words: str


def check_photo(camera: Camera, seen: Bools, earlier: Bools, codes: int, angles: Floats) -> PhotoVerdict:
    """Judge one photo as it is taken.

    Parameters
    ----------
    seen : array (T,)
        Targets in the picture.
    earlier : array (N, T)
        Targets in the photos before it.
    codes : int
        The first so many targets are coded.
    angles : array (T,)
        At which each target is seen, degrees.
    """
    targets, coded = int(seen.sum()), int(seen[:codes].sum())
    shared = int((earlier.any(0) & seen)[:codes].sum()) if len(earlier) else coded
    angle = float(np.median(angles[seen])) if targets else 90.0
    lacks = []
    if targets < camera.least_targets:
        lacks.append(f"{camera.least_targets - targets} targets short")
    if coded < camera.least_codes:
        lacks.append(f"{camera.least_codes - coded} codes short")
    if shared < SHARED_CODES:
        lacks.append(f"only {shared} codes shared with earlier photos")
    if angle > camera.incidence:
        lacks.append(f"seen too flat, {angle:.0f}\u00b0")
    words = "not enough: " + ", ".join(lacks) if lacks else "enough"
    return PhotoVerdict(not lacks, targets, coded, shared, angle, words)


def check_walk(camera: Camera, seen: Bools, codes: int, angles: Floats) -> tuple[PhotoVerdict, ...]:
    """All photos of a walk in their order; `seen` and `angles` are (M, T)."""
    return tuple(check_photo(camera, seen[k], seen[:k], codes, angles[k]) for k in range(len(seen)))


@dataclass(frozen=True)
class TargetRays:
    """One target in a walk: how many photos show it and the largest angle between its rays, degrees."""

    number: int
    rays: int
    angle: float

    @property
    def is_enough(self) -> bool:
        """Whether the adjustment can place it well."""
        return self.rays >= LEAST_RAYS and self.angle >= LEAST_ANGLE


def target_table(points: Floats, eyes: Floats, seen: Bools) -> tuple[TargetRays, ...]:
    """Every target by its number, rays and largest angle."""
    angles = largest_angles(points, eyes, seen)
    return tuple(TargetRays(k + 1, int(seen[:, k].sum()), float(angles[k])) for k in range(len(points)))


def largest_angles(points: Floats, eyes: Floats, seen: Bools) -> Floats:
    """Largest angle (T,) between two rays to each target, degrees."""
    result = np.zeros(len(points))
    for k, point in enumerate(points):
        rays = unit(eyes[seen[:, k]] - point)
        if len(rays) > 1:
            result[k] = np.degrees(np.arccos(np.clip((rays @ rays.T).min(), -1, 1)))
    return result


def incidences(points: Floats, normals: Floats, eyes: Floats) -> Floats:
    """Angles (M, T) between targets' normals and the lines to the cameras, degrees."""
    towards = unit(eyes[:, None] - points[None])
    return np.asarray(np.degrees(np.arccos(np.clip(np.einsum("mtd,td->mt", towards, normals), -1, 1))))
