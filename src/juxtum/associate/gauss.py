"""Total least squares (Gauss) association of planes and cylinders."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from juxtum.associate.clusters import clustered_covariance
from juxtum.errors import FitError
from juxtum.geometry import Cylinder, Plane
from juxtum.geometry.arrays import Bools, Floats, orthonormal_frame, unit

CORRELATION_LENGTH = 1.0
"""Neighbouring points of one scan closer than this, mm, are taken to share their errors."""


@dataclass(frozen=True, eq=False)
class PlaneFit:
    """A fitted plane.

    Parameters
    ----------
    plane : Plane
        Through the centre of the points.
    count : int
        Points used.
    rms : float
        Root mean square of the orthogonal distances, mm.
    form : float
        Peak to valley, mm.
    covariance : array (3, 3)
        Of the offset along the normal at the plane's point (mm2), and of the parts of the normal along `across` (rad2).
    across : array (2, 3)
        The long and the short axis of the points.
    """

    plane: Plane
    count: int
    rms: float
    form: float
    covariance: Floats
    across: Floats


@dataclass(frozen=True, eq=False)
class CylinderFit:
    """A fitted cylinder.

    Parameters
    ----------
    cylinder : Cylinder
        Its point is the one on the axis at the middle of the data.
    count : int
    rms, form : float
        mm.
    covariance : array (5, 5)
        Of the offsets along the two rows of `across` (mm), the parts of the axis along its second and, turned round,
        its first row (rad), and the radius (mm).
    across : array (2, 3)
        Two directions across the axis.
    seen_angle : float
        Degrees of the circumference with data.
    """

    cylinder: Cylinder
    count: int
    rms: float
    form: float
    covariance: Floats
    across: Floats
    seen_angle: float


def effective_count(count: int, area: float, length: float = CORRELATION_LENGTH) -> float:
    """How many independent points a patch of `area` mm2 with `count` points is worth."""
    return float(max(min(count, area / length**2), 1.0))


def fit_plane(points: Floats, towards: Floats | None = None) -> PlaneFit:
    """Least-squares plane by the singular values of the centred points (closed form).

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
    >>> fit_plane(np.array([[0, 0, 1.0], [1, 0, 1], [0, 1, 1], [1, 1, 1]]), np.array([0, 0, 1])).plane.point[2]
    np.float64(1.0)
    """
    points = np.asarray(points, dtype=np.float64)
    if len(points) < 3:
        raise FitError(f"{len(points)} points do not make a plane", next="Give at least three")
    centre = points.mean(0)
    _, values, rows = np.linalg.svd(points - centre, full_matrices=False)
    if values[1] < 1e-9 * max(values[0], 1e-12):
        raise FitError("the points lie on one line and do not make a plane", next="Add points to the side of it")
    normal = rows[2] if len(rows) > 2 else np.cross(rows[0], rows[1])
    if towards is not None and normal @ towards < 0:
        normal = -normal
    residuals = (points - centre) @ normal
    area = 12 * values[0] * values[1] / len(points)
    share = len(points) / effective_count(len(points), area)
    # Distances fall with the plane's offset, and change with a tilt in proportion to the way along it.
    jacobian = np.column_stack([-np.ones(len(points)), (points - centre) @ rows[:2].T])
    covariance = clustered_covariance(jacobian, residuals, points, share)
    rms = float(np.sqrt(np.mean(residuals**2)))
    return PlaneFit(Plane(centre, normal), len(points), rms, float(np.ptp(residuals)), covariance, rows[:2])


def plane_through(points: Floats) -> Plane:
    """The least-squares plane alone, by the second moments of the points: quick, and as right as a search needs it.

    Raises
    ------
    FitError
        With fewer than three points.
    """
    if len(points) < 3:
        raise FitError(f"{len(points)} points do not make a plane", next="Give at least three")
    centre = points.mean(0)
    local = points - centre
    return Plane(centre, np.linalg.eigh(local.T @ local)[1][:, 0])


def fit_cylinder(points: Floats, start: Cylinder | None = None) -> CylinderFit:
    """Least-squares cylinder: Levenberg-Marquardt on five parameters with data centred and scaled.

    Parameters
    ----------
    points : array (N, 3)
        At least five, seen over 60 degrees or more.
    start : Cylinder, optional
        Otherwise an algebraic start is taken from the points themselves.

    Raises
    ------
    FitError
        With too few points, or when they do not bend round an axis.
    """
    points = np.asarray(points, dtype=np.float64)
    if len(points) < 5:
        raise FitError(f"{len(points)} points do not make a cylinder", next="Give at least five")
    centre = points.mean(0)
    scale = float(np.sqrt(((points - centre) ** 2).sum(1).mean())) or 1.0
    local = (points - centre) / scale
    starts = [_local_start(start, centre, scale)] if start is not None else _algebraic_starts(local)
    best = min((_iterate(local, *s) for s in starts), key=lambda found: found[2])
    frame, offsets, cost, radius = best
    jacobian = _jacobian(local, frame, offsets)[1]
    values = np.linalg.svd(jacobian / np.sqrt(len(local)), compute_uv=False)
    if not np.isfinite(cost) or values[-1] < 1e-7 or radius > 1e4:
        raise FitError("the points do not bend round an axis", next="Take more of the wall")
    return _cylinder_result(points, centre, scale, best, jacobian)


def _local_start(start: Cylinder, centre: Floats, scale: float) -> tuple[Floats, Floats]:
    frame = orthonormal_frame(start.axis)
    offset = (start.point - centre) / scale
    return frame, np.array([offset @ frame[0], offset @ frame[1], start.radius / scale])


def _algebraic_starts(local: Floats) -> list[tuple[Floats, Floats]]:
    """Axis directions on a half sphere, each with the circle fitted to the points seen along it; the best few."""
    count = 60
    k = np.arange(count) + 0.5
    rise, turn = 1 - k / count, 2.399963229728653 * k
    flat = np.sqrt(1 - rise**2)
    directions = np.stack([flat * np.cos(turn), flat * np.sin(turn), rise], axis=1)
    some = local[:: max(1, len(local) // 500)]
    starts = [_circle_start(some, direction) for direction in directions]
    starts.sort(key=lambda found: found[2])
    return [(frame, offsets) for frame, offsets, _ in starts[:6]]


def _circle_start(local: Floats, direction: Floats) -> tuple[Floats, Floats, float]:
    frame = orthonormal_frame(direction)
    x, y = local @ frame[0], local @ frame[1]
    matrix = np.stack([2 * x, 2 * y, np.ones(len(x))], axis=1)
    a, b, c = np.linalg.lstsq(matrix, x * x + y * y, rcond=None)[0]
    radius = float(np.sqrt(max(c + a * a + b * b, 1e-12)))
    cost = float(np.mean((np.hypot(x - a, y - b) - radius) ** 2))
    return frame, np.array([a, b, radius]), cost


def _jacobian(local: Floats, frame: Floats, offsets: Floats) -> tuple[Floats, Floats]:
    """Residuals (N,) and derivatives (N, 5) for two offsets, two tilts and the radius."""
    p = local @ frame.T
    dx, dy = p[:, 0] - offsets[0], p[:, 1] - offsets[1]
    r = np.maximum(np.hypot(dx, dy), 1e-12)
    ux, uy, z = dx / r, dy / r, p[:, 2]
    return r - offsets[2], np.stack([-ux, -uy, z * uy, -z * ux, -np.ones(len(r))], axis=1)


def _iterate(local: Floats, frame: Floats, offsets: Floats) -> tuple[Floats, Floats, float, float]:
    from juxtum.geometry.transform import rotation_from_vector

    damping = 1e-3
    residuals, jacobian = _jacobian(local, frame, offsets)
    cost = float(residuals @ residuals)
    for _ in range(200):
        normal, gradient = jacobian.T @ jacobian, jacobian.T @ residuals
        step = -np.linalg.solve(normal + damping * np.diag(np.diag(normal) + 1e-12), gradient)
        turned = rotation_from_vector(np.array([-step[2], -step[3], 0.0])) @ frame
        moved = offsets + np.array([step[0], step[1], step[4]])
        new_residuals, new_jacobian = _jacobian(local, turned, moved)
        new_cost = float(new_residuals @ new_residuals)
        if new_cost <= cost:
            frame, offsets, residuals, jacobian = turned, moved, new_residuals, new_jacobian
            done = float(np.abs(step).max()) < 1e-12
            cost, damping = new_cost, max(damping / 10, 1e-12)
            if done:
                break
        else:
            damping *= 10
            if damping > 1e10:
                break
    return frame, offsets, cost, float(abs(offsets[2]))


def _cylinder_result(
    points: Floats, centre: Floats, scale: float, found: tuple[Floats, Floats, float, float], jacobian: Floats
) -> CylinderFit:
    frame, offsets, _, radius = found
    place = centre + scale * (offsets[0] * frame[0] + offsets[1] * frame[1])
    axis = unit(frame[2])
    cylinder = Cylinder(place, axis * np.sign(axis[int(np.argmax(np.abs(axis)))]), radius * scale)
    residuals = cylinder.distances(points)
    angles = np.sort(np.arctan2((points - place) @ frame[1], (points - place) @ frame[0]))
    gaps = np.diff(np.r_[angles, angles[0] + 2 * np.pi])
    seen = 360.0 - float(np.degrees(gaps[gaps > np.radians(5)].sum()))
    length = float(np.ptp((points - centre) @ axis))
    area = np.radians(seen) * radius * scale * max(length, CORRELATION_LENGTH)
    share = len(points) / effective_count(len(points), area)
    units = np.array([1, 1, scale, scale, 1.0])
    covariance = clustered_covariance(jacobian * units, residuals, points, share)
    rms = float(np.sqrt(np.mean(residuals**2)))
    return CylinderFit(cylinder, len(points), rms, float(np.ptp(residuals)), covariance, frame[:2], seen)


def inliers(residuals: Floats, sigmas: float = 3.0) -> Bools:
    """Which residuals (N,) lie within `sigmas` robust deviations (by the median absolute deviation)."""
    centre = np.median(residuals)
    spread = 1.4826 * float(np.median(np.abs(residuals - centre)))
    return np.asarray(np.abs(residuals - centre) <= sigmas * max(spread, 1e-9))
