"""Every kind of feature: its derivatives, its fit against known truth, how well it says that it knows it, what it locks."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from helpers import turned
from juxtum.associate import Fit, fit_circle, fit_cylinder, fit_plane, fit_sphere, gauss, without_outliers
from juxtum.errors import FitError, InputError
from juxtum.geometry import Circle, Cone, Cylinder, Feature, Line, Plane, Point, Sphere, Torus
from juxtum.geometry.arrays import Floats
from juxtum.geometry.features import FEATURES, Held, Opening, Rectangle, Slot

pytestmark = pytest.mark.quick

AXIS = np.array([0.0, 0.0, 1.0])
ORIGIN = np.zeros(3)
TRUE: dict[type[Feature], Feature] = {
    Point: Point(ORIGIN),
    Line: Line(ORIGIN, AXIS),
    Plane: Plane(ORIGIN, AXIS),
    Circle: Circle(ORIGIN, AXIS, 20.0),
    Sphere: Sphere(ORIGIN, 20.0),
    Cylinder: Cylinder(ORIGIN, AXIS, 20.0),
    Cone: Cone(ORIGIN, AXIS, 20.0, 0.3),
    Torus: Torus(ORIGIN, AXIS, 40.0, 8.0),
    Slot: Slot(ORIGIN, AXIS, np.array([1.0, 0, 0]), 60.0, 24.0),
    Rectangle: Rectangle(ORIGIN, AXIS, np.array([1.0, 0, 0]), 60.0, 24.0),
}
POSE = turned((20, -35, 50), (120, -40, 9000))


def on(kind: type[Feature], rng: np.random.Generator, count: int = 600, arc: float = 2 * np.pi) -> Floats:
    """Places on the true feature, and off it by nothing."""
    turn, along = rng.uniform(0, arc, count), rng.uniform(-30, 30, count)
    ring = np.column_stack([np.cos(turn), np.sin(turn), np.zeros(count)])
    if kind is Point:
        return np.zeros((count, 3))
    if kind is Line:
        return along[:, None] * AXIS
    if kind is Plane:
        return np.column_stack([along, rng.uniform(-20, 20, count), np.zeros(count)])
    if kind is Circle:
        return 20 * ring
    if kind is Sphere:
        rise = rng.uniform(-0.9, 0.9, count)
        return 20 * np.sqrt(1 - rise**2)[:, None] * ring + 20 * rise[:, None] * AXIS
    if kind is Torus:
        tube = rng.uniform(0, 2 * np.pi, count)
        return (40 + 8 * np.cos(tube))[:, None] * ring + 8 * np.sin(tube)[:, None] * AXIS
    if issubclass(kind, Opening):
        # Rays from the middle meet its wall: along a side, or in an end.
        side = np.column_stack([np.sign(turn - np.pi) * 12 / np.tan(turn), np.sign(turn - np.pi) * 12])
        end = 30 if kind is Rectangle else 18 * np.abs(ring[:, 0]) + np.sqrt(144 - (18 * ring[:, 1]) ** 2 + 0j).real
        beyond = np.abs(side[:, 0]) > (30 if kind is Rectangle else 18)
        scale = end / np.abs(ring[:, 0]) if kind is Rectangle else end
        places = np.where(beyond[:, None], scale[:, None] * ring[:, :2], side * [-1, -1])
        return np.column_stack([places, along])
    radius = 20 + along * np.tan(0.3) if kind is Cone else np.full(count, 20.0)
    return radius[:, None] * ring + along[:, None] * AXIS


@pytest.mark.parametrize("kind", FEATURES)
def test_derivatives_are_those_of_the_residuals(kind: type[Feature]) -> None:
    rng = np.random.default_rng(1)
    feature = TRUE[kind].moved(POSE)
    points = POSE.apply(on(kind, rng, 40)) + rng.normal(0, 0.5, (40, 3))
    residuals, jacobian = feature.linearised(points)
    assert len(residuals) == len(points) * kind.rows
    size = 1e-6
    for column, step in enumerate(size * np.eye(jacobian.shape[1])):
        change = (feature.stepped(step).linearised(points)[0] - feature.stepped(-step).linearised(points)[0]) / (
            2 * size
        )
        if kind.rows > 1:  # A tilt turns the frame along which the residuals of a curve are taken.
            held = np.abs(feature.linearised(points)[0]).reshape(-1, kind.rows).max(1).repeat(kind.rows)
            assert np.abs(change - jacobian[:, column]).max() < 1e-4 + held.max() * 1.01, column
        else:
            assert change == pytest.approx(jacobian[:, column], abs=2e-3), column


@pytest.mark.parametrize("kind", FEATURES)
def test_distances_are_what_moves_a_point_onto_it(kind: type[Feature]) -> None:
    rng = np.random.default_rng(2)
    feature, places = TRUE[kind].moved(POSE), POSE.apply(on(kind, rng, 50))
    assert np.abs(feature.distances(places)).max() < 1e-8
    off = places + rng.normal(0, 0.3, (50, 3))
    assert (np.abs(feature.distances(off)) <= np.linalg.norm(off - places, axis=1) + 1e-9).all()


@pytest.mark.parametrize("kind", FEATURES)
@settings(deadline=None, max_examples=8)
@given(seed=st.integers(0, 10_000))
def test_fits_find_the_truth_from_a_start_beside_it(kind: type[Feature], seed: int) -> None:
    rng = np.random.default_rng(seed)
    true = TRUE[kind].moved(POSE)
    points = POSE.apply(on(kind, rng, 300, np.radians(360 if kind is Rectangle else 200)))
    step = rng.normal(0, 1, true.linearised(points[:4])[1].shape[1]) * 0.03
    fit = gauss(true.anchored(points.mean(0)).stepped(step), points)
    assert fit.rms < 1e-9 and np.abs(true.distances(points)).max() < 1e-8
    for name, size in true.sizes.items():
        assert fit.feature.sizes[name] == pytest.approx(size, abs=1e-7)
    assert fit.feature.holds().brought_to(true.holds().place) == pytest.approx(true.holds().place, abs=1e-6)


@pytest.mark.parametrize(
    ("kind", "count"),
    [
        (Line, 30),
        (Plane, 250),
        (Circle, 60),
        (Sphere, 250),
        (Cylinder, 250),
        (Cone, 250),
        (Torus, 250),
        (Slot, 250),
        (Rectangle, 250),
    ],
)
def test_covariance_is_that_of_many_repeats(kind: type[Feature], count: int) -> None:
    """Independent noise on places that lie apart: what a fit says of itself is how much it scatters, within 10 %."""
    rng = np.random.default_rng(3)
    places, true = on(kind, rng, count), TRUE[kind]
    at = true.anchored(places.mean(0))
    fits = [gauss(true, places + rng.normal(0, 0.02, places.shape)) for _ in range(400)]
    ratios = []
    for name, size in true.sizes.items():
        scatter = np.sqrt(np.mean([(fit.feature.sizes[name] - size) ** 2 for fit in fits]))
        ratios.append(np.sqrt(np.mean([fit.standards[name] ** 2 for fit in fits])) / scatter)
    # Far from the middle of the points, where it can be, so that tilts count.
    held = at.holds()
    free = np.linalg.svd(held.shifts)[2][len(held.shifts) :]
    far = held.place + (200 * free[0] if len(free) else 0)
    scatter = np.sqrt(np.mean([_beside(fit.feature, held, far) ** 2 for fit in fits], axis=0))
    ratios += (np.sqrt(np.mean([_variance_beside(fit, held, far) for fit in fits], axis=0)) / scatter).tolist()
    # A scatter of 400 repeats is itself known to 3.5 %.
    assert np.mean(ratios) == pytest.approx(1, abs=0.1) and np.abs(np.array(ratios) - 1).max() < 0.2, ratios


def _beside(feature: Feature, held: Held, far: Floats) -> Floats:
    """Where a feature lies along what it locks, beside a place."""
    return np.asarray(held.shifts @ (feature.holds().brought_to(far) - far))


def _variance_beside(fit: Fit[Feature], held: Held, far: Floats) -> Floats:
    steps = 1e-6 * np.eye(len(fit.covariance))
    jacobian = np.stack(
        [(_beside(fit.feature.stepped(step), held, far) - _beside(fit.feature, held, far)) / 1e-6 for step in steps],
        axis=1,
    )
    return np.asarray(np.diag(jacobian @ fit.covariance @ jacobian.T))


def test_seeds_need_no_start() -> None:
    rng = np.random.default_rng(4)
    ball, wall, flat = (POSE.apply(on(kind, rng, 500)) for kind in (Sphere, Cylinder, Plane))
    assert fit_sphere(ball).feature.radius == pytest.approx(20, abs=1e-8)
    assert fit_cylinder(wall).feature.radius == pytest.approx(20, abs=1e-8)
    assert fit_plane(flat, POSE.turn(-AXIS)).feature.normal == pytest.approx(POSE.turn(-AXIS), abs=1e-9)
    ring = POSE.apply(on(Circle, rng, 30, 1.2))
    assert fit_circle(ring, Plane(ORIGIN, AXIS).moved(POSE)).feature.radius == pytest.approx(20, abs=1e-7)


def test_outliers_do_not_pull() -> None:
    rng = np.random.default_rng(5)
    places = on(Cylinder, rng, 2000) + rng.normal(0, 0.01, (2000, 3))
    places[:60] += 3.0
    assert without_outliers(TRUE[Cylinder], places).feature.sizes["radius"] == pytest.approx(20, abs=0.002)


@pytest.mark.parametrize(
    ("kind", "shifts", "turns"),
    [
        (Point, 3, 0),
        (Sphere, 3, 0),
        (Line, 2, 2),
        (Cylinder, 2, 2),
        (Plane, 1, 2),
        (Circle, 3, 2),
        (Cone, 3, 2),
        (Torus, 3, 2),
        (Slot, 2, 2),
        (Rectangle, 2, 2),
    ],
)
def test_what_a_feature_locks_moves_it_and_nothing_else_does(kind: type[Feature], shifts: int, turns: int) -> None:
    held = TRUE[kind].moved(POSE).holds()
    assert len(held.shifts) == shifts and (2 if held.direction is not None else 0) == turns
    assert held.shifts @ held.shifts.T == pytest.approx(np.eye(shifts), abs=1e-12)
    free = np.eye(3) - held.shifts.T @ held.shifts
    places, feature = POSE.apply(on(kind, np.random.default_rng(6), 50)), TRUE[kind].moved(POSE)
    assert np.abs(feature.distances(places + 5 * free @ np.array([1.0, 2, 3]))).max() < 1e-8, (
        "what is free changes nothing"
    )


@pytest.mark.parametrize(
    ("make", "words"),
    [
        (lambda: Plane(ORIGIN, np.zeros(3)), "the direction of the plane has no length"),
        (lambda: Line(ORIGIN, np.array([np.nan, 0, 0])), "the direction of the line has no length"),
        (lambda: Sphere(ORIGIN, 0.0), "the radius of the sphere is not positive"),
        (lambda: Cylinder(ORIGIN, AXIS, np.inf), "the radius of the cylinder is not positive"),
        (lambda: Circle(ORIGIN, AXIS, -1.0), "the radius of the circle is not positive"),
        (lambda: Cone(ORIGIN, AXIS, 1.0, 2.0), "the half angle of the cone is not between 0 and 90 degrees"),
        (lambda: Torus(ORIGIN, AXIS, 5.0, 0.0), "the minor radius of the torus is not positive"),
    ],
)
def test_features_that_are_none_are_refused(make: object, words: str) -> None:
    with pytest.raises(InputError, match=words):
        make()  # type: ignore[operator]


FLAT = np.column_stack([np.random.default_rng(7).uniform(-9, 9, (80, 2)), np.zeros(80)])


@pytest.mark.parametrize(
    ("fit", "words"),
    [
        (lambda: fit_plane(FLAT[:2]), "2 points do not make a plane"),
        (lambda: fit_plane(np.arange(5)[:, None] * np.ones((1, 3))), "on one line"),
        (lambda: fit_sphere(FLAT), "do not bend round a centre"),
        (lambda: fit_cylinder(FLAT), "do not bend round an axis"),
        (
            lambda: fit_circle(np.arange(5.0)[:, None] * np.eye(3)[:1], Plane(ORIGIN, AXIS)),
            "the points lie on one line",
        ),
        (lambda: gauss(TRUE[Cone], FLAT[:5]), "5 points do not make a cone"),
        (lambda: gauss(TRUE[Torus], np.zeros((20, 3))), "do not make a torus"),
        (lambda: gauss(TRUE[Line], np.zeros((20, 3))), "do not make a line"),
    ],
)
def test_points_that_fix_nothing_are_refused(fit: object, words: str) -> None:
    with pytest.raises(FitError, match=words):
        fit()  # type: ignore[operator]
