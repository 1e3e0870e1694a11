"""Where a fit may start: features from points alone, in closed form or the best of many directions."""

from __future__ import annotations

import numpy as np

from juxtum.errors import FitError
from juxtum.geometry.arrays import Floats, even_directions, orthonormal_frame
from juxtum.geometry.features import Circle, Cylinder, Plane, Sphere

DIRECTIONS = 60
FEW = 500
"""So many points are enough to choose between directions."""
BEST = 6


def plane_seed(points: Floats, towards: Floats | None = None) -> Plane:
    """The plane of least squares by the singular values of the centred points, which is the answer already.

    Parameters
    ----------
    towards : array (3,), optional
        The normal is turned to this side.
    """
    _enough(points, Plane.least, Plane.name)
    centre = points.mean(0)
    _, values, rows = np.linalg.svd(points - centre, full_matrices=False)
    if values[1] < 1e-9 * max(values[0], 1e-12):
        raise FitError(Plane.loose[0], next=Plane.loose[1])
    normal = rows[2] if len(rows) > 2 else np.cross(rows[0], rows[1])
    return Plane(centre, -normal if towards is not None and normal @ towards < 0 else normal)


def plane_through(points: Floats) -> Plane:
    """The least-squares plane alone, by the second moments of the points: quick, and as right as a search needs it.

    Raises
    ------
    FitError
        With fewer than three points.
    """
    _enough(points, Plane.least, Plane.name)
    centre = points.mean(0)
    local = points - centre
    return Plane(centre, np.linalg.eigh(local.T @ local)[1][:, 0])


def sphere_seed(points: Floats) -> Sphere:
    """Algebraic sphere: squares of distances are linear in its centre."""
    _enough(points, Sphere.least, Sphere.name)
    centre = points.mean(0)
    local = points - centre
    rows = np.column_stack([2 * local, np.ones(len(local))])
    if np.linalg.matrix_rank(rows, tol=1e-9 * max(float(np.abs(local).max()), 1e-12)) < 4:
        raise FitError(Sphere.loose[0], next=Sphere.loose[1])
    *place, c = np.linalg.lstsq(rows, (local**2).sum(1), rcond=None)[0]
    place = np.array(place)
    return Sphere(centre + place, float(np.sqrt(max(c + place @ place, 1e-12))))


def circle_seed(points: Floats, plane: Plane) -> Circle:
    """Algebraic circle of points brought onto a plane."""
    _enough(points, Circle.least, Circle.name)
    frame = orthonormal_frame(plane.normal)[:2]
    middle = points.mean(0)
    flat = (points - middle) @ frame.T
    rows = np.column_stack([2 * flat, np.ones(len(flat))])
    if np.linalg.matrix_rank(rows, tol=1e-9 * max(float(np.abs(flat).max()), 1e-12)) < 3:
        raise FitError(Circle.loose[0], next=Circle.loose[1])
    x, y, c = np.linalg.lstsq(rows, (flat**2).sum(1), rcond=None)[0]
    centre = middle + x * frame[0] + y * frame[1]
    centre = centre - float((centre - plane.point) @ plane.normal) * plane.normal
    return Circle(centre, plane.normal, float(np.sqrt(max(c + x * x + y * y, 1e-12))))


def cylinder_seeds(points: Floats) -> list[Cylinder]:
    """Axis directions on a half sphere, each with the circle of the points seen along it; the likeliest few."""
    _enough(points, Cylinder.least, Cylinder.name)
    centre = points.mean(0)
    some = (points - centre)[:: max(1, len(points) // FEW)]
    axes = even_directions(2 * DIRECTIONS)[:DIRECTIONS]
    missed, places, radii = _seen_along(some, axes)
    best = np.argsort(missed, kind="stable")[:BEST]
    return [Cylinder(centre + places[k], axes[k], float(radii[k])) for k in best]


def _seen_along(local: Floats, axes: Floats) -> tuple[Floats, Floats, Floats]:
    """The algebraic circles of points (N, 3) seen along axes (K, 3): what they miss them by (K,), centres (K, 3), radii (K,)."""
    frames = np.stack([orthonormal_frame(axis)[:2] for axis in axes])
    x, y = np.moveaxis(frames @ local.T, 1, 0)
    rows = np.stack([2 * x, 2 * y, np.ones_like(x)], axis=1)
    squares = rows @ rows.transpose(0, 2, 1)
    found = np.linalg.pinv(squares, rcond=1e-12, hermitian=True) @ (rows @ (x * x + y * y)[:, :, None])
    a, b, c = found[:, 0], found[:, 1], found[:, 2]
    radii = np.sqrt(np.maximum(c + a * a + b * b, 1e-12))
    missed = np.mean((np.hypot(x - a, y - b) - radii) ** 2, axis=1)
    return missed, a * frames[:, 0] + b * frames[:, 1], radii[:, 0]


def _enough(points: Floats, least: int, name: str) -> None:
    if len(points) < least:
        raise FitError(f"{len(points)} points do not make a {name}", next=f"Give at least {least}")
