"""The extreme of a profile: no bias by its choice, covered by its uncertainty, not hidden by strays or narrow faces."""

from __future__ import annotations

import numpy as np
import pytest
from scipy.ndimage import gaussian_filter

from helpers import JUDGEMENT, raised_sheet, sheet, top_of
from juxtum.demo import solids
from juxtum.evaluate import LineResult, Verdict, measure_deviation
from juxtum.evaluate.characteristics import extreme_of
from juxtum.evaluate.choice import choice_of_the_largest
from juxtum.evaluate.kinds import Given, Profile
from juxtum.evaluate.kinds.found import Found, chosen_among, width_of, worst_of
from juxtum.evaluate.tiles import Tiles, Told, make_tiles
from juxtum.geometry import RigidTransform, TriangleMesh
from juxtum.geometry.arrays import Floats
from juxtum.nominal import Nominal
from juxtum.nominal.model import sample_surface

SEEDS = 16


@pytest.fixture(scope="module")
def block() -> Nominal:
    """80 x 80 x 10 mm, its top at Z = 10."""
    return Nominal.from_shape(solids.box((-40, -40, 0), (80, 80, 10)))


def measured(nominal: Nominal, mesh: TriangleMesh, heights: Floats) -> LineResult:
    deviation = measure_deviation(raised_sheet(mesh, heights), nominal, RigidTransform.identity())
    return Profile(id="1", title="top", faces=(top_of(nominal),), least_seen=0).result(Given(deviation, JUDGEMENT))


@pytest.mark.parametrize("shape", ["flat", "bump"])
@pytest.mark.parametrize(("noise", "spacing"), [(0.005, 0.6), (0.05, 0.6), (0.02, 2.0)])
def test_the_truth_lies_within_the_uncertainty(block: Nominal, shape: str, noise: float, spacing: float) -> None:
    mesh = sheet(spacing)
    away = np.hypot(mesh.points[:, 0] - 5, mesh.points[:, 1] + 8)
    true = 0.1 * np.exp(-(away**2) / 32) if shape == "bump" else np.zeros(len(away))
    truth = [s.value for s in measured(block, mesh, true).measured.sides]
    covered, errors = np.zeros(2), np.zeros(2)
    for seed in range(SEEDS):
        found = measured(block, mesh, true + np.random.default_rng(seed).normal(0, noise, len(true)))
        off = np.array([s.value for s in found.measured.sides]) - truth
        covered += np.abs(off) <= [s.expanded for s in found.measured.sides]
        errors += off
    assert (covered >= 0.8 * SEEDS).all() and covered.sum() >= 0.88 * 2 * SEEDS
    assert (np.abs(errors / SEEDS) < 0.25 * noise + 1e-3).all(), (
        "the largest of many tiles is not the largest because of its noise"
    )


def test_three_stray_points_make_no_extreme(block: Nominal) -> None:
    mesh = sheet(0.6)
    heights = np.random.default_rng(1).normal(0, 0.01, len(mesh.points))
    clean = measured(block, mesh, heights)
    heights[[4000, 4001, 4102]] += 0.9
    found = measured(block, mesh, heights)
    assert (
        found.value == pytest.approx(clean.value, abs=0.01)
        and found.expanded < 0.05
        and found.verdict is Verdict.CONFORMS
    )


def test_a_narrow_rib_counts() -> None:
    """A rib 2 mm wide that is 0.6 mm too high is part of the whole part's profile."""
    drawn = Nominal.from_shape(solids.fused(solids.box((0, 0, 0), (60, 40, 8)), [solids.box((5, 19, 6), (50, 2, 8))]))
    made = Nominal.from_shape(solids.fused(solids.box((0, 0, 0), (60, 40, 8)), [solids.box((5, 19, 6), (50, 2, 8.6))]))
    pieces = sample_surface(made.mesh, made.triangle_faces, 0.7).mesh
    deviation = measure_deviation(pieces, drawn, RigidTransform.identity())
    found = Profile(id="1", title="all").result(Given(deviation, JUDGEMENT))
    assert found.value == pytest.approx(0.6, abs=0.05) and found.verdict is Verdict.DOES_NOT_CONFORM


def test_triangles_that_noise_turned_over_do_not_read_the_thickness_of_a_sheet() -> None:
    """A sheet of 0.3 mm, its top scanned more finely than the noise: turned normals must not stand against its underside."""
    nominal = Nominal.from_shape(solids.box((0, 0, 0), (12, 12, 0.3)))
    count = 201
    u, v = (k.ravel() for k in np.meshgrid(np.linspace(0, 12, count), np.linspace(0, 12, count), indexing="ij"))
    corner = (np.arange(count - 1)[:, None] * count + np.arange(count - 1)).ravel()
    triangles = np.concatenate(
        [
            np.stack([corner, corner + count, corner + 1], 1),
            np.stack([corner + 1, corner + count, corner + count + 1], 1),
        ]
    )
    points = np.stack([u, v, np.full(count**2, 0.3)], 1) + np.random.default_rng(2).normal(0, 0.03, (count**2, 3))
    deviation = measure_deviation(TriangleMesh(points, triangles), nominal, RigidTransform.identity())
    against_underside = deviation.found & (deviation.normals[:, 2] < -0.9)
    assert against_underside.sum() > 50, "else this says nothing"
    assert deviation.strays[against_underside].mean() > 0.95
    found = Profile(id="1", title="all", least_seen=0).result(Given(deviation, JUDGEMENT))
    assert all(abs(side.value) < 0.06 for side in found.measured.sides)


@pytest.mark.parametrize("slices", [3, 5, 13, 22])
@pytest.mark.parametrize("slope", [0.0, 5.0])
def test_the_worst_of_slices_is_not_the_one_that_errs_most(slices: int, slope: float) -> None:
    # All slices share what is not known of the choice within each; only the rest scatters.
    noise, alike = 0.002, 0.003
    true = 0.05 + slope * noise * np.linspace(-1, 1, slices)
    errors, widths = [], []
    for seed in range(150):
        values = true + np.random.default_rng([seed, slices]).normal(0, noise, slices)
        stated = float(np.hypot(noise, alike))
        found = worst_of([Found(float(v), stated, 10.0, np.zeros(3), "", alike=alike) for v in values])
        assert found is not None
        errors.append(found.value - true.max())
        widths.append(2 * found.standard)
    assert abs(np.mean(errors)) < 0.6 * noise and np.mean(np.abs(errors) <= widths) > 0.95


def test_one_tile_of_many_slices_stands_out_by_chance_alone(block: Nominal) -> None:
    mesh = sheet(0.6)
    heights = np.random.default_rng(3).normal(0, 0.02, len(mesh.points))
    deviation = measure_deviation(raised_sheet(mesh, heights), block, RigidTransform.identity())
    rows = np.flatnonzero(deviation.faces == top_of(block) - 1)
    tiles = make_tiles(deviation, rows, deviation.distances[rows])
    numbers = tiles.cells[:, 0]
    parts = [tiles.part(numbers == k) for k in np.unique(numbers)]
    alone = [tiles.some(numbers == k) for k in np.unique(numbers)]
    assert all(
        np.array_equal(part.noise, tiles.noise[numbers == k]) for k, part in zip(np.unique(numbers), parts, strict=True)
    )
    assert {part.among for part in parts} == {len(tiles.means)} and parts[0].part(np.arange(5)).among == len(
        tiles.means
    )

    def highest(some: list[Tiles]) -> float:
        return max(float(part.means.max()) - choice_of_the_largest(part, 1.0).bias for part in some)

    assert highest(parts) <= highest(alone), "of some two thousand tiles one lies four times its noise out by chance"


def plain_tiles(means: Floats, noise: float) -> Tiles:
    """Tiles of a square face whose noise is known."""
    count, side = len(means), int(np.sqrt(len(means)))
    cells = np.column_stack([np.arange(count) // side, np.arange(count) % side, np.zeros(count, dtype=int)])
    one = np.ones(count, dtype=int)
    return Tiles(
        means, 9 * one, np.arange(count), cells, one, np.full(count, 3 * noise), Told(np.full(count, noise), 1e9, count)
    )


def test_noise_that_is_alike_over_some_tiles_makes_a_flat_face_unsure_and_not_uneven() -> None:
    """Frames that lie off by thousandths make waves that no single scan can tell from shape."""
    rng, held = np.random.default_rng(5), 0
    for _ in range(60):
        waves = gaussian_filter(rng.normal(size=(30, 30)), 1.0)
        means = rng.normal(0, 0.005, 900) + (0.003 / waves.std() * waves).ravel()
        value, standard, _ = width_of(plain_tiles(means, 0.005), means)
        held += value <= 2 * standard
    assert held >= 57


def test_what_stands_far_out_of_the_noise_is_shape() -> None:
    """A step of fifty times the noise is as sure as its own tile."""
    means = np.random.default_rng(5).normal(0, 0.01, 900)
    means[450] = 0.5
    top = extreme_of(plain_tiles(means, 0.01), 1.0, None)
    assert top.value == pytest.approx(0.5, abs=0.005) and top.standard < 0.0115


@pytest.mark.parametrize("count", [2, 4, 8])
def test_the_worst_hole_of_a_pattern_lies_within_its_uncertainty(count: int) -> None:
    """Of holes that are all alike the one counts that errs most: single ones are held by 95 in a hundred, the worst of eight by 70."""
    rng, held = np.random.default_rng(9), 0
    for _ in range(200):
        every = [Found(0.1 + off, 0.01, 10.0, np.zeros(3), "") for off in rng.normal(0, 0.01, count)]
        rooms = np.array([0.3 - one.value for one in every])
        worst = int(np.argmin(rooms))
        found = chosen_among(every, rooms, worst)
        assert found.value == every[worst].value
        held += abs(found.value - 0.1) <= 2 * found.standard
    assert held >= 186


def test_one_hole_that_is_clearly_the_worst_is_as_sure_as_it_was() -> None:
    every = [Found(value, 0.01, 10.0, np.zeros(3), "") for value in (0.1, 0.11, 0.5)]
    assert chosen_among(every, np.array([0.3, 0.29, -0.1]), 2).standard == pytest.approx(0.01, rel=0.1)
    alone = Found(0.1, 0.01, 10.0, np.zeros(3), "")
    assert chosen_among([alone], np.array([0.2]), 0) is alone
