"""Features that hold all points: least zones, and the largest inside and the smallest outside, by sequences of linear programs."""

from __future__ import annotations

from typing import TypeVar

import numpy as np

from juxtum.errors import FitError
from juxtum.geometry.arrays import Floats, Ints, orthonormal_frame
from juxtum.geometry.features import Circle, Feature, Line, Plane

F = TypeVar("F", bound=Feature)
ROUNDS = 60
FEW, MANY = 40, 150
"""Points that are looked at in a round; those that lie farthest out are added until none lies farther."""


def signed_distances(feature: Feature, points: Floats) -> Floats:
    """Distances (N,), inside negative; of a circle within its plane, of a line without a sign."""
    if isinstance(feature, Circle):
        arms = points - feature.point
        arms = arms - np.outer(arms @ feature.axis, feature.axis)
        return np.asarray(np.linalg.norm(arms, axis=1) - feature.radius)
    return np.asarray(feature.distances(points))


def narrowed(feature: F, points: Floats) -> F:
    """Linear programs on the residuals, each about the answer of the one before, until the width no longer falls."""
    own = _own_columns(feature)
    reach = 0.2
    size = float(np.linalg.norm(np.ptp(points, axis=0))) / 2
    for _ in range(ROUNDS):
        feature = feature if isinstance(feature, Circle) else feature.anchored(points.mean(0))
        residuals, jacobian = feature.linearised(points)
        if own is not None:
            residuals, jacobian = residuals[:: feature.rows], jacobian[:: feature.rows][:, own]
        found = _least_width(residuals, jacobian, reach * size)
        if found is None:
            return feature
        step = found if own is None else np.zeros(6)
        if own is not None:
            step[own] = found
        after = feature.stepped(step)
        if np.abs(signed_distances(after, points)).max() < np.abs(signed_distances(feature, points)).max():
            feature = after
        else:
            reach /= 4
        if reach < 1e-12:
            break
    return feature


def _least_width(residuals: Floats, jacobian: Floats, bound: float) -> Floats | None:
    """The step (P,) after which the largest residual (N,) is least, as far as they change in proportion to it; None without one.

    Only residuals that stand out are looked at; those that stand out after the step are added until none does.
    """
    from scipy.optimize import linprog

    count, goal = jacobian.shape[1], np.r_[np.zeros(jacobian.shape[1]), 1.0]
    bounds = [(-bound, bound)] * count + [(0, None)]
    rows = _outermost(residuals, MANY)
    for _ in range(ROUNDS):
        ones = np.ones((len(rows), 1))
        matrix = np.block([[jacobian[rows], -ones], [-jacobian[rows], -ones]])
        found = linprog(goal, matrix, np.r_[-residuals[rows], residuals[rows]], bounds=bounds, method="highs")
        if found.status != 0:
            return None
        step = np.asarray(found.x[:count])
        after = residuals + jacobian @ step
        if np.abs(after).max() <= found.x[count] * (1 + 1e-12) + 1e-15:
            return step
        more = np.setdiff1d(_outermost(after, FEW), rows)
        if len(more) == 0:
            return step
        rows = np.union1d(rows, more)
    return step


def _farthest(goal: Floats, matrix: Floats, room: Floats, bounds: list[tuple[float, float]]) -> Floats | None:
    """The step that goes farthest towards a goal within all rows (N,); only the tightest are looked at, and those it breaks."""
    from scipy.optimize import linprog

    rows = np.argsort(room)[:MANY]
    step = np.zeros(len(goal))
    for _ in range(ROUNDS):
        found = linprog(goal, matrix[rows], room[rows], bounds=bounds, method="highs")
        if found.status != 0:
            return None
        step = np.asarray(found.x)
        left = room - matrix @ step
        broken = np.flatnonzero(left < -1e-13)
        more = np.setdiff1d(broken[np.argsort(left[broken])][:MANY], rows)
        if len(more) == 0:
            return step
        rows = np.union1d(rows, more)
    return step


def _outermost(values: Floats, count: int) -> Ints:
    """Rows of the largest and of the smallest values (N,), so many of each."""
    if len(values) <= 2 * count:
        return np.arange(len(values))
    order = np.argpartition(values, (count, len(values) - count))
    return np.union1d(order[:count], order[-count:])


def _own_columns(feature: Feature) -> list[int] | None:
    """Of a circle its plane stays: only centre and radius are looked for."""
    return [0, 1, 5] if isinstance(feature, Circle) else None


def mating(feature: F, points: Floats, *, inside: bool) -> F:
    """The largest feature that no point lies inside of, or the smallest that no point lies outside of, near a start.

    Parameters
    ----------
    feature : Feature
        With a radius that comes last in a step: circle (in its plane), cylinder or sphere.
    points : array (N, 3)

    Raises
    ------
    FitError
        When the points lie to one side only, so that the largest inside has no end.

    Examples
    --------
    >>> from juxtum.geometry import Cylinder
    >>> turn = np.arange(40.0)
    >>> wall = np.column_stack([(3 + 0.1 * (turn % 2)) * np.cos(turn), (3 + 0.1 * (turn % 2)) * np.sin(turn), turn % 5])
    >>> start = Cylinder(np.zeros(3), np.array([0, 0, 1]), 3.0)
    >>> round(mating(start, wall, inside=True).radius, 3), round(mating(start, wall, inside=False).radius, 3)
    (3.0, 3.1)
    """
    own, sign = _own_columns(feature), 1.0 if inside else -1.0
    size = float(np.linalg.norm(np.ptp(points, axis=0))) / 2
    begun = float(getattr(feature, "radius"))  # noqa: B009
    reach, best = 0.2 * begun, _fitting_radius(feature, points, inside)
    for _ in range(ROUNDS):
        residuals, jacobian = best.linearised(points)
        if own is not None:
            residuals, jacobian = residuals[:: best.rows], jacobian[:: best.rows][:, own]
        count = jacobian.shape[1]
        bounds = [(-reach, reach)] * count
        turned = [k for k in range(count - 1) if own is None and count > 4 and k in (2, 3)]
        for k in turned:
            bounds[k] = (-reach / size, reach / size)
        goal = np.zeros(count)
        goal[-1] = -sign
        found = _farthest(goal, -sign * jacobian, sign * residuals, bounds)
        step = np.zeros(6 if own is not None else count)
        if found is not None:
            step[own if own is not None else slice(None)] = found
        after = _fitting_radius(best.stepped(step), points, inside)
        if sign * (after.radius - best.radius) > 1e-13:  # type: ignore[attr-defined]
            best = after
        else:
            reach /= 4
        if reach < 1e-10 * size:
            break
        if best.radius > 1.5 * begun:  # type: ignore[attr-defined]
            raise FitError("the points lie to one side only", next="Take points all round")
    return best


def _fitting_radius(feature: F, points: Floats, inside: bool) -> F:
    """With the radius at which the nearest (or the farthest) point touches."""
    from dataclasses import replace

    signed = signed_distances(feature, points)
    radius = feature.radius + float(signed.min() if inside else signed.max())  # type: ignore[attr-defined]
    return replace(feature, radius=max(radius, 1e-9))  # type: ignore[call-arg]


def narrowest_line(start: Line, points: Floats) -> tuple[Line, float]:
    """The axis of the narrowest cylinder that holds all points, and its diameter, mm.

    Distances from an axis are convex in its offsets and, for small tilts, in these; a sequence of programs over the
    points farthest out, to which those that stand out are added.

    Parameters
    ----------
    start : Line
        Of least squares.
    """
    from scipy.optimize import minimize

    line = start.anchored(points.mean(0))
    size = max(float(np.abs((points - line.point) @ line.axis).max()), 1e-12)
    chosen: Ints = np.argsort(-line.distances(points))[:FEW]
    for _ in range(ROUNDS):
        frame = orthonormal_frame(line.axis)
        x, y, z = ((points - line.point) @ frame.T).T
        unit = max(float(np.hypot(x, y).max()), 1e-15)
        flat, along = np.column_stack([x, y])[chosen] / unit, z[chosen] / size

        def over(p: Floats, flat: Floats = flat, along: Floats = along) -> Floats:
            off = flat - p[:2] - along[:, None] * p[2:4]
            return np.asarray(p[4] - np.einsum("ij,ij->i", off, off))

        def slope(p: Floats, flat: Floats = flat, along: Floats = along) -> Floats:
            off = flat - p[:2] - along[:, None] * p[2:4]
            return np.column_stack([2 * off, 2 * along[:, None] * off, np.ones(len(off))])

        found = minimize(
            lambda p: p[4], np.r_[np.zeros(4), 1.0], jac=lambda p: np.array([0.0, 0, 0, 0, 1]), method="SLSQP",
            constraints={"type": "ineq", "fun": over, "jac": slope}, options={"ftol": 1e-16, "maxiter": 300},
        )  # fmt: skip
        step = np.r_[found.x[:2] * unit, found.x[2:4] * unit / size]
        after = line.stepped(step)
        if after.distances(points).max() >= line.distances(points).max() - 1e-14 * size:
            grown = np.union1d(chosen, np.argsort(-after.distances(points))[:FEW])
            if len(grown) == len(chosen):
                break
            chosen = grown
            continue
        line = after.anchored(points.mean(0))
        chosen = np.union1d(chosen, np.argsort(-line.distances(points))[:FEW])
    return line, 2 * float(line.distances(points).max())


def contacting_plane(points: Floats, outward: Floats) -> Plane:
    """The plane that touches points from outside with the least total distance, as a part stands on a table (ISO 5459).

    With all points on one side and the least sum of distances, their middle lies over the places that touch.

    Parameters
    ----------
    points : array (N, 3)
    outward : array (3,)
        Out of the material; the normal of the plane.
    """
    from scipy.optimize import linprog
    from scipy.spatial import ConvexHull, QhullError

    u, v, n = orthonormal_frame(outward)
    centre = points.mean(0)
    x, y, z = ((points - centre) @ np.stack([u, v, n]).T).T
    rows = np.column_stack([np.ones(len(x)), x, y])
    bearing = np.arange(len(x))
    try:
        bearing = ConvexHull(np.column_stack([x, y, z])).vertices
    except QhullError:
        pass
    found = linprog(rows.mean(0), -rows[bearing], -z[bearing], bounds=[(None, None)] * 3, method="highs")
    offset, a, b = found.x if found.status == 0 else (float(z.max()), 0.0, 0.0)
    normal = n - a * u - b * v
    return Plane(centre + offset * n, normal / np.linalg.norm(normal))
