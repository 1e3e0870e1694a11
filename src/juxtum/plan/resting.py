"""How a part rests when it is laid down: on which faces, whether it stands by itself, how high its weight is."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from juxtum.geometry.arrays import Floats
from juxtum.nominal import Nominal

DOWN = 0.95
"""Cosine from which a face looks straight down."""
FLAT = 0.01
"""Of the part's height: so near to the lowest point a face carries it."""
BY_HAND = 15.0
"""A part heavier than this, kg, is not lifted by one person."""
SURE = 0.05
"""The middle of its weight lies at least so far inside of what carries a part that stands by itself, of that's width."""


@dataclass(frozen=True, eq=False)
class Rest:
    """A part on a table.

    Parameters
    ----------
    faces : tuple of int
        Numbers of the faces that carry it, the largest first; none where it stands on edges or points.
    stands : bool
        Whether it stays as it is when it is let go.
    height : float
        Of the middle of its weight above the table, mm; nan for an open part.
    """

    faces: tuple[int, ...]
    stands: bool
    height: float


def centre_of_mass(nominal: Nominal) -> Floats:
    """Middle of the weight of a part of one material (3,), mm; nan where its surface is not closed."""
    if not np.isfinite(nominal.volume):
        return np.full(3, np.nan)
    a, b, c = np.moveaxis(nominal.mesh.corners - nominal.centre, 1, 0)
    pieces = np.einsum("ij,ij->i", a, np.cross(b, c)) / 6
    return np.asarray(nominal.centre + (pieces[:, None] * (a + b + c) / 4).sum(0) / pieces.sum())


def rest_of(nominal: Nominal, turned: Floats) -> Rest:
    """How a part rests that is turned by a rotation (3, 3) before it is laid down."""
    samples = nominal.samples
    up = np.asarray(turned)[2]
    heights, level = samples.centres @ up, nominal.mesh.points @ up
    low, span = float(level.min()), float(np.ptp(level))
    near = np.abs(heights - low) < FLAT * max(span, 1e-9) + 1e-9
    carries = near & (samples.mesh.triangle_normals @ -up > DOWN)
    areas = np.bincount(samples.faces[carries], samples.mesh.triangle_areas[carries]) if carries.any() else np.zeros(0)
    faces = tuple(int(f) + 1 for f in np.argsort(-areas, kind="stable") if areas[f] > 0)
    feet = nominal.mesh.points[np.abs(level - low) < FLAT * max(span, 1e-9) + 1e-9]
    middle = centre_of_mass(nominal)
    known = middle if np.isfinite(middle).all() else nominal.centre
    height = float(middle @ up - low)
    return Rest(faces, _holds(feet @ np.asarray(turned)[:2].T, np.asarray(turned)[:2] @ known), height)


def _holds(feet: Floats, middle: Floats) -> bool:
    """Whether a place (2,) lies well inside of the outline of feet (N, 2)."""
    from scipy.spatial import ConvexHull, QhullError

    if len(feet) < 3:
        return False
    try:
        hull = ConvexHull(feet)
    except QhullError:
        return False
    inside = -(hull.equations[:, :2] @ middle + hull.equations[:, 2])
    return bool(inside.min() > SURE * float(np.ptp(feet, axis=0).min()))
