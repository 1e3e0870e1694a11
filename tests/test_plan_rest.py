"""Stations, blind spots, turntable, trays, schedule: known answers."""

from __future__ import annotations

import numpy as np
import pytest

from helpers import box_mesh
from juxtum.demo.beam_job import beam_job
from juxtum.demo.job import FACES, characteristics
from juxtum.demo.solids import box, cut, cylinder
from juxtum.demo.world import nominal_path
from juxtum.errors import InputError
from juxtum.exchange.cad import read_cad
from juxtum.geometry import RigidTransform
from juxtum.geometry.transform import rotation_from_vector
from juxtum.instruments.coats import COATS
from juxtum.instruments.models import Kind, TrackerNeeds, shipped
from juxtum.job import FileStore
from juxtum.job.planning import task_of
from juxtum.nominal import Nominal
from juxtum.plan.blind import Cause, Finish, Method, blind_spots, finishes_of, known_spots, methods
from juxtum.plan.cost.schedule import STICK_COATED, Work, clock, parse_clock, schedule
from juxtum.plan.stations import Obstacle, cage_places, in_volume, plan_stations
from juxtum.plan.targets.ground import Ground, make_ground
from juxtum.plan.targets.reach import reach_of
from juxtum.plan.targets.views import Spots, Stance
from juxtum.plan.task import Task, whole_part
from juxtum.plan.tray import plan_tray
from juxtum.plan.turntable import OVERLAP, plan_turntable, symmetry_warnings
from juxtum.plan.voxels import fineness

HAND, TRACKED, HEAD, CABINET = (shipped(k) for k in (Kind.HANDHELD, Kind.TRACKED, Kind.HEAD, Kind.CABINET))


@pytest.fixture(scope="module")
def beam_task() -> Task:
    return task_of(beam_job(FileStore()))


@pytest.fixture(scope="module")
def tracked(beam: Nominal, beam_task: Task) -> Ground:
    return make_ground(beam, beam_task, TRACKED, TRACKED.modes[0], Stance.STANDS)


def test_stations_see_the_cage_at_nearly_every_pose(tracked: Ground) -> None:
    plan = plan_stations(tracked)
    assert plan.share > 0.98 and 2 <= len(plan.stations) <= 4
    tracker = TRACKED.tracker
    assert tracker is not None
    assert plan.worst_error == pytest.approx(tracker.a + tracker.b * plan.farthest / 1000)
    assert all(n >= tracker.shared for _, _, n in plan.ties) and len(plan.ties) == len(plan.stations) - 1
    cages = cage_places(tracked)
    for row, station in zip(plan.seen, plan.stations, strict=True):
        assert in_volume(tracker, station.place, station.axis, cages[row]).all()
        for cage in cages[row][::40]:
            way = station.place - cage
            hit = tracked.nominal.mesh.tree.first_hit(
                tracked.views.turned[0].inverse.apply(cage[None])[0], way / np.linalg.norm(way)
            )
            assert hit is None or np.linalg.norm(hit[1] - cage) > np.linalg.norm(way) - 1e-6


def test_a_part_that_is_turned_needs_one_position(nominal: Nominal) -> None:
    """Part and cages turned about the vertical by the angles that it says, looked at from the one place."""
    ground = make_ground(nominal, whole_part(-0.2, 0.2), TRACKED, TRACKED.modes[0], Stance.TABLE)
    made, tracker = plan_stations(ground), TRACKED.tracker
    assert tracker is not None and made.turns is not None and made.turns.degrees[0] == 0
    assert len(made.turns.degrees) >= len(made.stations), "one distance and height serves no more than all"
    centre, cages, setups = (
        ground.views.turned[0].apply(nominal.mesh.bounds).mean(0),
        cage_places(ground),
        ground.views.setups,
    )
    served = np.zeros(len(cages), dtype=bool)
    for angle in made.turns.degrees:
        turn = rotation_from_vector([0.0, 0.0, np.radians(angle)])
        move = RigidTransform.from_parts(turn, centre - turn @ centre)
        there = move.apply(cages)
        backs = np.empty_like(cages)
        for setup, laid in enumerate(ground.views.turned):
            mine = setups == setup
            backs[mine] = move.turn(laid.turn(-ground.views.axes[mine]))
        ways = made.turns.place - there
        lengths = np.linalg.norm(ways, axis=1)
        seen = in_volume(tracker, made.turns.place, made.turns.axis, there)
        seen &= np.einsum("ij,ij->i", ways / lengths[:, None], backs) > np.cos(np.radians(tracker.facing))
        for k in np.flatnonzero(seen & ~served):
            back = (move @ ground.views.turned[int(setups[k])]).inverse
            hit = nominal.mesh.tree.first_hit(back.apply(there[k][None])[0], back.turn((ways[k] / lengths[k])[None])[0])
            served[k] = (
                hit is None or np.linalg.norm(back.inverse.apply(hit[1][None])[0] - there[k]) > lengths[k] - 1e-6
            )
    assert served.mean() == pytest.approx(made.turns.share, abs=0.01)


def test_a_tracker_may_stand_lower_than_the_part(tracked: Ground) -> None:
    """Under a low gallery, which hides the scanner from all that is high, low places still serve."""
    gallery = Obstacle((-9000.0, -9000.0, 450.0), (9000.0, 9000.0, 560.0))
    made = plan_stations(tracked, (gallery,))
    assert made.share > 0.2 and min(s.place[2] for s in made.stations) < 450


def test_an_obstacle_costs_stations_or_poses(tracked: Ground) -> None:
    free = plan_stations(tracked)
    wall = Obstacle((-3000.0, 600.0, -2000.0), (3000.0, 700.0, 4000.0))
    hindered = plan_stations(tracked, (wall,))
    assert (len(hindered.stations), -hindered.share) > (len(free.stations), -free.share)
    assert all(station.place[1] < 600 or hindered.seen[k].sum() for k, station in enumerate(hindered.stations))
    cage = Obstacle((-9000.0, -9000.0, -9000.0), (9000.0, 9000.0, 9000.0))
    with pytest.raises(InputError, match="no place round the part"):
        plan_stations(tracked, (cage,))


def test_the_volume_is_a_truncated_pyramid() -> None:
    tracker = TrackerNeeds(nearest=1000, farthest=3000, across=60, upright=40)
    axis = np.array([1.0, 0, 0])
    d = 2000.0
    points = np.array([
        [d, 0, 0], [900, 0, 0], [3100, 0, 0], [-d, 0, 0],
        [d, d * np.tan(np.radians(29)), 0], [d, d * np.tan(np.radians(31)), 0],
        [d, 0, d * np.tan(np.radians(19))], [d, 0, d * np.tan(np.radians(21))],
    ])  # fmt: skip
    assert in_volume(tracker, np.zeros(3), axis, points).tolist() == [
        True,
        False,
        False,
        False,
        True,
        False,
        True,
        False,
    ]


def test_what_scanning_will_not_give_of_the_beam(beam: Nominal, beam_task: Task) -> None:
    ground = make_ground(beam, beam_task, HAND, HAND.modes[0], Stance.STANDS)
    spots = blind_spots(ground, beam_task, 1.0)
    thin = next(s for s in spots if s.cause is Cause.THIN)
    assert thin.aims == ("5",) and len(thin.faces) == 8 and thin.method is Method.SCAN
    assert thin.instead == "scan it finer, every 0.3 mm", "the cheaper cure comes before the probe"
    by_cause = {s.cause: s for s in spots if s.method is Method.PROBE}
    assert by_cause[Cause.DEEP].aims == ("6",) and "3.5 diameters deep from each end" in by_cause[Cause.DEEP].reason
    how = methods(beam_task, spots)
    assert (how["5"], how["6"], how["7"]) == (Method.SCAN, Method.PROBE, Method.SCAN)


@pytest.mark.parametrize(
    ("thickness", "instead", "method"),
    [
        (2.4, "use 'fine parallel lines' there, every 0.1 mm", Method.OTHER_MODE),
        (2.9, "scan it finer, every 0.3 mm", Method.SCAN),
        (2.1, "probe the plane first, then the edge", Method.PROBE),
        (5.5, "", None),
    ],
)
def test_a_thin_wall_is_scanned_finer_before_it_is_probed(
    thickness: float, instead: str, method: Method | None
) -> None:
    """At 1 mm spacing; of a wall 1 mm at each end does not count, three rings are needed on the rest."""
    plate = Nominal.from_shape(cut(box((0, 0, 0), (80, 60, thickness)), [cylinder((40, 30, -5), (0, 0, 1), 9, 20)]))
    spots = known_spots(plate, whole_part(-0.2, 0.2), HAND, HAND.modes[0], 1.0)
    told = [(s.instead, s.method) for s in spots if s.cause is Cause.THIN]
    assert told == ([] if method is None else [(instead, method)])


def test_finishes_ask_for_other_modes_or_coats(nominal: Nominal) -> None:
    task = Task(tuple(s.aim for s in characteristics()))
    ground = make_ground(nominal, task, HAND, HAND.modes[0], Stance.TABLE)
    finishes = finishes_of(nominal, {str(FACES["bore"]): "glossy", str(FACES["seat top"]): "mirror-like"})
    how = methods(task, blind_spots(ground, task, 1.0, finishes))
    assert (how["3"], how["2"], how["4"]) == (Method.OTHER_MODE, Method.COAT, Method.SCAN)
    for words, sentence in (
        ({"51": "shiny"}, "'shiny' is not a finish"),
        ({"x": "dark"}, "not the number of a face"),
        ({"999": "dark"}, "no face 999"),
    ):
        with pytest.raises(InputError, match=sentence):
            finishes_of(nominal, words)
    assert Finish.CLEAR in Finish


def test_an_undercut_is_told() -> None:
    """A block with an undercut slot: what lies behind its lips is seen from nowhere."""
    block = cut(box((0, 0, 0), (80, 80, 60)), [box((37, -5, 30), (6, 90, 40)), box((10, -5, 20), (60, 90, 10))])
    nominal = Nominal.from_shape(block)
    ground = make_ground(nominal, whole_part(-1, 1), HAND, HAND.modes[0], Stance.STANDS)
    hidden = [s for s in blind_spots(ground, whole_part(-1, 1), 1.0) if s.cause is Cause.HIDDEN]
    faces = {f for s in hidden for f in s.faces}
    lips = [
        f.number
        for f in nominal.faces
        if f.centre[2] == pytest.approx(30) and f.feature is not None and np.allclose(f.feature.normal, [0, 0, -1])
    ]
    assert len(lips) == 2 and set(lips) <= faces, "the undersides of the lips"
    outside = {
        f.number
        for f in nominal.faces
        if f.centre[2] in (pytest.approx(60), pytest.approx(0)) or f.centre[0] in (pytest.approx(0), pytest.approx(80))
    }
    assert len(outside) == 5 and not outside & faces


def test_reach_grows_with_the_diameter() -> None:
    single = HAND.mode("single line")
    reaches = [reach_of(single, d) for d in (2, 8, 16, 40, 90)]
    assert reaches == sorted(reaches) and reaches[0] == 2 and reaches[-1] == 5


def test_turntable_views_cover_what_can_be_seen(nominal: Nominal) -> None:
    plan = plan_turntable(nominal, whole_part(-1, 1), HEAD)
    assert 180 % plan.steps == 0 and plan.coverage >= 0.97 * plan.reachable and plan.overlap >= OVERLAP
    assert 0.9 < plan.coverage <= 1 and plan.shots == plan.steps * len(plan.tilts)
    easy = plan_turntable(nominal, whole_part(-1, 1), HEAD, goal=0.6)
    assert easy.shots <= plan.shots


def test_symmetry_makes_joining_by_shape_unsafe(nominal: Nominal) -> None:
    import trimesh

    from juxtum.geometry import TriangleMesh

    disc = trimesh.creation.cylinder(40, 20, sections=128)
    round_part = Nominal.from_mesh(TriangleMesh(np.array(disc.vertices), np.array(disc.faces)))
    assert any("round about Z" in w for w in symmetry_warnings(round_part))
    square = Nominal.from_mesh(box_mesh((60.0, 60.0, 20.0), cuts=3))
    assert any("a turn of 90\u00b0 about Z brings the part onto itself" in w for w in symmetry_warnings(square))
    assert symmetry_warnings(nominal) == ()


def test_trays_keep_gaps_and_stay_in_the_cylinder() -> None:
    clip = Nominal.from_shape(read_cad(nominal_path("VC-8")).shape)
    plan = plan_tray(clip, whole_part(-1, 1), CABINET, wanted=40, gap=5.0)
    assert plan.count == 40 and 15 <= plan.tilt <= 25
    assert plan.minutes_each == pytest.approx(33 / 40 + 0.4) and plan.minutes_single == 33
    points = (clip.mesh.points - clip.centre) @ plan.rotation.T
    placed = plan.places[:, None] + points[None, ::40]
    assert CABINET.cylinder is not None
    assert np.hypot(placed[..., 0], placed[..., 1]).max() <= CABINET.cylinder.diameter / 2
    assert placed[..., 2].min() >= 0 and placed[..., 2].max() <= CABINET.cylinder.height
    low, high = placed.min(1), placed.max(1)
    gaps = np.maximum(low[:, None] - high[None], low[None] - high[:, None]).max(2)
    np.fill_diagonal(gaps, np.inf)
    assert gaps.min() >= 5.0 - 1e-6
    apart = np.linalg.norm(plan.places[:, :2], axis=1)
    assert apart.max() < CABINET.cylinder.diameter / 2


def test_a_tray_holds_no_more_than_can_be_told() -> None:
    """The voxel grows with the tray; a tight tolerance leaves few parts near the axis, and one that nothing reaches is told."""
    clip = Nominal.from_shape(read_cad(nominal_path("VC-8")).shape)
    wide, tight, hopeless = (plan_tray(clip, whole_part(-t, t), CABINET) for t in (0.5, 0.09, 0.005))
    mode = CABINET.modes[0]
    for made in (wide, tight):
        found = made.fineness
        assert found is not None and found.is_enough
        assert found.voxel == pytest.approx(max(mode.spacing[0], mode.spacing[1] * found.diameter / mode.field[0]))
    assert (
        not wide.left_out
        and 1 <= tight.count < wide.count
        and "too coarse for the tightest tolerance" in tight.left_out
    )
    assert tight.minutes_each == pytest.approx(33 / tight.count + 0.4)
    bound = fineness(CABINET, whole_part(-0.09, 0.09), wide.places[: tight.count + 1], wide.outline, clip.diagonal)
    assert not bound.is_enough, "one more would be too many"
    assert hopeless.count == wide.count and hopeless.left_out.startswith(
        "not even one part alone is seen finely enough"
    )


def test_a_coat_that_vanishes_too_soon_is_told() -> None:
    work = Work(
        sticking=10, warm_up=40, calibration=4, photos=0, scanning=(60.0, 50.0), computing=5, coat=COATS["vanishing"]
    )
    plan = schedule(work, parse_clock("08:15"))
    times = {e.what: e.clock for e in plan.entries}
    # The coat comes before the targets, and its time runs from then on.
    assert times["coat: vanishing spray, 4 \u00b5m"] == "08:25" and times[STICK_COATED] == "08:31"
    assert times["wait until the instrument is warm"] == "08:41" and times["calibrate and check"] == "08:55"
    assert plan.warnings[0].startswith("the coat is gone at 09:58, 57 min before the last scan ends at 10:55")
    bare = schedule(Work(10, 40, 4, 0, (60.0, 50.0), 5), 495)
    assert [e.what for e in bare.entries][1] == "stick the targets in their order"
    assert not schedule(Work(10, 40, 4, 0, (60.0, 50.0), 5, COATS["slow vanishing"]), 495).warnings
    assert plan.end - plan.entries[0].start == plan.total and clock(plan.end) == "11:08"
    with pytest.raises(InputError, match="'25:00' is not a clock time"):
        parse_clock("25:00")


def test_poses_look_at_the_part_from_the_stand_off(tracked: Ground) -> None:
    views, mode = tracked.views, TRACKED.modes[0]
    assert np.allclose(np.linalg.norm(views.axes, axis=1), 1) and np.allclose(
        np.einsum("ij,ij->i", views.axes, views.ups), 0
    )
    away = np.linalg.norm(views.eyes - tracked.patches.places[views.patches], axis=1)
    assert np.allclose(away, mode.stand_off[1])
    own = tracked.covers[np.arange(len(views)), views.patches]
    assert own.mean() > 0.97, "nearly every pose sees the patch it was made for"
    behind = Spots.on_part(views.eyes[:1] - 500 * views.axes[:1], views.axes[:1], 1)
    assert not tracked.seen(behind)[0, 0]
