"""The extreme of a profile: no bias by its choice, covered by its uncertainty, not hidden by strays or narrow faces."""

from __future__ import annotations

import numpy as np
import pytest

from helpers import JUDGEMENT, raised_sheet, sheet, top_of
from juxtum.demo import solids
from juxtum.evaluate import LineResult, Verdict, measure_deviation
from juxtum.evaluate.kinds import Given, Profile
from juxtum.evaluate.kinds.toleranced import Found, worst_of
from juxtum.evaluate.tiles import Tiles, choice_of_the_largest, make_tiles
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
