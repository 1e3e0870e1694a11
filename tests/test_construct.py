"""Features made of others and features that are held, against what is known by hand."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from juxtum.associate.constrained import Held, fit_held
from juxtum.associate.construct import angle, apart, construct
from juxtum.errors import FitError, InputError
from juxtum.geometry import RigidTransform
from juxtum.geometry.features import Circle, Cylinder, Feature, Line, Plane, Point, Sphere
from juxtum.geometry.transform import rotation_from_vector

X, Y, Z = np.eye(3)
FLOOR, WALL, BACK = Plane(np.zeros(3), Z), Plane(5 * X, X), Plane(7 * Y, -Y)
LID = Plane(np.array([1.0, 2, 10]), -Z)
BORE = Cylinder(np.array([20.0, 30, 4]), Z, 6.0)
CROSS = Cylinder(np.array([0.0, 31, 9]), X, 2.0)
BALL, OTHER = Sphere(np.array([1.0, 2, 3]), 4.0), Sphere(np.array([4.0, 6, 3]), 2.0)
BOLTS = [Cylinder(np.array([50 + 40 * np.cos(t), 40 * np.sin(t), 3.0 * t]), Z, 5.0) for t in (0.1, 1.4, 3.3, 5.0)]

MADE: list[tuple[str, list[Feature], float, str, dict[str, object]]] = [
    ("meet", [FLOOR, WALL], 0, "line", {"on": [(5, -3, 0), (5, 8, 0)]}),
    ("meet", [FLOOR, WALL, BACK], 0, "point", {"at": (5, 7, 0)}),
    ("meet", [BORE, FLOOR], 0, "point", {"at": (20, 30, 0)}),
    ("meet", [FLOOR, BORE], 0, "point", {"at": (20, 30, 0)}),
    ("meet", [BORE, CROSS], 0, "point", {"at": (20, 30.5, 9)}),
    ("middle", [FLOOR, LID], 0, "plane", {"on": [(0, 0, 5), (9, 1, 5)]}),
    ("middle", [FLOOR, Plane(np.array([0.0, 0, 8]), Z)], 0, "plane", {"on": [(0, 0, 4), (9, 1, 4)]}),
    ("middle", [Plane(np.zeros(3), X), Plane(np.zeros(3), Y)], 0, "plane", {"on": [(1, 1, 0), (2, 2, 5)]}),
    ("middle", [BORE, Cylinder(np.array([24.0, 30, 90]), -Z, 1.0)], 0, "line", {"on": [(22, 30, 0), (22, 30, 9)]}),
    ("middle", [BALL, OTHER], 0, "point", {"at": (2.5, 4, 3)}),
    ("middle", [BALL, OTHER, Point(np.array([1.0, 1, 3]))], 0, "point", {"at": (2, 3, 3)}),
    ("line", [BALL, OTHER], 0, "line", {"on": [(1, 2, 3), (4, 6, 3), (7, 10, 3)]}),
    ("plane", [BALL, OTHER, Point(np.array([0.0, 9, 3]))], 0, "plane", {"on": [(1, 2, 3), (0, 0, 3)]}),
    ("circle", list(BOLTS), 0, "circle", {"radius": 40.0, "xy": (50, 0)}),
    ("onto", [BALL, FLOOR], 0, "point", {"at": (1, 2, 0)}),
    ("onto", [Line(np.array([0.0, 0, 3]), X + Z), FLOOR], 0, "line", {"on": [(0, 0, 0), (5, 0, 0)]}),
    ("offset", [FLOOR], -2.5, "plane", {"on": [(3, 3, -2.5)]}),
    ("between", [BALL, FLOOR], 0, "line", {"on": [(1, 2, 0), (1, 2, 3)]}),
]  # fmt: skip


@pytest.mark.parametrize(("way", "of", "amount", "kind", "known"), MADE)
def test_what_is_made_of_others(
    way: str, of: list[Feature], amount: float, kind: str, known: dict[str, object]
) -> None:
    made = construct(way, of, amount)
    assert made.name == kind
    if "at" in known:
        assert made.point == pytest.approx(known["at"], abs=1e-9)
    if "on" in known:
        assert np.abs(made.distances(known["on"])).max() < 1e-9
    if "radius" in known:
        assert isinstance(made, Circle) and made.radius == pytest.approx(known["radius"], abs=1e-9)
        assert made.point[:2] == pytest.approx(known["xy"], abs=1e-9)


REFUSED: list[tuple[str, list[Feature], str]] = [
    ("meet", [FLOOR, LID], "lie along each other and do not meet"),
    ("meet", [FLOOR, LID, WALL], "do not meet in one point"),
    ("meet", [BORE, WALL], "runs along the plane and does not pierce it"),
    ("meet", [BALL, FLOOR], "a sphere and a plane do not meet in anything"),
    ("meet", [FLOOR], "takes two features, and 1 were named"),
    ("line", [FLOOR, BALL], "a plane has no middle"),
    ("circle", [BALL, OTHER], "goes through 3 features or more, and 2 were named"),
    ("plane", [BALL, OTHER, Point(np.array([7.0, 10, 3]))], "lie on one line"),
    ("onto", [FLOOR, BALL], "a sphere is nothing to be brought onto"),
    ("onto", [BORE, FLOOR], "stands square on the plane"),
    ("offset", [BORE], "only a plane is moved along its normal"),
    ("marry", [FLOOR, WALL], "'marry' makes no feature"),
]


@pytest.mark.parametrize(("way", "of", "said"), REFUSED)
def test_what_cannot_be_made_is_said(way: str, of: list[Feature], said: str) -> None:
    with pytest.raises((InputError, FitError), match=said):
        construct(way, of)


def test_distances_and_angles() -> None:
    assert apart(FLOOR, LID) == pytest.approx(10) and angle(FLOOR, LID) == pytest.approx(0)
    assert apart(BORE, CROSS) == pytest.approx(1) and angle(BORE, CROSS) == pytest.approx(90)
    assert apart(BORE, WALL) == pytest.approx(15) and angle(BORE, WALL) == pytest.approx(0)
    assert apart(BALL, OTHER) == pytest.approx(5) and angle(BALL, OTHER) is None
    assert angle(Line(np.zeros(3), X + Z), FLOOR) == pytest.approx(45)


@settings(max_examples=40, deadline=None)
@given(st.integers(0, len(MADE) - 1), st.lists(st.floats(-3, 3), min_size=3, max_size=3), st.integers(0, 5))
def test_a_rigid_motion_takes_along_what_is_made(which: int, turn: list[float], seed: int) -> None:
    way, of, amount, _, _ = MADE[which]
    shift = np.random.default_rng(seed).uniform(-1000, 1000, 3)
    motion = RigidTransform.from_parts(rotation_from_vector(turn), shift)
    there, moved = construct(way, of, amount).moved(motion), construct(way, [f.moved(motion) for f in of], amount)
    places = motion.apply(np.random.default_rng(seed + 1).uniform(-20, 20, (8, 3)))
    assert np.abs(there.distances(places)) == pytest.approx(np.abs(moved.distances(places)), abs=1e-6)


# -- held -----------------------------------------------------------------------------------------------------


def wall(count: int, noise: float, tilt: float, arc: float = 2 * np.pi) -> np.ndarray:
    """A bore of 12 mm about an axis that leans, over an arc."""
    rng = np.random.default_rng(3)
    turn, z = rng.uniform(0, arc, count), rng.uniform(-10, 10, count)
    r = 12 + rng.normal(0, noise, count)
    points = np.column_stack([r * np.cos(turn), r * np.sin(turn), z])
    return RigidTransform.from_parts(rotation_from_vector([tilt, 0, 0]), [3.0, -4, 5]).apply(points)


def test_a_cylinder_along_a_direction_is_the_circle_of_its_points() -> None:
    points = wall(2000, 0.02, 0.01)
    made = fit_held("cylinder", points, Held(Z)).feature
    flat = points[:, :2]
    from scipy.optimize import least_squares

    known = least_squares(
        lambda p: np.hypot(*(flat - p[:2]).T) - p[2], [3, -4, 12], xtol=1e-15, ftol=1e-15, gtol=1e-15
    ).x
    assert isinstance(made, Cylinder) and made.axis.tolist() == [0, 0, 1]
    assert [*made.point[:2], made.radius] == pytest.approx(known, abs=1e-7)


def test_a_plane_across_another_is_the_line_of_its_points() -> None:
    rng = np.random.default_rng(5)
    points = np.column_stack([rng.uniform(0, 40, 500), rng.normal(0, 0.05, 500), rng.uniform(0, 20, 500)])
    points[:, 1] += 0.03 * points[:, 0] + 0.02 * points[:, 2]
    made = fit_held("plane", points, Held(Z, across=True)).feature
    flat = points[:, :2] - points[:, :2].mean(0)
    known = np.linalg.svd(flat)[2][1]
    assert isinstance(made, Plane) and abs(made.normal[2]) < 1e-12
    assert abs(made.normal[:2] @ known) == pytest.approx(1, abs=1e-12)


def test_a_given_radius_places_a_short_arc_that_alone_says_little() -> None:
    """The centre of 20 degrees of a bore: with the radius known it is ten times as sure, and its covariance says so."""
    points = wall(800, 0.01, 0.0, np.radians(20))
    free = fit_held("cylinder", points, Held(Z))
    held = fit_held("cylinder", points, Held(Z, radius=12.0))
    truth = np.array([3.0, -4.0])
    assert np.linalg.norm(held.feature.point[:2] - truth) < 0.01
    assert held.covariance[0, 0] + held.covariance[1, 1] < 0.05 * (free.covariance[0, 0] + free.covariance[1, 1])
    assert held.feature.sizes["radius"] == 12.0 and held.standards["radius"] == 0.0
    with pytest.raises(FitError, match="3 points do not make a sphere"):
        fit_held("sphere", np.array([[2.0, 0, 0], [0, 2, 0], [0, 0, 2.0]]), Held(radius=2.0))


HELD_BAD = [
    ("cone", Held(Z), "a cone cannot be held"),
    ("sphere", Held(Z), "a sphere has no direction"),
    ("plane", Held(radius=3.0), "a plane has no radius"),
    ("cylinder", Held(radius=-1.0), "cannot be held"),
]


@pytest.mark.parametrize(("kind", "held", "said"), HELD_BAD)
def test_what_cannot_be_held_is_said(kind: str, held: Held, said: str) -> None:
    with pytest.raises(InputError, match=said):
        fit_held(kind, wall(50, 0.01, 0.0), held)
