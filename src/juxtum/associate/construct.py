"""Features made of others: where they meet, what lies in their middle, what goes through them."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np

from juxtum.associate.seed import circle_seed, plane_seed
from juxtum.associate.solve import gauss
from juxtum.errors import InputError
from juxtum.geometry.arrays import Floats, unit
from juxtum.geometry.features import Circle, Cone, Cylinder, Feature, Line, Opening, Plane, Point
from juxtum.geometry.features.base import Axial

WAYS = ("meet", "middle", "line", "plane", "circle", "onto", "offset", "between")
ALONG = np.cos(np.radians(0.5))
"""Directions nearer to each other than half a degree count as the same: features that ought to be parallel never quite are."""
WORDS = {
    "meet": "where {} meet", "middle": "midway between {}", "line": "line through {}", "plane": "plane through {}",
    "circle": "circle through {}", "onto": "{} brought onto the other", "offset": "{} moved by {amount:g} mm",
    "between": "from {}",
}  # fmt: skip


def construct(way: str, features: Sequence[Feature], amount: float = 0.0) -> Feature:
    """A feature made of others.

    Parameters
    ----------
    way : str
        "meet": a line of two planes, a point of three, of an axis and a plane, or of two axes (midway where they pass).
        "middle": the plane, axis or point midway between two. "line", "plane", "circle": through the middles of several.
        "onto": the first, a point or an axis, brought square onto the second, a plane. "offset": a plane moved along its
        normal, an axis or point not. "between": the shortest line from the first to the second.
    features : sequence of Feature
        Each with its reference point in the middle of what was seen of it.
    amount : float
        Of an offset, mm.

    Raises
    ------
    InputError
        Where there is no such feature.
    FitError
        Where points leave it free.

    Examples
    --------
    >>> floor, wall = Plane(np.zeros(3), np.array([0.0, 0, 1])), Plane(np.array([5.0, 0, 0]), np.array([1.0, 0, 0]))
    >>> made = construct("meet", [floor, wall])
    >>> made.name, abs(float(made.axis[1])), bool(made.distances(np.array([[5.0, 9, 0]]))[0] < 1e-9)
    ('line', 1.0, True)
    """
    makers: dict[str, Callable[[Sequence[Feature], float], Feature]] = {
        "meet": _meet, "middle": _middle, "line": _line, "plane": _plane, "circle": _circle, "onto": _onto,
        "offset": _offset, "between": _between,
    }  # fmt: skip
    if way not in makers:
        raise InputError(f"'{way}' makes no feature", "feature", f"Choose of {', '.join(WAYS)}")
    return makers[way](features, amount)


def middle_of(feature: Feature) -> Floats:
    """The point (3,) that stands for a feature: its centre, the tip of a cone, the middle of what was seen of it."""
    return np.asarray(feature.apex if isinstance(feature, Cone) else feature.point)


def direction_of(feature: Feature) -> Floats | None:
    """Its axis or normal (3,); None for what has none."""
    if isinstance(feature, Plane):
        return np.asarray(feature.normal)
    return np.asarray(feature.axis) if isinstance(feature, Axial) else None


def axis_of(feature: Feature) -> Line | None:
    """The line along which something round or long lies; None for planes and points."""
    if isinstance(feature, Line | Cylinder | Cone | Opening):
        return Line(feature.point, feature.axis)
    return None


def foot(place: Floats, feature: Feature) -> Floats:
    """The point (3,) of a plane, an axis or a point nearest to a place."""
    axis = axis_of(feature)
    if isinstance(feature, Plane):
        return np.asarray(place - float((place - feature.point) @ feature.normal) * feature.normal)
    if axis is not None:
        return np.asarray(axis.point + float((place - axis.point) @ axis.axis) * axis.axis)
    return middle_of(feature)


def _two(features: Sequence[Feature], what: str) -> tuple[Feature, Feature]:
    if len(features) != 2:
        raise InputError(f"{what} takes two features, and {len(features)} were named", "feature", "Name two")
    return features[0], features[1]


def _meet(features: Sequence[Feature], _: float) -> Feature:
    planes = [f for f in features if isinstance(f, Plane)]
    if len(planes) == len(features) == 3:
        return _corner(planes)
    one, two = _two(features, "meeting")
    if isinstance(one, Plane) and isinstance(two, Plane):
        return _edge(one, two)
    plane, other = (one, two) if isinstance(one, Plane) else (two, one)
    axis = axis_of(other)
    if axis is None:
        raise InputError(f"a {one.name} and a {two.name} do not meet in anything", "feature", "Choose planes and axes")
    if isinstance(plane, Plane):
        return _pierced(plane, axis)
    first, second = nearest(one, two)
    return Point((first + second) / 2)


def _corner(planes: list[Plane]) -> Point:
    rows = np.stack([p.normal for p in planes])
    if abs(np.linalg.det(rows)) < 1e-3:
        raise InputError(
            "the three planes do not meet in one point", "feature", "Choose three that stand across each other"
        )
    return Point(np.linalg.solve(rows, np.einsum("ij,ij->i", rows, np.stack([p.point for p in planes]))))


def _edge(one: Plane, two: Plane) -> Line:
    if abs(one.normal @ two.normal) > ALONG:
        raise InputError(
            "the two planes lie along each other and do not meet",
            "feature",
            "Choose two that stand across, or what is midway",
        )
    axis = unit(np.cross(one.normal, two.normal))
    middle = (one.point + two.point) / 2
    rows = np.stack([one.normal, two.normal, axis])
    return Line(np.linalg.solve(rows, np.array([one.normal @ one.point, two.normal @ two.point, axis @ middle])), axis)


def _pierced(plane: Plane, axis: Line) -> Point:
    slope = float(axis.axis @ plane.normal)
    if abs(slope) < np.sqrt(1 - ALONG**2):
        raise InputError("the axis runs along the plane and does not pierce it", "feature", "Choose another plane")
    return Point(axis.point + float((plane.point - axis.point) @ plane.normal) / slope * axis.axis)


def nearest(one: Feature, two: Feature) -> tuple[Floats, Floats]:
    """The points (3,) of two features at which they are nearest to each other.

    Of what lies along each other it is taken in the middle of the first.
    """
    a, b = axis_of(one), axis_of(two)
    if a is not None and b is not None and abs(a.axis @ b.axis) <= ALONG:
        across = np.stack([a.axis, -b.axis, np.cross(a.axis, b.axis)], axis=1)
        s, t, _ = np.linalg.solve(across, b.point - a.point)
        return a.point + s * a.axis, b.point + t * b.axis
    if isinstance(two, Plane) or b is not None:
        return middle_of(one), foot(middle_of(one), two)
    return foot(middle_of(two), one), middle_of(two)


def _middle(features: Sequence[Feature], _: float) -> Feature:
    if len(features) > 2 and all(direction_of(f) is None or isinstance(f, Circle) for f in features):
        return Point(np.mean([middle_of(f) for f in features], axis=0))
    one, two = _two(features, "the middle")
    if isinstance(one, Plane) and isinstance(two, Plane):
        return _halving(one, two)
    a, b = axis_of(one), axis_of(two)
    if a is not None and b is not None:
        first, second = nearest(one, two)
        way = b.axis if a.axis @ b.axis > 0 else -b.axis
        return Line((first + second) / 2, a.axis + way)
    return Point((middle_of(one) + middle_of(two)) / 2)


def _halving(one: Plane, two: Plane) -> Plane:
    """Midway of two that lie along each other; of two that meet, the plane in which one is the mirror image of the other."""
    turned = float(one.normal @ two.normal)
    if abs(turned) > ALONG:
        return Plane((one.point + foot(one.point, two)) / 2, one.normal + (two.normal if turned > 0 else -two.normal))
    # Both normals look out of the material.
    return Plane(_edge(one, two).point, one.normal - two.normal)


def _middles(features: Sequence[Feature], least: int, what: str) -> Floats:
    flat = next((f.name for f in features if isinstance(f, Plane)), None)
    if flat is not None:
        raise InputError(
            f"a plane has no middle for a {what} to go through", "feature", "Choose points, spheres, bores"
        )
    if len(features) < least:
        raise InputError(
            f"a {what} goes through {least} features or more, and {len(features)} were named", "feature", "Name more"
        )
    return np.stack([middle_of(f) for f in features])


def _line(features: Sequence[Feature], _: float) -> Line:
    places = _middles(features, 2, "line")
    if len(places) == 2:
        return Line(places.mean(0), places[1] - places[0])
    return gauss(Line(places.mean(0), np.linalg.svd(places - places.mean(0))[2][0]), places).feature


def _plane(features: Sequence[Feature], _: float) -> Plane:
    return plane_seed(_middles(features, 3, "plane"))


def _circle(features: Sequence[Feature], _: float) -> Circle:
    """Of bores in the plane across their axes in which they stand: where along its axis each was seen does not matter."""
    places = _middles(features, 3, "circle")
    axes = [direction_of(f) for f in features]
    along = [a for a in axes if a is not None]
    if len(along) == len(features) and all(abs(a @ along[0]) > ALONG for a in along):
        normal = unit(np.sum([a if a @ along[0] > 0 else -a for a in along], axis=0))
        plane = Plane(places.mean(0), normal)
        places = np.stack([_pierced(plane, Line(f.point, a)).point for f, a in zip(features, along, strict=True)])
    else:
        plane = plane_seed(places)
    flat = places - np.outer(plane.distances(places), plane.normal)
    start = circle_seed(flat, plane)
    return gauss(start, flat).feature if len(flat) > 3 else start


def _onto(features: Sequence[Feature], _: float) -> Feature:
    one, two = _two(features, "bringing onto")
    if not isinstance(two, Plane):
        raise InputError(f"a {two.name} is nothing to be brought onto", "feature", "Name a plane second")
    axis = axis_of(one)
    if axis is None:
        return Point(foot(middle_of(one), two))
    level = axis.axis - float(axis.axis @ two.normal) * two.normal
    if np.linalg.norm(level) < np.sqrt(1 - ALONG**2):
        raise InputError(
            "the axis stands square on the plane: brought onto it, it is a point", "feature", "Ask where they meet"
        )
    return Line(foot(axis.point, two), level)


def _offset(features: Sequence[Feature], amount: float) -> Plane:
    if len(features) != 1 or not isinstance(features[0], Plane):
        raise InputError("only a plane is moved along its normal", "feature", "Name one plane")
    return Plane(features[0].point + amount * features[0].normal, features[0].normal)


def _between(features: Sequence[Feature], _: float) -> Feature:
    one, two = _two(features, "a distance")
    first, second = nearest(one, two)
    step = second - first
    if np.linalg.norm(step) < 1e-9:
        return Point(first)
    return Line((first + second) / 2, step)


def apart(one: Feature, two: Feature) -> float:
    """Distance of two features where they are nearest, mm; of a plane from the middle of the other."""
    first, second = nearest(one, two)
    return float(np.linalg.norm(second - first))


def angle(one: Feature, two: Feature) -> float | None:
    """The smaller angle between two features, degrees; None where one of them has no direction.

    Of an axis and a plane it is that between the axis and the plane itself.
    """
    a, b = direction_of(one), direction_of(two)
    if a is None or b is None:
        return None
    across, along = float(np.linalg.norm(np.cross(a, b))), abs(float(a @ b))
    turned = float(np.degrees(np.arctan2(across, along)))
    return 90.0 - turned if isinstance(one, Plane) != isinstance(two, Plane) else turned
