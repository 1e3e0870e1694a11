"""What noise makes of the worst of many, of narrow features, and of axes that half a turn shows: U covers the truth."""

from __future__ import annotations

import numpy as np
import pytest

from juxtum.associate import without_outliers
from juxtum.errors import FitError
from juxtum.evaluate.drawn.certainty import at_least_as_drawn, freed_of_oval
from juxtum.evaluate.kinds.form import _spread_of_middle
from juxtum.evaluate.kinds.found import Found, worst_of
from juxtum.geometry import RigidTransform
from juxtum.geometry.features import Cone, Cylinder

pytestmark = pytest.mark.quick
UP = np.array([0.0, 0, 1])


@pytest.mark.parametrize(("apart", "count"), [(0.0, 6), (0.0, 30), (1.0, 18), (12.0, 18)])
def test_the_worst_of_many_slices_lies_within_its_uncertainty(apart: float, count: int) -> None:
    """All alike, a little apart, and one that stands out by twelve times what each is unsure by."""
    rng, truths = np.random.default_rng(1), np.full(count, 0.03)
    truths[0] += 0.005 * apart if apart > 2 else 0.0
    truths += 0.005 * apart * rng.normal(size=count) if apart <= 2 else 0.0
    within, off = [], []
    for _ in range(300):
        drawn = [Found(float(v), 0.005, 10.0, np.zeros(3), "") for v in rng.normal(truths, 0.005)]
        worst = worst_of(drawn)
        assert worst is not None
        off.append(worst.value - truths.max())
        within.append(abs(off[-1]) <= 2 * worst.standard)
    assert np.mean(within) >= 0.9 and abs(np.mean(off)) < 0.003


def test_one_of_none_and_of_one() -> None:
    """Nothing seen is nothing; a single slice is not chosen, and below zero is none."""
    assert worst_of([]) is None
    only = worst_of([Found(-0.004, 0.005, 10.0, np.zeros(3), "")])
    assert only is not None and (only.value, only.standard) == (0.0, 0.005)


def ring(cone: Cone, turn: float, width: float) -> tuple[np.ndarray, np.ndarray]:
    """Places on a narrow band of a cone, and its normals there."""
    rng = np.random.default_rng(5)
    angles, along = rng.uniform(0, turn, 280), rng.uniform(-width / 2, width / 2, 280)
    radius = cone.radius + along * np.tan(cone.half_angle)
    out = np.column_stack([np.cos(angles), np.sin(angles), np.zeros(280)])
    normals = out * np.cos(cone.half_angle) - UP * np.sin(cone.half_angle)
    return cone.point + radius[:, None] * out + along[:, None] * UP, normals


def test_a_narrow_chamfer_does_not_believe_its_own_tilt() -> None:
    """0.4 mm wide where it counts, 74 mm across, two thirds of it seen: its axis scatters farther than the fit at its answer says."""
    cone = Cone(np.zeros(3), UP, 37.0, np.pi / 4)
    feet, normals = ring(cone, 4.4, 0.4)
    offs, before, after = [], [], []
    for seed in range(40):
        points = feet + np.random.default_rng(seed).normal(0, 0.015, 280)[:, None] * normals
        fit = without_outliers(cone, points)
        wider = at_least_as_drawn(fit, cone, points, feet)
        offs.append(wider.feature.anchored(np.zeros(3)).point[:2])
        before.append(np.diag(fit.covariance)[:2])
        after.append(np.diag(wider.covariance)[:2])
    scatter = np.sqrt(np.mean(np.square(offs)))
    assert scatter > 1.3 * np.sqrt(np.mean(before)), "or else nothing is to be mended"
    assert 0.5 < scatter / np.sqrt(np.mean(after)) < 1.1


@pytest.mark.parametrize("tilt", [0.0, 0.02])
def test_an_oval_of_a_thousandth_does_not_carry_a_chamfer_away(tilt: float) -> None:
    """As a head sees a chamfer whose frames lie a micron off each other; straight, and made a degree askew."""
    cone = Cone(np.zeros(3), UP, 37.0, np.pi / 4)
    feet, normals = ring(cone, 2 * np.pi, 0.35)
    made = RigidTransform.about(np.zeros(3), np.array([0, 0, 0, tilt, 0, 0]))
    oval, before, after, wide = 0.0012 * np.cos(2 * np.arctan2(feet[:, 1], feet[:, 0]) + 0.8), [], [], []
    for seed in range(30):
        noise = np.random.default_rng(seed).normal(0, 0.002, 280)
        points = made.apply(feet + (oval + noise)[:, None] * normals)
        fit = without_outliers(cone, points)
        first = freed_of_oval(fit, cone, points, feet)
        truth = np.array([0, -np.sin(tilt)])
        before.append(fit.feature.axis[:2] - truth)
        after.append(first.feature.axis[:2] - truth)
        wide.append(np.sqrt(np.diag(first.covariance)[2:4]))
    rms = [float(np.sqrt(np.mean(np.square(off)))) for off in (before, after)]
    assert rms[1] < 1.3 * np.mean(wide), "what is said of it holds"
    assert tilt or rms[0] > 2 * rms[1], "or else nothing is to be mended"


def test_what_the_drawing_leaves_free_is_unsure_and_no_error() -> None:
    """Places on one circle of a bore tell nothing of its tilt: however few and flat they are, an answer comes of it."""
    bore, turn = Cylinder(np.zeros(3), UP, 20.0), np.linspace(0, 6, 40)
    feet = np.column_stack([20 * np.cos(turn), 20 * np.sin(turn), np.zeros(40)])
    points = feet + np.column_stack([np.zeros((40, 2)), np.random.default_rng(3).normal(0, 0.3, 40)])
    fit = without_outliers(bore, points + feet * np.random.default_rng(4).normal(0, 5e-4, 40)[:, None])
    wider = at_least_as_drawn(fit, bore, points, feet)
    assert np.isfinite(wider.covariance).all() and np.linalg.eigvalsh(wider.covariance).min() > -1e-9
    assert np.diag(wider.covariance)[2:4].min() > 100 * np.diag(fit.covariance)[2:4].max()


@pytest.mark.parametrize("wide", [3e-5, 0.001, 0.05])
def test_a_row_of_points_round_a_shaft_tells_its_diameter_and_no_tilt(wide: float) -> None:
    """It came out with its axis 6 degrees askew and a diameter 0.8 mm too large, known to 0.1 mm."""
    shaft, turn = Cylinder(np.zeros(3), UP, 22.0), np.linspace(0, 2 * np.pi, 600, endpoint=False)
    feet = np.column_stack([22 * np.cos(turn), 22 * np.sin(turn), np.random.default_rng(5).uniform(-wide, wide, 600)])
    for seed in range(8):
        noise = np.random.default_rng(seed).normal(0, 0.02, 600)
        points = feet * (1 + noise[:, None] * [1, 1, 0] / 22)
        found = freed_of_oval(without_outliers(shaft, points), shaft, points, feet)
        assert found.feature.radius == pytest.approx(22.0, abs=0.004) and found.standards["radius"] < 0.01  # type: ignore[attr-defined]
        assert np.sqrt(np.diag(found.covariance)[2:4]).min() > 0.01, "how it leans is not known"


@pytest.mark.parametrize(("angle", "is_told"), [(0.02, False), (0.05, False), (0.35, True), (1.0, True)])
def test_an_arc_that_bends_by_less_than_chance_tells_no_radius(angle: float, is_told: bool) -> None:
    """The tip of a gear's tooth, noise of 0.02: a degree of it fitted any radius up to kilometres."""
    rng, tip = np.random.default_rng(4), Cylinder(np.zeros(3), UP, 50.0)
    turn, along = rng.uniform(-angle / 2, angle / 2, 300), rng.uniform(-7, 7, 300)
    radius = 50 + rng.normal(0, 0.02, 300)
    points = np.column_stack([radius * np.cos(turn), radius * np.sin(turn), along])
    if is_told:
        assert without_outliers(tip, points).feature.radius == pytest.approx(50, rel=0.05)
    else:
        with pytest.raises(FitError, match="do not bend round an axis"):
            without_outliers(tip, points)


def test_what_is_well_known_stays_as_it_is() -> None:
    """A bore as long as it is wide: noise moves its axis by microns."""
    bore, rng = Cylinder(np.zeros(3), UP, 20.0), np.random.default_rng(2)
    angles, along = rng.uniform(0, 2 * np.pi, 2000), rng.uniform(-20, 20, 2000)
    feet = np.column_stack([20 * np.cos(angles), 20 * np.sin(angles), along])
    points = feet + feet * [1, 1, 0] / 20 * rng.normal(0, 0.015, 2000)[:, None]
    fit = without_outliers(bore, points)
    assert freed_of_oval(fit, bore, points, feet) is fit
    wider = at_least_as_drawn(fit, bore, points, feet)
    assert np.allclose(wider.covariance, fit.covariance, rtol=0.02, atol=1e-4 * np.abs(fit.covariance).max())


@pytest.mark.parametrize("turn", [2 * np.pi, 3.6, 2.4])
def test_the_middle_of_an_arc_is_as_unsure_as_it_scatters(turn: float) -> None:
    """All round by the root of 2 over the number of places, on an arc more."""
    from juxtum.associate import fit_circle
    from juxtum.geometry.features import Plane

    angles = np.linspace(0, turn, 24, endpoint=False)
    places = np.column_stack([30 * np.cos(angles), 30 * np.sin(angles), np.zeros(24)])
    arms, middles = places / 30, []
    for seed in range(200):
        drawn = places + arms * np.random.default_rng(seed).normal(0, 0.01, 24)[:, None]
        middles.append(fit_circle(drawn, Plane(np.zeros(3), UP)).feature.point[:2])
    worse = float(np.sqrt(np.linalg.eigvalsh(np.cov(np.array(middles).T)).max()))
    assert 0.01 * _spread_of_middle(places) == pytest.approx(worse, rel=0.15)
