"""Features from bare points, without any start being given: for scripts, and to be held against references."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np

from juxtum.associate.fit import fit_circle, fit_cylinder, fit_plane, fit_sphere
from juxtum.associate.seed import circle_seed, cylinder_seeds, plane_seed
from juxtum.associate.solve import Fit, gauss
from juxtum.associate.zones import mating, narrowed, narrowest_line, signed_distances
from juxtum.errors import FitError, InputError
from juxtum.geometry.arrays import Floats, orthonormal_frame
from juxtum.geometry.features import Circle, Cone, Feature, Line, Plane, Torus

FLAT = ("line2d", "circle2d")
KINDS = ("line2d", "circle2d", "line3d", "plane", "circle3d", "sphere", "cylinder", "cone", "torus")
STARTS = 12


@dataclass(frozen=True, eq=False)
class Associated:
    """What points make.

    Parameters
    ----------
    feature : Feature
        Of a flat kind in the plane z = 0.
    count : int
    rms, form : float
        mm; the form is the largest less the smallest signed distance, of a minimum zone its width.
    radius_standard : float
        Standard uncertainty of its radius by the scatter of the points, mm; NaN where it has none or it is not known.
    """

    feature: Feature
    count: int
    rms: float
    form: float
    radius_standard: float = float("nan")


def associated(kind: str, points: Floats) -> Associated:
    """The feature of a kind with the least sum of squared distances.

    Parameters
    ----------
    points : array (N, 3)
        mm; of a flat kind with z = 0.

    Raises
    ------
    FitError
        With too few points, or points that leave it free.

    Examples
    --------
    >>> corners = np.array([[0.0, 0, 5], [9, 0, 5], [9, 7, 5], [0, 7, 5]])
    >>> made = associated("plane", corners)
    >>> round(made.form, 12), abs(float(made.feature.normal[2]))
    (0.0, 1.0)
    """
    fit = _fitted(kind, points)
    signed, sure = signed_distances(fit.feature, points), fit.standards.get("radius", float("nan"))
    return Associated(fit.feature, len(points), float(np.sqrt(np.mean(signed**2))), float(np.ptp(signed)), sure)


def _fitted(kind: str, points: Floats) -> Fit[Any]:
    makers: dict[str, Callable[[Floats], Fit[Any]]] = {
        "line2d": _line_in_plane, "line3d": _line, "plane": fit_plane, "sphere": fit_sphere, "cylinder": fit_cylinder,
        "circle2d": _circle_in_plane, "circle3d": _circle, "cone": _cone, "torus": _torus,
    }  # fmt: skip
    return makers[kind](points)


def _circle_in_plane(points: Floats) -> Fit[Circle]:
    return fit_circle(points, Plane(np.zeros(3), np.array([0.0, 0, 1])))


def _circle(points: Floats) -> Fit[Circle]:
    return gauss(circle_seed(points, plane_seed(points)), points)


def _line(points: Floats) -> Fit[Line]:
    """By the singular values of the centred points, which is the answer already."""
    if len(points) < 2 or np.ptp(points, axis=0).max() <= 0:
        raise FitError(Line.loose[0], next=Line.loose[1])
    centre = points.mean(0)
    return gauss(Line(centre, np.linalg.svd(points - centre, full_matrices=False)[2][0]), points)


def _line_in_plane(points: Floats) -> Fit[Plane]:
    """A line of the plane z = 0, as the plane that stands upright on it: its distances have a sign."""
    line = _line(points).feature
    normal = np.array([-line.axis[1], line.axis[0], 0.0])
    made = Plane(line.point, normal / np.linalg.norm(normal))
    signed = made.distances(points)
    return Fit(made, len(points), float(np.sqrt(np.mean(signed**2))), float(np.ptp(signed)), np.zeros((3, 3)))


def _axes(points: Floats) -> list[Floats]:
    """Likely axes of something round: the principal directions, and those of the likeliest cylinders."""
    principal = np.linalg.svd(points - points.mean(0), full_matrices=False)[2]
    return [*principal, *(seed.axis for seed in cylinder_seeds(points))]


def _cone(points: Floats) -> Fit[Cone]:
    """From several axes: squares of distances from one are a square of the height."""
    _enough(points, Cone)
    centre, starts = points.mean(0), []
    for axis in _axes(points):
        frame = orthonormal_frame(axis)
        x, y, z = ((points - centre) @ frame.T).T
        rows = np.column_stack([2 * x, 2 * y, np.ones(len(x)), z, z * z])
        a, b, c, d, e = np.linalg.lstsq(rows, x * x + y * y, rcond=None)[0]
        square = c + a * a + b * b
        slope = float(np.clip(abs(d) / (2 * np.sqrt(max(square, 1e-12))), 1e-3, 5.0)) if e <= 0 else float(np.sqrt(e))
        turned = frame[2] * (1.0 if d >= 0 else -1.0)
        place, radius = centre + a * frame[0] + b * frame[1], float(np.sqrt(max(square, 1e-9)))
        starts.append(Cone(place, turned, radius, float(np.arctan(np.clip(slope, 1e-3, 5.0)))))
    return gauss(starts[0], points, starts[1:STARTS])


def _torus(points: Floats) -> Fit[Torus]:
    """From several axes: the circle seen along each, and the one of heights over it."""
    _enough(points, Torus)
    centre, starts = points.mean(0), []
    for axis in [*_axes(points), plane_seed(points).normal]:
        frame = orthonormal_frame(axis)
        x, y, z = ((points - centre) @ frame.T).T
        a, b, _ = np.linalg.lstsq(np.column_stack([2 * x, 2 * y, np.ones(len(x))]), x * x + y * y, rcond=None)[0]
        reach = np.hypot(x - a, y - b)
        u, v, w = np.linalg.lstsq(np.column_stack([2 * reach, 2 * z, np.ones(len(x))]), reach**2 + z**2, rcond=None)[0]
        minor = float(np.sqrt(max(w + u * u + v * v, 1e-9)))
        starts.append(
            Torus(centre + a * frame[0] + b * frame[1] + v * frame[2], frame[2], float(max(abs(u), 1e-6)), minor)
        )
    return gauss(starts[0], points, starts[1:STARTS])


def _enough(points: Floats, kind: type[Feature]) -> None:
    if len(points) < kind.least:
        raise FitError(f"{len(points)} points do not make a {kind.name}", next=f"Give at least {kind.least}")


ZONES = ("line2d", "plane", "circle2d", "line3d", "sphere", "cylinder", "cone")
"""Kinds of which the minimum zone is found."""
FACES, EVEN = 6, 1e-3
"""Faces of the hull from which a zone is begun, and when the points are so flat that none is needed."""


def zoned(kind: str, points: Floats) -> Associated:
    """The feature of a kind with the least width between which all points lie (Chebyshev).

    A line through the edges of the hull, of which one always bears a side of the zone; a plane and a circle by a
    sequence of linear programs, begun from several starts.

    Raises
    ------
    InputError
        For a kind whose zone is not found here.
    FitError
    """
    if kind not in ZONES:
        raise InputError(f"the minimum zone of a {kind} is not found here", "--method", "Use gauss")
    # The least-squares plane in closed form: how well it is known is not asked here.
    start = plane_seed(points) if kind == "plane" else _fitted(kind, points).feature
    if kind == "line3d":
        assert isinstance(start, Line)
        line, width = narrowest_line(start, points)
        return Associated(line, len(points), float(np.sqrt(np.mean(line.distances(points) ** 2))), width)
    if kind == "line2d":
        feature: Feature = _narrowest_line(points, start)
    else:
        # Of a plane only the corners of the hull can bear the zone.
        bearing, starts = _near(start, points)
        feature = min((narrowed(one, bearing) for one in starts), key=lambda f: np.ptp(signed_distances(f, bearing)))
    signed = signed_distances(feature, points)
    return Associated(feature, len(points), float(np.sqrt(np.mean(signed**2))), float(np.ptp(signed)))


def _narrowest_line(points: Floats, start: Feature) -> Plane:
    from scipy.spatial import ConvexHull, QhullError

    flat = points[:, :2]
    assert isinstance(start, Plane)
    try:
        hull = ConvexHull(flat - flat.mean(0))
    except QhullError:
        return start
    normals = hull.equations[:, :2]
    heights = (flat - flat.mean(0)) @ normals.T
    best = int(np.argmin(np.ptp(heights, axis=0)))
    normal = np.array([*normals[best], 0.0])
    middle = (heights[:, best].max() + heights[:, best].min()) / 2
    return Plane(np.array([*flat.mean(0), 0.0]) + middle * normal, normal)


def _near(start: Feature, points: Floats) -> tuple[Floats, list[Feature]]:
    """The points that can bear a zone, and the starts: for a plane also the faces of the hull near it, one of which may bear a side."""
    from scipy.spatial import ConvexHull, QhullError

    if not isinstance(start, Plane):
        return points, [start]
    try:
        hull = ConvexHull(points - points.mean(0))
    except QhullError:
        return points, [start]
    heights = start.distances(points)
    if float(np.ptp(heights)) < EVEN * float(np.linalg.norm(np.ptp(points, axis=0))):
        # Of something flat the heights over one plane are as good as over any near it: there is one narrowest zone.
        return points[hull.vertices], [start]
    near = np.argsort(-np.abs(hull.equations[:, :3] @ start.normal))[:FACES]
    return points[hull.vertices], [start, *(Plane(points.mean(0), normal) for normal in hull.equations[near, :3])]


MATING = ("circle2d", "sphere", "cylinder")


def inscribed(kind: str, points: Floats) -> Associated:
    """The largest feature of a kind that no point lies inside of."""
    return _mated(kind, points, inside=True)


def circumscribed(kind: str, points: Floats) -> Associated:
    """The smallest feature of a kind that no point lies outside of."""
    return _mated(kind, points, inside=False)


def _mated(kind: str, points: Floats, *, inside: bool) -> Associated:
    """Begun from the feature of least squares.

    Raises
    ------
    InputError
        For a kind that holds nothing inside.
    FitError
    """
    if kind not in MATING:
        raise InputError(f"a {kind} has nothing inside it", "--method", "Use gauss or zone")
    start = associated(kind, points).feature
    feature = mating(start, points, inside=inside)
    signed = signed_distances(feature, points)
    return Associated(feature, len(points), float(np.sqrt(np.mean(signed**2))), float(np.ptp(signed)))
