"""Plates, turntables and blocks with targets of their own: documents, what a plan makes of them, and a capture with them."""

from __future__ import annotations

import json
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from benchmarks.promise import SPACING, captured
from benchmarks.starts import pump_cover

from helpers import box_mesh
from juxtum.align import best_fit
from juxtum.align.best_fit import BestFitOptions
from juxtum.capture.live.coverage import Seen
from juxtum.capture.live.gearmap import GearMap
from juxtum.capture.live.points import normals_of, places_of
from juxtum.capture.live.session import CaptureSession
from juxtum.cli.planning import better_ways
from juxtum.demo.solids import box, fused
from juxtum.devices.protocol import DeviceError
from juxtum.errors import InputError
from juxtum.geometry import PointCloud, RigidTransform
from juxtum.geometry.transform import rotation_from_vector
from juxtum.instruments.equipment import EquipmentKind, equipment_named, shipped_equipment
from juxtum.job import FileStore
from juxtum.job.planning import task_of
from juxtum.nominal import Nominal
from juxtum.plan.document import Plan
from juxtum.plan.equipping import planned_first, with_equipment, with_way, without_equipment
from juxtum.plan.equipping import ways as compare
from juxtum.plan.grounds import Grounds
from juxtum.plan.planner import Planner, with_expectation
from juxtum.plan.targets.gear import gear_of, smallest_that_suits, unsuited
from juxtum.plan.targets.linking import sighted, state_of
from juxtum.plan.targets.places import confusable
from juxtum.plan.targets.targets import arrays, place_targets
from juxtum.plan.targets.ties import tie_of
from juxtum.plan.targets.views import Stance
from juxtum.plan.targets.ways import Way, WayResult
from juxtum.plan.task import whole_part
from juxtum.report.setup_notes import setup_notes

WITHIN = 0.02
PLATE = equipment_named("rp-45")


@pytest.fixture(scope="module")
def planner(nominal: Nominal) -> Planner:
    from juxtum.demo.job import demo_job

    job = demo_job(FileStore(), with_scan=False)
    assert job.plan is not None
    plan = job.plan.with_targets(()).model_copy(update={"spacing": SPACING})
    return Planner(nominal, task_of(job), plan, Grounds())


@pytest.fixture(scope="module")
def ways(planner: Planner) -> dict[Way, WayResult]:
    return {way.way: way for way in compare(planner)}


def test_no_two_triangles_of_what_ships_are_alike() -> None:
    """All blocks stand about one part: their patterns may not be taken for each other, nor within a plate."""
    for item in shipped_equipment():
        assert confusable(item.places, np.ones((1, len(item.targets)), dtype=bool), 0.3) == (), item.id
    kinds = [item.kind for item in shipped_equipment()]
    assert {*kinds} == {*EquipmentKind} and kinds.count(EquipmentKind.BLOCK) == 4
    lengths = [np.sort([np.linalg.norm(a - b) for a in e.places for b in e.places]) for e in shipped_equipment()[-4:]]
    assert all(not np.allclose(a, b, atol=1.0) for k, a in enumerate(lengths) for b in lengths[:k])


GOOD = {
    "schema": "juxtum-equipment-1", "id": "mine", "name": "Mine", "kind": "plate", "size": [400, 300, 20],
    "targets": [{"place": [0, 0, 0]}, {"place": [50, 0, 0]}, {"place": [0, 70, 0]}],
}  # fmt: skip
BAD = [
    ({"kind": "shelf"}, "'kind' is not right"),
    ({"size": [400, 0, 20]}, "'size.1' is not right"),
    ({"targets": GOOD["targets"][:2]}, "'targets' is not right"),  # type: ignore[index]
    ({"targets": [*GOOD["targets"], {"place": [1, 2, float("inf")]}]}, "not equipment"),  # type: ignore[misc]
    ({"targets": [*GOOD["targets"], {"place": [1, 2, 3], "normal": [0, 0, 2]}]}, "the direction of target 4 must have the length one"),  # type: ignore[misc]
    ({"kind": "block", "carries": 5}, "nothing stands on a block"),
    ({"id": "../mine"}, "'id' is not right"),
    ({"colour": "red"}, "'colour' is not right"),
]  # fmt: skip


@pytest.mark.parametrize(("change", "sentence"), BAD)
def test_a_document_that_cannot_be_is_refused(tmp_path: Path, change: dict[str, object], sentence: str) -> None:
    path = tmp_path / "mine.json"
    path.write_text(json.dumps(GOOD))
    assert equipment_named(str(path)).name == "Mine"
    path.write_text(json.dumps(GOOD | change))
    with pytest.raises(InputError, match=sentence):
        equipment_named(str(path))
    with pytest.raises(InputError, match="there is no equipment 'rp-46'"):
        equipment_named("rp-46")


def test_what_a_part_can_stand_on(nominal: Nominal) -> None:
    assert unsuited(PLATE, nominal, Stance.TABLE, 9.0) == ""
    assert "carries 60 kg, the part has 61 kg" in unsuited(PLATE, nominal, Stance.TABLE, 61.0)
    assert "stands free" in unsuited(PLATE, nominal, Stance.STANDS, 9.0)
    assert "50 mm too small" in unsuited(equipment_named("rp-30"), nominal, Stance.TABLE, 9.0)
    assert unsuited(equipment_named("cb-a"), nominal, Stance.STANDS, 900.0) == ""
    assert smallest_that_suits(shipped_equipment(), nominal, Stance.TABLE, float("nan")) == PLATE
    long = Nominal.from_mesh(box_mesh((3000.0, 100.0, 100.0)))
    assert smallest_that_suits(shipped_equipment(), long, Stance.TABLE, 20.0) is None


def test_it_stands_under_the_middle_of_the_part_and_beside_it(nominal: Nominal) -> None:
    gear = gear_of((PLATE, equipment_named("cb-a"), equipment_named("cb-b")), nominal, Stance.TABLE)
    for turned, stands, places, normals in zip(
        gear.turned, gear.stands, gear.spots.places, gear.spots.normals, strict=True
    ):
        outline = turned.apply(nominal.mesh.points)
        on_table = turned.apply(places)
        plate = on_table[gear.owners == 0]
        assert np.allclose(plate[:, 2], 0, atol=1e-9) and np.allclose(turned.turn(normals)[gear.owners == 0], [0, 0, 1])
        assert np.allclose(stands[0].offset[:2], (outline.min(0) + outline.max(0))[:2] / 2)
        for block in (1, 2):
            rows = on_table[gear.owners == block]
            outside = (rows[:, :2] < outline.min(0)[:2]) | (rows[:, :2] > outline.max(0)[:2])
            assert outside.any(1).all() and rows[:, 2].max() == pytest.approx(130.0)
    put = gear.put_down(np.random.default_rng(1))
    off = np.linalg.norm(put.spots.places[0] - gear.spots.places[0], axis=1)
    assert 0.5 < off.mean() < 40, "a hand does not put it down where it was planned"


def test_ways_are_compared_in_minutes_coverage_and_uncertainty(ways: dict[Way, WayResult]) -> None:
    on, both, part = ways[Way.EQUIPMENT], ways[Way.BOTH], ways[Way.PART]
    assert len(on.targets) == 0 and 3 <= len(both.targets) <= 8 and 9 <= len(part.targets) <= 24
    assert min(w.share for w in (on, both, part)) >= 0.98
    assert both.equipment == (PLATE,) and part.equipment == ()
    assert (
        "laid onto the model by its shape" in on.words
        and f"{len(both.targets)} targets on the part in one view tie" in both.words
    )
    assert 0.045 < on.expanded < part.expanded < both.expanded < 0.2, (
        "a few in one view tie worse than many, and than the shape"
    )
    assert np.isnan(ways[Way.NONE].expanded)
    assert all(0 < w.minutes < 5 for w in ways.values())


def test_a_plate_alone_ties_nothing_when_the_part_is_turned_over(planner: Planner) -> None:
    """Its targets stay behind: without any on the part, and not joined by shape, only the first lay counts."""
    bare = planner.ground()
    tied = planner.grounds.with_gear(bare, (PLATE,), joined_by_shape=False)
    there = sighted(tied, *arrays(()))
    state = state_of(tied, there)
    assert not state.linkage.poses[bare.views.setups == 1].any() and state.share < 0.8
    assert not tie_of(tied, there, state.linkage).holds
    joined = planner.grounds.with_gear(bare, (PLATE,), joined_by_shape=True)
    assert state_of(joined, sighted(joined, *arrays(()))).share > 0.98


def test_a_few_on_a_rim_that_stands_over_the_plate_tie_its_positions() -> None:
    """The plate's targets near it crowd nobody out."""
    nominal = Nominal.from_shape(pump_cover())
    begun = Planner(nominal, whole_part(-0.2, 0.2), Plan(), Grounds())
    a = replace(begun, plan=with_equipment(begun, (equipment_named("rp-30"),))).assess()
    assert a.share > 0.99 and 3 <= len(a.targets) <= 8, "one target tied nothing when places near the plate were barred"


def test_what_was_planned_is_compared_and_a_better_way_is_named(planner: Planner, ways: dict[Way, WayResult]) -> None:
    """The way on the part is the very plan, not planned again; nothing is called better where enough is seen."""
    bare = without_equipment(planner)
    assert place_targets(bare.ground(), bare.rules(), planner.plan.goal) is ways[Way.PART].targets
    found = tuple(ways.values())
    assert better_ways(planner, planner.plan.goal, found) == []
    told = better_ways(planner, 0.5, found)
    assert len(told) == 1 and "(--equipment rp-45" in told[0], "the way that shows most, and how to ask for it"
    alone = better_ways(planner, 0.5, (ways[Way.EQUIPMENT],))
    assert "(--equipment rp-45 --joined shape), which shows" in alone[0]


def test_a_part_without_room_for_targets_stands_on_a_plate() -> None:
    """Of 5 mm, where targets keep 30 mm apart: no refusal, and its sheet says what its two positions are."""
    nominal = Nominal.from_shape(fused(box((0, 0, 0), (5, 3, 1)), [box((0, 0, 0), (1.5, 1.5, 2.5))]))
    begun = Planner(nominal, whole_part(-0.2, 0.2), Plan(), Grounds())
    made = replace(begun, plan=planned_first(begun))
    assert made.plan.equipment and not made.plan.targets and made.assess().share > 0.8
    notes = " ".join(setup_notes(made, made.assess()))
    assert "Nothing is stuck on the part: what position 1 shows of the part does not hold it on the model" in notes
    with pytest.raises(InputError, match="at least 30 mm apart"):
        begun.planned()


def test_a_tie_is_as_good_as_a_simulation_says(planner: Planner, ways: dict[Way, WayResult]) -> None:
    """Two maps of the common targets, laid onto each other 400 times: how far the farthest corner of the part scatters."""
    from juxtum.geometry.registration import rigid_from_pairs
    from juxtum.plan.targets.ties import SIGHTINGS, common_places

    tied = planner.grounds.with_gear(planner.ground(), (PLATE,), joined_by_shape=False)
    there = sighted(tied, *arrays(ways[Way.BOTH].targets))
    state = state_of(tied, there)
    places, view = common_places(tied, there, state.linkage)
    assert len(places) >= 4 and there.seen[view, :8].sum() == len(places), "those in the view that begins the lay"
    rng, sigma = np.random.default_rng(4), tied.needs.noise / np.sqrt(SIGHTINGS)
    corners = np.array(np.meshgrid(*planner.nominal.mesh.bounds.T)).reshape(3, -1).T
    moved = np.array([
        rigid_from_pairs(places + rng.normal(0, sigma, places.shape), places + rng.normal(0, sigma, places.shape)).apply(corners)
        for _ in range(400)
    ])  # fmt: skip
    spread = max(np.sqrt(np.linalg.eigvalsh(np.cov((moved[:, k] - corners[k]).T))[-1]) for k in range(len(corners)))
    assert tie_of(tied, there, state.linkage).spread == pytest.approx(spread, rel=0.1)


@pytest.mark.parametrize(
    "way", [pytest.param(Way.BOTH, marks=pytest.mark.long), pytest.param(Way.EQUIPMENT, marks=pytest.mark.long)]
)
def test_a_capture_on_a_plate_gives_what_was_promised(planner: Planner, ways: dict[Way, WayResult], way: Way) -> None:
    made = replace(planner, plan=with_way(planner, ways[way]).model_copy(update={"spacing": SPACING}))
    assert made.plan.expected is not None and made.plan.expected.coverage > 0.98
    session = captured(made, 7, made="BC-220")
    assert session.coverage.share(Seen.ONE_PASS) == pytest.approx(made.plan.expected.coverage, abs=WITHIN)
    assert session.map.to_part is not None and len(session.map.gear.rows) > 20
    corners = np.array(np.meshgrid(*planner.nominal.mesh.bounds.T)).reshape(3, -1).T
    first, second = (
        _lay(made, session, position).apply(session.map.to_part.inverse.apply(corners)) for position in (0, 1)
    )
    # What ties the lays is good to some hundredths: neither may lie off the other.
    assert np.linalg.norm(first - second, axis=1).max() < 0.16


def _lay(planner: Planner, session: CaptureSession, position: int) -> RigidTransform:
    """From the map to the part, by a best fit of what was captured in one position alone."""
    points = np.concatenate([p.store.all() for p in session.good if p.position == position])[::15]
    cloud = PointCloud(places_of(points), normals_of(points))
    assert session.map.to_part is not None
    return best_fit(cloud, planner.nominal, session.map.to_part, BestFitOptions(trim=0.1, reach=1.0)).transform


def test_nothing_is_joined_to_a_lay_that_was_not_recognised(planner: Planner, ways: dict[Way, WayResult]) -> None:
    session = CaptureSession(replace(planner, plan=with_way(planner, ways[Way.EQUIPMENT])), 1e9)
    with pytest.raises(DeviceError, match="the part is not recognised yet"):
        session.turn_over()
    assert session.position == 0


def test_its_targets_are_known_among_others_and_again_when_the_part_was_turned_back() -> None:
    rng = np.random.default_rng(3)
    way = RigidTransform.from_parts(rotation_from_vector(np.array([0.4, -0.2, 1.0])), np.array([300.0, -40, 9]))
    seen = {k: way.apply(p) + rng.normal(0, 0.03, 3) for k, p in enumerate(PLATE.places[:20])}
    strangers = {100 + k: rng.uniform(-200, 200, 3) for k in range(6)}
    gear = GearMap((PLATE,))
    gear.look_among(strangers | {k: seen[k] for k in range(3)})
    assert gear.rows == {}, "three are too few to be sure"
    gear.look_among(strangers | seen)
    assert gear.rows == {k: k for k in range(20)}
    gear.turned_over(1, strangers | seen)
    assert gear.rows == {} and gear.all_handles == set(range(20))
    gear.turned_over(0, strangers | seen)
    assert gear.rows == {k: k for k in range(20)}


def test_expectation_goes_with_the_equipment(planner: Planner, ways: dict[Way, WayResult]) -> None:
    """The same targets without the plate promise less, and are told so when it is taken away."""
    with_plate = replace(planner, plan=with_way(planner, ways[Way.BOTH]))
    without = without_equipment(with_plate)
    assert with_expectation(without, without.assess()).expected.coverage < 0.9  # type: ignore[union-attr]
    with pytest.raises(InputError, match="one plate or turntable"):
        with_equipment(planner, (PLATE, equipment_named("tt-55")))
    with pytest.raises(InputError, match="too small"):
        with_equipment(planner, (equipment_named("rp-30"),))
