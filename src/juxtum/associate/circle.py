"""Circle of least squares in a plane."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from juxtum.errors import FitError
from juxtum.geometry import Plane
from juxtum.geometry.arrays import Floats, frozen, orthonormal_frame

STEPS = 50


@dataclass(frozen=True, eq=False)
class CircleFit:
    """A circle and how well it is known.

    Parameters
    ----------
    centre : array (3,)
    normal : array (3,)
    radius : float
        mm.
    rms : float
        Of the radial residuals, mm.
    radius_uncertainty : float
        Standard uncertainty of the radius, mm.
    """

    centre: Floats
    normal: Floats
    radius: float
    rms: float
    radius_uncertainty: float


def fit_circle(points: Floats, plane: Plane) -> CircleFit:
    """Gauss circle of points (N, 3) brought onto a plane: an algebraic start, then Gauss-Newton on radial distances.

    Raises
    ------
    FitError
        With fewer than three points, or all of them on one line.

    Examples
    --------
    >>> angles = np.radians([0, 70, 150, 200, 290])
    >>> ring = np.column_stack([5 + 3 * np.cos(angles), 2 + 3 * np.sin(angles), np.zeros(5)])
    >>> fit = fit_circle(ring, Plane(np.zeros(3), np.array([0.0, 0, 1])))
    >>> round(fit.radius, 9), fit.centre.round(9).tolist()
    (3.0, [5.0, 2.0, 0.0])
    """
    if len(points) < 3:
        raise FitError(f"{len(points)} points do not make a circle", "circle", "Take at least three")
    frame = orthonormal_frame(plane.normal)[:2]
    middle = points.mean(0)
    flat = (points - middle) @ frame.T
    rows = np.column_stack([2 * flat, np.ones(len(flat))])
    if np.linalg.matrix_rank(rows, tol=1e-9 * max(float(np.abs(flat).max()), 1e-12)) < 3:
        raise FitError("the points lie on one line", "circle", "Take points all round")
    x, y, c = np.linalg.lstsq(rows, (flat**2).sum(1), rcond=None)[0]
    values = np.array([x, y, np.sqrt(max(c + x * x + y * y, 1e-12))])
    for _ in range(STEPS):
        offset = flat - values[:2]
        reach = np.maximum(np.linalg.norm(offset, axis=1), 1e-12)
        jacobian = np.column_stack([-offset / reach[:, None], -np.ones(len(flat))])
        step = np.linalg.lstsq(jacobian, -(reach - values[2]), rcond=None)[0]
        values = values + step
        if np.abs(step).max() < 1e-12 * max(values[2], 1):
            break
    residuals = np.linalg.norm(flat - values[:2], axis=1) - values[2]
    variance = float(residuals @ residuals) / max(len(flat) - 3, 1)
    covariance = variance * np.linalg.inv(jacobian.T @ jacobian)
    centre = middle + values[:2] @ frame
    centre = centre - float((centre - plane.point) @ plane.normal) * plane.normal
    rms = float(np.sqrt(np.mean(residuals**2)))
    return CircleFit(frozen(centre), frozen(plane.normal), float(values[2]), rms, float(np.sqrt(max(covariance[2, 2], 0.0))))
