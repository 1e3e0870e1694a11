"""Where targets go: rules kept, tracking against brute force, better than chance, edits scored."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import assume, given, settings
from hypothesis import strategies as st

from helpers import box_mesh
from juxtum.demo.job import FACES, characteristics
from juxtum.errors import Cancelled, InputError
from juxtum.geometry.rays import RayCaster
from juxtum.geometry.transform import rotation_from_vector
from juxtum.instruments.models import Kind, TargetNeeds, shipped
from juxtum.nominal import Nominal
from juxtum.plan.document import Plan
from juxtum.plan.grounds import Grounds
from juxtum.plan.planner import Planner
from juxtum.plan.targets.assess import assess
from juxtum.plan.targets.ground import Ground, make_ground
from juxtum.plan.targets.marking import ruler_marks
from juxtum.plan.targets.placer import Placer
from juxtum.plan.targets.places import PlacementRules, TriangleBook, candidate_places, confusable, rules_for
from juxtum.plan.targets.targets import Target, arrays, improve_targets, place_targets, snapped, with_lock
from juxtum.plan.targets.tracking import Moments, track
from juxtum.plan.targets.views import Stance, row_keys
from juxtum.plan.targets.ways import Bases, Way, compare_ways
from juxtum.plan.task import Task, whole_part
from juxtum.progress import Progress

HAND = shipped(Kind.HANDHELD)
ALLOWED = (FACES["plate top"], FACES["underside"])


@pytest.fixture(scope="module")
def task() -> Task:
    return Task(tuple(s.aim for s in characteristics()), (FACES["seat end"],))


@pytest.fixture(scope="module")
def ground(nominal: Nominal, task: Task) -> Ground:
    return make_ground(nominal, task, HAND, HAND.modes[0], Stance.TABLE)


@pytest.fixture(scope="module")
def rules(nominal: Nominal, task: Task) -> PlacementRules:
    return rules_for(nominal, task, HAND, None, ALLOWED)


@pytest.fixture(scope="module")
def planned(ground: Ground, rules: PlacementRules) -> tuple[Target, ...]:
    return place_targets(ground, rules, 0.9)


def test_planned_targets_keep_every_rule(
    ground: Ground, rules: PlacementRules, planned: tuple[Target, ...], nominal: Nominal
) -> None:
    a = assess(ground, rules, planned)
    assert a.broken == 0 and a.pattern_problems == () and a.share >= 0.85
    points, normals = arrays(planned)
    found = nominal.projector.project(points)
    assert np.abs(found.distances).max() < 1e-6, "they lie on the exact surface"
    assert not set(found.faces + 1) & set(rules.keep_clear), "measured and datum faces stay free"
    apart = np.linalg.norm(points[:, None] - points[None], axis=2) + np.diag(np.full(len(points), 1e3))
    assert apart.min() >= 30 and apart.min(1).max() <= 100
    edges = np.linalg.norm(points[:, None] - nominal.sharp_segments.mean(1)[None], axis=2).min()
    assert edges >= 1.5 * rules.diameter - 0.05
    ring = points + 1.5 * np.cross(normals, [0.3, 0.5, 0.8]) / np.linalg.norm(
        np.cross(normals, [0.3, 0.5, 0.8]), axis=1, keepdims=True
    )
    assert np.abs(nominal.projector.project(ring).distances).max() <= rules.flatness


def test_fewer_targets_than_by_chance_at_the_same_share(ground: Ground, rules: PlacementRules) -> None:
    goal = 0.7
    ours = len(place_targets(ground, rules, goal))
    _, choice = ground.choice(rules)
    chance = []
    for seed in range(5):
        placer = Placer(ground, choice, rules)
        for row in np.random.default_rng(seed).permutation(len(choice.points)):
            if placer.tracking().share >= goal:
                break
            placer.take_nearest(choice.points[row])
        chance.append(len(placer.chosen) if placer.tracking().share >= goal else 100)
    assert ours < 0.7 * np.median(chance)


def brute_spread(points: np.ndarray, spot: np.ndarray, noise: float) -> float:
    """Covariance of a rigid fit by its full 6x6 normal matrix."""
    jacobian = np.concatenate([np.concatenate([np.eye(3), -np.cross(np.eye(3), p - spot)], axis=1) for p in points])
    covariance = np.linalg.inv(jacobian.T @ jacobian) * noise**2
    return float(np.sqrt(np.linalg.eigvalsh(covariance[:3, :3])[-1]))


@given(st.integers(3, 12), st.integers(0, 10_000))
def test_the_spread_of_a_pose_is_that_of_the_full_normal_matrix(count: int, seed: int) -> None:
    rng = np.random.default_rng(seed)
    points, spot = rng.uniform(-150, 150, (count, 3)), rng.uniform(-100, 100, 3)
    r = points - spot
    m = Moments(np.array([float(count)]), r.sum(0)[None], np.einsum("ti,tj->ij", r, r)[None])
    assert track(m, TargetNeeds()).spreads[0] == pytest.approx(brute_spread(points, spot, 0.03), rel=1e-5)


def test_a_pose_that_sees_targets_in_one_line_does_not_track() -> None:
    line = np.arange(6)[:, None] * np.array([[30.0, 0, 0]])
    m = Moments(np.array([6.0]), line.sum(0)[None], np.einsum("ti,tj->ij", line, line)[None])
    tracking = track(m, TargetNeeds())
    assert not tracking.holds[0] and tracking.well_placed[0] == 2


def test_congruent_triangles_are_told_and_refused() -> None:
    first = np.array([[0, 0, 0], [60.0, 0, 3], [10, 45, -4]])
    other = (
        first @ rotation_from_vector(np.array([0.3, -0.5, 1.1])).T * [1, 1, -1]
        + [210, 33, 7]
        + [[0, 0, 0], [0.1, 0, 0], [0, 0, 0]]
    )
    points = np.concatenate([first, other])
    seen = np.ones((1, 6), dtype=bool)
    assert confusable(points, seen, 0.3) == ((0, 1, 2, 3, 4, 5),)
    assert not confusable(points[:5], seen[:, :5], 0.3)
    together = np.array([[1, 1, 1, 0, 0, 0], [0, 0, 0, 1, 1, 1]], dtype=bool)
    assert confusable(points, together, 0.3) == ((0, 1, 2, 3, 4, 5),), "two poses could take one for the other"
    book = TriangleBook(points[:5], seen[:, :5], 0.3)
    assert book.clashes(points[5], np.ones(1, dtype=bool)) and not book.clashes(
        points[5] + [0, 7.7, 3], np.ones(1, dtype=bool)
    )


def test_edits_are_scored_and_told(
    ground: Ground, rules: PlacementRules, planned: tuple[Target, ...], nominal: Nominal
) -> None:
    before = assess(ground, rules, planned)
    most = max(range(len(planned)), key=lambda k: before.facts[k].lost)
    without = assess(ground, rules, tuple(t for k, t in enumerate(planned) if k != most))
    lost = before.tracking.holds.sum() - without.tracking.holds.sum()
    assert lost == before.facts[most].lost > 0, "what its loss does was foretold exactly"
    rim = snapped(ground, np.array([-94.5, -8.0, 18.0]), rules)
    spoiled = assess(ground, rules, (*planned, rim))
    assert "too near to an edge" in "; ".join(spoiled.facts[-1].problems)
    bore = snapped(ground, np.array([0.0, 0.0, 44.0]), rules)
    assert any("measured or a datum" in p for p in assess(ground, rules, (*planned, bore)).facts[-1].problems)
    if without.suggestion is not None:
        more = assess(ground, rules, (*without.targets, without.suggestion))
        assert more.tracking.holds.sum() == without.tracking.holds.sum() + without.gain
    with pytest.raises(InputError, match="more than 50 mm from the part"):
        snapped(ground, np.array([0, 0, 500.0]), rules)


def test_improving_keeps_locked_targets_and_repairs_the_rest(
    ground: Ground, rules: PlacementRules, planned: tuple[Target, ...]
) -> None:
    rng = np.random.default_rng(2)
    shaken = [with_lock(planned[0], locked=True)]
    for target in planned[1:]:
        shaken.append(snapped(ground, target.place + rng.normal(0, 12, 3), rules))
    poor = assess(ground, rules, tuple(shaken))
    better = improve_targets(ground, rules, tuple(shaken), 0.9)
    good = assess(ground, rules, better)
    assert good.share > poor.share and good.broken == 0
    assert any(t.is_locked and np.allclose(t.place, planned[0].place) for t in better)


def test_ways_say_why_a_part_does_not_allow_them(ground: Ground, rules: PlacementRules) -> None:
    ways = compare_ways(Bases(ground, None, None, "the part stands free"), rules, 0.9, 0.05)
    assert tuple(way.way for way in ways) == tuple(Way)
    assert [way.is_possible for way in ways] == [False, False, True, True]
    assert ways[0].words == ways[1].words == "the part stands free"
    plate = Nominal.from_mesh(box_mesh((400.0, 300.0, 4.0)))
    flat = make_ground(plate, whole_part(-1, 1), HAND, HAND.modes[0], Stance.TABLE)
    on_part, none = compare_ways(Bases(flat, None, None), rules_for(plate, whole_part(-1, 1), HAND), 0.9, 0.05)[2:]
    assert none.share < 0.5 and "free to slide along" in none.words
    assert on_part.is_possible and np.isinf(on_part.expanded) and "nothing ties the two positions" in on_part.words


def test_rays_agree_with_the_tree(nominal: Nominal) -> None:
    rng = np.random.default_rng(1)
    starts = rng.uniform([-130, -90, 0], [130, 90, 140], (400, 3))
    ends = rng.uniform(-400, 400, (400, 3))
    way = ends - starts
    reach = np.linalg.norm(way, axis=1)
    blocked = RayCaster(nominal.mesh).blocked(starts, way / reach[:, None], reach)
    for start, direction, far, told in zip(starts, way / reach[:, None], reach, blocked, strict=True):
        hit = nominal.mesh.tree.first_hit(start, direction)
        assert told == (hit is not None and np.linalg.norm(hit[1] - start) < far)


@given(st.lists(st.tuples(st.integers(-5, 5), st.integers(-5, 5), st.integers(-5, 5)), min_size=1, max_size=40))
def test_row_keys_are_equal_exactly_for_equal_rows(rows: list[tuple[int, int, int]]) -> None:
    keys = row_keys(np.array(rows))
    for i, a in enumerate(rows):
        assert all((a == b) == (keys[i] == keys[j]) for j, b in enumerate(rows))


def test_ruler_marks_lead_back_to_the_place(nominal: Nominal) -> None:
    top = Target(np.array([90.0, -60.0, 18.0]), np.array([0.0, 0, 1.0]), FACES["plate top"], 10.0)
    marks = ruler_marks(nominal, top)
    assert len(marks) == 2 and marks[0].distance <= marks[1].distance
    assert {m.towards for m in marks} <= {"+X", "\u2212X", "+Y", "\u2212Y"}


@settings(max_examples=8, deadline=None)
@given(st.floats(0.2, 20), st.floats(5, 80))
def test_candidates_keep_their_distance_on_a_box(diameter: float, size: float) -> None:
    box = Nominal.from_mesh(box_mesh((size, 60.0, 50.0), cuts=2))
    rules = PlacementRules(diameter=diameter, spacing=(max(diameter, 1.0), 500.0))
    wanted = 1.5 * diameter
    # Where the widest face is just as wide as the rule asks, the grid of places decides.
    assume(abs(sorted((size, 60.0, 50.0))[1] / 2 - wanted) > 0.8)
    if min(size, 50.0) / 2 < wanted - 0.02 and sorted((size, 60.0, 50.0))[1] / 2 < wanted - 0.02:
        with pytest.raises(InputError, match=r"from every edge' leaves no place: the widest free face misses it by"):
            candidate_places(box, rules)
        return
    places = candidate_places(box, rules)
    inner = np.array([size, 60.0, 50.0]) / 2 - np.abs(places.points)
    for row, normal in zip(inner, places.normals, strict=True):
        assert min(row[np.abs(normal) < 0.5]) >= wanted - 0.03


@pytest.mark.parametrize(
    ("rules", "sentence"),
    [
        (
            {"spacing": (900.0, 1000.0)},
            "the rule 'at least 900 mm apart' cannot be met: it is 640 mm more than the part's 260 mm",
        ),
        ({"spacing": (80.0, 50.0)}, "the nearest spacing is 30 mm more than the farthest"),
        ({"spacing": (2.0, 50.0)}, "a spacing of 2 mm is 4 mm less than the disc itself"),
    ],
)
def test_rules_that_cannot_be_met_say_by_how_much(
    nominal: Nominal, rules: dict[str, tuple[float, float]], sentence: str
) -> None:
    with pytest.raises(InputError) as problem:
        PlacementRules(**rules).check(nominal)  # type: ignore[arg-type]
    assert sentence in problem.value.sentence


def test_cancelling_stops_and_the_plan_is_kept_as_a_document(nominal: Nominal, task: Task) -> None:
    planner = Planner(nominal, task, Plan(allowed=ALLOWED, goal=0.5), Grounds())
    progress = Progress()
    progress.cancel()
    with pytest.raises(Cancelled):
        planner.planned(progress)
    plan = planner.planned()
    assert plan.expected is not None and plan.expected.tracked >= 0.5 and len(plan.expected.poses) > 300
    again = Plan.model_validate_json(plan.model_dump_json(by_alias=True))
    assert again == plan
    places = np.array([t.place for t in again.placed])
    assert np.abs(places - arrays(plan.placed)[0]).max() < 1e-9
    assert planner.planned() == plan, "the same question has the same answer"
