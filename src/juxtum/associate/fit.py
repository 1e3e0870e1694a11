"""Features of least squares from points: a start of its own for each kind, then the one solver."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from juxtum.associate.seed import circle_seed, cylinder_seeds, plane_seed, sphere_seed
from juxtum.associate.solve import F, Fit, covariance_of, gauss
from juxtum.geometry.arrays import Bools, Floats
from juxtum.geometry.features import Circle, Cylinder, Plane, Sphere


def fit_plane(points: Floats, towards: Floats | None = None) -> Fit[Plane]:
    """Least-squares plane.

    Parameters
    ----------
    points : array (N, 3)
    towards : array (3,), optional
        The normal is turned to this side.

    Raises
    ------
    FitError
        With fewer than three points, or points on one line.

    Examples
    --------
    >>> fit_plane(np.array([[0, 0, 1.0], [1, 0, 1], [0, 1, 1], [1, 1, 1]]), np.array([0, 0, 1])).feature.point[2]
    np.float64(1.0)
    """
    points = np.asarray(points, dtype=np.float64)
    return gauss(plane_seed(points, towards), points)


def fit_cylinder(points: Floats, start: Cylinder | None = None) -> Fit[Cylinder]:
    """Least-squares cylinder.

    Parameters
    ----------
    points : array (N, 3)
        At least five, seen over 60 degrees or more.
    start : Cylinder, optional
        Otherwise starts are taken from the points themselves.

    Raises
    ------
    FitError
        With too few points, or when they do not bend round an axis.
    """
    points = np.asarray(points, dtype=np.float64)
    first, *others = [start] if start is not None else cylinder_seeds(points)
    return gauss(first, points, others)


def fit_sphere(points: Floats) -> Fit[Sphere]:
    """Least-squares sphere.

    Raises
    ------
    FitError
        With fewer than four points, or points in one plane.
    """
    points = np.asarray(points, dtype=np.float64)
    return gauss(sphere_seed(points), points)


def fit_circle(points: Floats, plane: Plane) -> Fit[Circle]:
    """Least-squares circle of points (N, 3) brought onto a plane.

    Raises
    ------
    FitError
        With fewer than three points, or all of them on one line.

    Examples
    --------
    >>> angles = np.radians([0, 70, 150, 200, 290])
    >>> ring = np.column_stack([5 + 3 * np.cos(angles), 2 + 3 * np.sin(angles), np.zeros(5)])
    >>> circle = fit_circle(ring, Plane(np.zeros(3), np.array([0.0, 0, 1]))).feature
    >>> round(circle.radius, 9), circle.point.round(9).tolist()
    (3.0, [5.0, 2.0, 0.0])
    """
    points = np.asarray(points, dtype=np.float64)
    flat = points - np.outer(plane.distances(points), plane.normal)
    found = gauss(circle_seed(flat, plane), flat)
    return replace(found, covariance=_within_plane(found.feature, flat))


def _within_plane(circle: Circle, flat: Floats) -> Floats:
    """Covariance (6, 6) of a circle whose plane is given: only its centre and radius come from the points."""
    residuals, jacobian = circle.linearised(flat)
    own = [0, 1, 5]
    covariance = np.zeros((6, 6))
    covariance[np.ix_(own, own)] = covariance_of(jacobian[:: circle.rows, own], residuals[:: circle.rows], flat)
    return covariance


def without_outliers(start: F, points: Floats, sigmas: float = 3.0) -> Fit[F]:
    """Fit, leave out what lies far off, and fit again.

    Parameters
    ----------
    start : Feature
        Of the kind that is wanted, near the answer.
    sigmas : float
        In robust deviations of the distances.
    """
    first = gauss(start, points)
    return gauss(first.feature, points[inliers(first.feature.distances(points), sigmas)])


def inliers(residuals: Floats, sigmas: float = 3.0) -> Bools:
    """Which residuals (N,) lie within `sigmas` robust deviations (by the median absolute deviation)."""
    centre = np.median(residuals)
    spread = 1.4826 * float(np.median(np.abs(residuals - centre)))
    return np.asarray(np.abs(residuals - centre) <= sigmas * max(spread, 1e-9))
