"""The one registration: known motions come back, what is free stays, and who asks for too little gets nothing."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.spatial import cKDTree

from helpers import box_mesh, turned
from juxtum.align.samples import scan_sample
from juxtum.geometry import RigidTransform, TriangleMesh
from juxtum.geometry.arrays import Floats
from juxtum.geometry.registration import Pulls, Rounds, register, rigid_from_pairs

pytestmark = pytest.mark.quick

BOX = box_mesh((60, 40, 20), cuts=4)
ROUNDS = Rounds(60, 1e-9, 40.0)


def onto(mesh: TriangleMesh, places: Floats, normals: Floats, wanted: Floats | None = None) -> object:
    """Tells each place the plane of the nearest triangle of a mesh that faces as it does."""

    def pulls_at(transform: RigidTransform, _: int) -> Pulls | None:
        laid, facing = transform.apply(places), transform.turn(normals)
        found = mesh.tree.query(laid, facing, limit=30.0, angle=60.0)
        rows = np.flatnonzero(found.found)
        if len(rows) < 6:
            return None
        n = mesh.triangle_normals[found.triangles[rows]]
        feet = np.einsum("ij,ijk->ik", found.weights[rows], mesh.corners[found.triangles[rows]])
        heights = np.einsum("ij,ij->i", laid[rows] - feet, n)
        return Pulls(laid[rows], n, heights, None if wanted is None else wanted[rows])

    return pulls_at


@settings(deadline=None, max_examples=25)
@given(st.tuples(*[st.floats(-4, 4)] * 3), st.tuples(*[st.floats(-0.12, 0.12)] * 3))
def test_a_box_finds_back(shift: tuple[float, ...], turn: tuple[float, ...]) -> None:
    moved = RigidTransform.about([0, 0, 0], [*shift, *turn])
    places, normals = moved.apply(BOX.corners.mean(1)), moved.turn(BOX.triangle_normals)
    found = register(onto(BOX, places, normals), RigidTransform.identity(), ROUNDS)  # type: ignore[arg-type]
    assert found is not None
    assert np.abs((found @ moved).apply(BOX.points) - BOX.points).max() < 1e-6


@pytest.mark.parametrize(
    ("facing", "held"),
    [
        ((0, 0, 1), [0, 0, 1, 1, 1, 0]),
        ((1, 0, 0), [1, 0, 0, 0, 1, 1]),
        ((0, 0, 1, 1, 0, 0), [1, 0, 1, 1, 1, 1]),
    ],
)
def test_what_no_plane_holds_stays_as_the_start_had_it(facing: tuple[int, ...], held: list[int]) -> None:
    """One face of the box holds a shift and two turns, two faces hold all but the slide along their edge."""
    wanted = np.zeros(len(BOX.triangles), dtype=bool)
    for direction in np.array(facing).reshape(-1, 3):
        wanted |= BOX.triangle_normals @ direction > 0.9
    places, normals = BOX.corners.mean(1)[wanted], BOX.triangle_normals[wanted]
    middle = places.mean(0)
    start = RigidTransform.about(middle, [0.7, -0.5, 0.6, 0.02, 0.03, -0.02])
    found = register(onto(BOX, places, normals), start, ROUNDS)  # type: ignore[arg-type]
    assert found is not None
    assert np.abs(np.einsum("ij,ij->i", found.apply(places) - places, normals)).max() < 1e-6, "it lies on its faces"
    laid = found.apply(middle[None])[0] - middle
    began = start.apply(middle[None])[0] - middle
    for axis in range(3):
        if not held[axis]:
            assert laid[axis] == pytest.approx(began[axis], abs=0.05)
    pulls = onto(BOX, places, normals)(found, 0)  # type: ignore[operator]
    squares, directions, free = pulls.motions(40.0, 1e-5)
    assert len(squares) == sum(held) and free.shape == (6, 6 - sum(held))
    assert directions.T @ free == pytest.approx(np.zeros((len(squares), free.shape[1])), abs=1e-9)


def test_weights_say_whom_to_believe() -> None:
    """Half of the places of each face stand off by 0.5; weighing nothing, they pull at nothing."""
    places, normals = BOX.corners.mean(1), BOX.triangle_normals
    off = np.arange(len(places)) % 2 == 0
    shown = places + 0.5 * normals * off[:, None]
    believed = register(onto(BOX, shown, normals, np.where(off, 0.0, 1.0)), RigidTransform.identity(), ROUNDS)  # type: ignore[arg-type]
    assert believed is not None and np.abs(believed.matrix - np.eye(4)).max() < 1e-6
    tilted = shown.copy()
    tilted[off & (normals[:, 2] > 0.9)] += [0, 0, 1.0]
    pulled = register(onto(BOX, tilted, normals), RigidTransform.identity(), ROUNDS)  # type: ignore[arg-type]
    assert pulled is not None and np.abs(pulled.offset).max() > 0.1, "with equal weights they do"


def test_planes_agree_with_pairs() -> None:
    """Where each place knows its partner, and three planes stand through it, both ways give the same motion."""
    rng = np.random.default_rng(4)
    places = rng.uniform(-30, 30, (40, 3))
    partners = turned((5, 8, -11), (1, 2, 3)).apply(places) + rng.normal(0, 0.01, (40, 3))
    three = np.tile(np.eye(3), (40, 1))

    def pulls_at(transform: RigidTransform, _: int) -> Pulls:
        laid = np.repeat(transform.apply(places), 3, axis=0)
        return Pulls(laid, three, np.einsum("ij,ij->i", laid - np.repeat(partners, 3, axis=0), three))

    found = register(pulls_at, RigidTransform.identity(), Rounds(60, 1e-10, 30.0))
    assert found is not None and np.allclose(found.matrix, rigid_from_pairs(places, partners).matrix, atol=1e-7)


def test_too_few_give_nothing_and_rounds_are_kept() -> None:
    far = BOX.corners.mean(1) + np.array([0, 0, 500])
    assert register(onto(BOX, far, BOX.triangle_normals), RigidTransform.identity(), ROUNDS) is None  # type: ignore[arg-type]
    asked: list[int] = []

    def pulls_at(transform: RigidTransform, index: int) -> Pulls:
        asked.append(index)
        laid = transform.apply(BOX.points[:4] + 0.1)
        return Pulls(
            laid, np.eye(3)[[0, 1, 2, 0]], np.einsum("ij,ij->i", laid - BOX.points[:4], np.eye(3)[[0, 1, 2, 0]])
        )

    register(pulls_at, RigidTransform.identity(), Rounds(9, 1e9, 40.0, least=3))
    assert asked == [0, 1, 2], "it may end after the third round, and does"
    asked.clear()
    register(pulls_at, RigidTransform.identity(), Rounds(7, 0.0, 40.0))
    assert asked == list(range(7))


def test_a_step_turns_no_farther_than_it_may() -> None:
    moved = turned((0, 0, 55), (0, 0, 0))
    places = BOX.corners.mean(1)

    def pulls_at(transform: RigidTransform, _: int) -> Pulls:
        laid = transform.apply(moved.apply(places))
        return Pulls(laid, BOX.triangle_normals, np.einsum("ij,ij->i", laid - places, BOX.triangle_normals))

    once = register(pulls_at, RigidTransform.identity(), Rounds(1, 0.0, 40.0, largest_turn=0.1))
    assert once is not None and once.angle <= np.degrees(0.1 * np.sqrt(3)) + 1e-9


def test_corners_in_clusters_are_no_even_sample() -> None:
    # Three corners of four lie beside another one; each step of the area then falls on the same few.
    wide = np.arange(60.0)
    lines = np.sort(np.concatenate([wide, wide + 0.01, wide + 0.02, wide + 0.03]))
    x, y = np.meshgrid(lines, np.arange(0.0, 60.0, 2.0), indexing="ij")
    corner = (np.arange(len(lines) - 1)[:, None] * x.shape[1] + np.arange(x.shape[1] - 1)).ravel()
    beside = corner + x.shape[1]
    triangles = np.concatenate(
        [np.stack(rows, 1) for rows in ((corner, beside, corner + 1), (corner + 1, beside, beside + 1))]
    )
    mesh = TriangleMesh(np.stack([x.ravel(), y.ravel(), np.zeros(x.size)], axis=1), triangles)
    sample = scan_sample(mesh, 5000)
    nearest = cKDTree(sample.points).query(sample.points, k=2)[0][:, 1]
    assert len(sample.points) >= 4000
    assert np.median(nearest) > 0.3 * np.sqrt(mesh.area / len(sample.points))
