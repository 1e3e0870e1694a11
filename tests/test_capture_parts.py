"""Parts of Capture on their own, against analytic truth: surfaces, frames, registrations, paths, layers, trays, artefacts."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.stats import chi2

from juxtum.assemble.surfacing import finest_spacing, make_surface
from juxtum.capture.live.coverage import Coverage, Seen, make_cells
from juxtum.capture.live.frames import read_frame
from juxtum.capture.live.next_view import missing_patches, next_view, pose_of
from juxtum.capture.live.patch import State
from juxtum.capture.path.route import Stop, frames_at_stop, hands, path, tracked_poses
from juxtum.capture.ways.traying import scan_tray
from juxtum.demo.capture import with_capture
from juxtum.demo.job import FACES, demo_job
from juxtum.demo.world import nominal_path
from juxtum.devices.artefacts import board_dots
from juxtum.devices.body import Body
from juxtum.devices.cabinet import HARDENING, TomographyCabinet
from juxtum.devices.handheld import HandheldScanner
from juxtum.devices.link import DirectLink
from juxtum.devices.patterns import FRAMES
from juxtum.devices.protocol import DeviceError, Message
from juxtum.devices.resection import resect, resect_robust
from juxtum.devices.targetmap import MOST_COUNTED, TargetMap
from juxtum.errors import InputError
from juxtum.exchange.cad import read_cad
from juxtum.geometry import RigidTransform
from juxtum.geometry.transform import rotation_from_vector
from juxtum.instruments.models import Kind, TargetNeeds, shipped
from juxtum.job import FileStore
from juxtum.job.planning import task_of
from juxtum.nominal import Nominal
from juxtum.plan.blind import BlindSpot, Cause, Method
from juxtum.plan.grounds import Grounds
from juxtum.plan.planner import Planner, expected_coverage
from juxtum.plan.targets.views import Stance
from juxtum.plan.task import whole_part
from juxtum.plan.tray import plan_tray
from juxtum.scene.capture_layers import LAYERS, coverage_surfaces, make_skin
from test_devices import MODEL, over, plate


@pytest.fixture(scope="module")
def planner(nominal: Nominal) -> Planner:
    files = FileStore()
    job = with_capture(demo_job(files, with_scan=False), files)
    assert job.plan is not None and job.plan.targets
    return Planner(nominal, task_of(job), job.plan, Grounds())


# -- surfaces -------------------------------------------------------------------------------------------------


def ball(count: int, radius: float, noise: float, seed: int = 0) -> tuple[np.ndarray, np.ndarray]:
    """Points all over a ball and their normals."""
    rng = np.random.default_rng(seed)
    normals = rng.normal(size=(count, 3))
    normals /= np.linalg.norm(normals, axis=1, keepdims=True)
    return normals * (radius + rng.normal(0, noise, count))[:, None], normals


@pytest.mark.parametrize(("radius", "spacing"), [(8.0, 0.5), (20.0, 1.0)])
def test_a_surface_lies_on_its_points_without_leaning_inside(radius: float, spacing: float) -> None:
    points, normals = ball(60_000, radius, 0.02)
    surface = make_surface(points, normals, spacing)
    off = np.linalg.norm(surface.points, axis=1) - radius
    assert abs(off.mean()) < 0.003 and off.std() < 0.02, "neither the chord of the grid nor the noise is left"
    assert surface.area == pytest.approx(4 * np.pi * radius**2, rel=0.01)


def test_a_surface_stays_open_where_nothing_was_captured_and_loses_specks() -> None:
    points, normals = ball(60_000, 15.0, 0.01)
    seen = points[:, 2] > -5
    rng = np.random.default_rng(1)
    specks = rng.uniform(-40, 40, (200, 3))
    specks = specks[np.abs(np.linalg.norm(specks, axis=1) - 15) > 3]
    together = np.concatenate([points[seen], specks]), np.concatenate([normals[seen], rng.normal(size=specks.shape)])
    surface = make_surface(*together, 0.8)
    away = np.abs(np.linalg.norm(surface.points, axis=1) - 15)
    assert away.max() < 0.5 and surface.points[:, 2].min() > -5.8, "no speck, and the open side stays open"


def test_a_surface_that_cannot_be_made_is_refused() -> None:
    points, normals = ball(2000, 10.0, 0.0)
    with pytest.raises(InputError, match="400 points are too few for a surface"):
        make_surface(points[:400], normals[:400], 1.0)
    small, facing = ball(4000, 3.0, 0.0)
    apart = np.concatenate([small, small + 300.0])
    with pytest.raises(
        InputError, match=r"a spacing of 0\.3 mm is too fine for so large a capture\. Choose 0\.5 mm or more"
    ):
        make_surface(apart, np.concatenate([facing, facing]), 0.3)
    with pytest.raises(InputError, match=r"the points make no surface\. Capture more"):
        make_surface(points * 100, normals, 8.0)
    assert finest_spacing(np.array([1000.0, 1000, 1000])) == pytest.approx(1.02 * (1012**3 / 2.6e8) ** (1 / 3))


# -- frames ---------------------------------------------------------------------------------------------------

SPOILT = (
    ({"time": -1.0}, "a frame of the time -1 s cannot be"), ({"time": 1e9}, r"a frame of the time 1e\+09 s cannot be"), ({"time": "x"}, "time"),
    ({"pose": [1.0] * 16}, "the device sent a pose that is not rigid"), ({"pose": [0.0] * 15}, "pose"), ({"stand_off": "near"}, "stand_off"),
    ({"new": [[1, 2]]}, "new"), ({"new": [[1.5, 0, 0, 0]]}, r"a target cannot have the handle 1\.5"), ({"new": [[-2, 0, 0, 0]]}, "the handle -2"),
    ({"handles": [1e9]}, r"the handle 1e\+09"), ({"dark": [1]}, "dark"), ({"points": 3, "time": float("nan")}, "time"),
)  # fmt: skip


@pytest.mark.parametrize(("change", "words"), SPOILT)
def test_a_spoilt_frame_is_refused_with_a_sentence(change: dict[str, object], words: str) -> None:
    whole = HandheldScanner(plate(), MODEL).handle(over())[0]
    assert read_frame(whole).state is State.SCANNING and len(read_frame(whole).points) == whole.fields["points"]
    with pytest.raises(DeviceError, match=words) as refused:
        read_frame(Message("frame", {**whole.fields, **change}, whole.payload))
    assert refused.value.next, "what to do next is said"


def test_a_frame_of_an_unknown_state_counts_as_lost_and_wild_numbers_are_bounded() -> None:
    frame = read_frame(Message("frame", {"state": "dreaming", "exposure": 99, "known": -5, "number": -3, "since": 7}))
    assert frame.state is State.LOST and frame.exposure == 9 and frame.targets == 0 and frame.pose is None
    assert frame.number == 0 and frame.since == 7 and frame.time is None and len(frame.points) == 0


# -- registration ---------------------------------------------------------------------------------------------


@settings(max_examples=60, deadline=None)
@given(
    seed=st.integers(0, 10_000), turn=st.lists(st.floats(-3, 3), min_size=3, max_size=3), shift=st.lists(st.floats(-5000, 5000), min_size=3, max_size=3),
    count=st.integers(3, 30),
)  # fmt: skip
def test_a_registration_finds_the_pose_exactly(seed: int, turn: list[float], shift: list[float], count: int) -> None:
    rng = np.random.default_rng(seed)
    known = rng.normal(0, 150, (count, 3))
    pose = RigidTransform.from_parts(rotation_from_vector(turn), shift)
    found = resect(pose.inverse.apply(known), known, rng.uniform(0.01, 1, count))
    assert np.abs(found.pose.apply(pose.inverse.apply(known)) - known).max() < 1e-8
    assert found.chi.max() < 1e-12 and np.linalg.eigvalsh(found.covariance).min() > -1e-15


def test_a_registration_knows_how_well_it_is_known() -> None:
    rng = np.random.default_rng(4)
    known = rng.uniform(-100, 100, (7, 3))
    sigmas = rng.uniform(0.02, 0.2, 7)
    total, count = 0.0, 400
    for _ in range(count):
        found = resect(known + rng.normal(size=(7, 3)) * sigmas[:, None], known, sigmas**2)
        shift = found.pose.apply(found.centre[None])[0] - found.centre
        r = found.pose.rotation
        twist = np.concatenate([shift, [r[2, 1], r[0, 2], r[1, 0]]])
        total += float(twist @ np.linalg.solve(found.covariance, twist))
    low, high = chi2.ppf([0.0005, 0.9995], 6 * count)
    assert low < total < high


@pytest.mark.parametrize("moved", range(5))
def test_a_target_that_moved_is_named(moved: int) -> None:
    rng = np.random.default_rng(moved)
    known = rng.uniform(-120, 120, (8, 3))
    seen = known + rng.normal(0, 0.03, known.shape)
    seen[moved] += [1.5, -2.0, 0.7]
    found, rows = resect_robust(seen, known, np.full(8, 0.03**2), 4)
    assert rows == [moved] and np.abs(found.pose.offset).max() < 0.15


def test_a_given_map_is_only_added_to_and_a_learnt_one_settles() -> None:
    rng, needs = np.random.default_rng(3), TargetNeeds(noise=0.05)
    truth = rng.uniform(-80, 80, (6, 3))
    given, learnt = TargetMap(needs, RigidTransform.identity()), TargetMap(needs, RigidTransform.identity())
    given.give(np.column_stack([range(4), truth[:4], np.ones(4)]), fixed=True)
    for _ in range(200):
        seen = truth + rng.normal(0, needs.noise, truth.shape)
        for each in (given, learnt):
            each.learn(RigidTransform.identity(), list(range(6)), seen)
    assert all(np.array_equal(given.targets[k].place, truth[k]) for k in range(4)) and len(given.targets) == 6
    assert max(np.linalg.norm(learnt.targets[k].place - truth[k]) for k in range(6)) < 4 * needs.noise / np.sqrt(
        MOST_COUNTED
    )
    assert given.variances([0])[0] == pytest.approx(needs.noise**2) and learnt.variances([0])[0] > needs.noise**2
    learnt.forget([2, 99])
    assert learnt.known([1, 2, 3]) == [1, 3] and [row[0] for row in learnt.rows()] == [0, 1, 3, 4, 5]


# -- the path -------------------------------------------------------------------------------------------------


def test_the_path_sees_every_patch_twice_where_that_can_be_had(planner: Planner) -> None:
    ground, poses = planner.ground(), tracked_poses(planner)
    stops = path(ground, poses)
    rows = [int(np.argmin(np.linalg.norm(ground.views.eyes - s.eye, axis=1))) for s in stops]
    seen = ground.covers[rows].sum(0)
    wanted = np.minimum(ground.covers[poses.holds].sum(0), 2)
    assert ground.patches.areas[seen >= wanted].sum() > 0.998 * ground.patches.areas.sum()
    positions = [s.position for s in stops]
    assert positions == sorted(positions) and poses.holds[rows].all(), (
        "one position after the other, from poses that track"
    )
    some = ground.patches.faces == FACES["bore"] - 1
    assert 0 < len(path(ground, poses, some)) < len(stops) / 2, "a few faces take a few stops"


def test_the_hand_goes_as_fast_as_it_can_and_lets_the_trigger_go_between(planner: Planner) -> None:
    mode = planner.mode
    a = Stop(np.array([0.0, 0, 400]), np.array([0.0, 0, -1]), np.array([0.0, 1, 0]), 0)
    b = replace(a, eye=np.array([300.0, 0, 400]))
    told = list(hands((a, b, replace(b, position=1)), mode, 1.0, 5.0))
    times = [m.fields["time"] for m in told if m.kind == "hand"]
    assert times[0] == 5.0 and np.allclose(np.diff(times), 1 / FRAMES, atol=2e-4)
    paused, at = [], False
    for message in told:
        at = bool(message.fields["on"]) if message.kind == "pause" else at
        if message.kind == "hand":
            paused.append(at)
    sweeping = frames_at_stop(mode, 1.0)
    assert paused.count(False) == 3 * sweeping and paused.count(True) > 3, (
        "on the way it is paused; over another position nothing is swept"
    )
    speed = (
        np.linalg.norm(
            np.diff([m.fields["eye"] for m in told if m.kind == "hand"][sweeping : sweeping + 10], axis=0), axis=1
        )
        * FRAMES
    )
    assert speed.max() < 700
    assert frames_at_stop(mode, 0.5) >= frames_at_stop(mode, 1.0) >= frames_at_stop(mode, 3.0) >= 4


def test_what_is_missing_is_what_is_proposed(planner: Planner) -> None:
    faces = planner.task.measured_faces(planner.nominal)
    cells = make_cells(planner.nominal, faces, planner.spacing())
    coverage = Coverage(cells, planner.spacing())
    coverage.counts = 10 * coverage.needed
    tracks = np.ones(len(planner.ground().views), dtype=bool)
    assert next_view(coverage, planner, tracks, 0) is None and coverage.share() == 1.0
    coverage.counts = np.where(cells.faces == FACES["underside"], 0.0, coverage.counts)
    lost = float(cells.areas[cells.faces == FACES["underside"]].sum())
    assert missing_patches(coverage, planner.ground()).sum() == pytest.approx(lost, rel=0.01)
    view = next_view(coverage, planner, tracks, 0)
    assert view is not None and view.face == FACES["underside"] and view.turns_over and view.area <= lost * 1.01
    other = next_view(coverage, planner, tracks, 0, frozenset({pose_of(planner, view)}))
    assert other is not None and not np.array_equal(other.stop.eye, view.stop.eye)
    assert coverage.missing_by_face() == {FACES["underside"]: pytest.approx(lost)}


# -- what is expected and what is shown -----------------------------------------------------------------------


def test_what_only_a_probe_gives_is_not_expected(planner: Planner) -> None:
    ground, holds = planner.ground(), np.ones(len(planner.ground().views), dtype=bool)
    face = FACES["bore"]
    whole, share = expected_coverage(ground, holds, ()), 0.4
    part = float(
        ground.patches.areas[(ground.patches.faces == face - 1) & ground.covers.any(0)].sum()
        / ground.patches.areas.sum()
    )
    spots = {
        m: BlindSpot(Cause.DEEP, (face,), (), "deep", "probe it", m, share) for m in (Method.PROBE, Method.OTHER_MODE)
    }
    assert expected_coverage(ground, holds, (spots[Method.PROBE],)) == pytest.approx(whole - share * part)
    assert expected_coverage(ground, holds, (spots[Method.OTHER_MODE],)) == whole, "another mode gives it"
    assert expected_coverage(ground, holds, (spots[Method.PROBE],), (face,)) == pytest.approx(1 - share, abs=0.02)
    assert expected_coverage(ground, ~holds, ()) == 0


def test_the_layers_share_the_part_out(planner: Planner) -> None:
    cells = make_cells(planner.nominal, (FACES["bore"], FACES["underside"]), 2.0)
    skin = make_skin(planner.nominal, cells.places, cells.normals, cells.faces, cells.size)
    rng = np.random.default_rng(0)
    seen = rng.integers(0, 3, len(cells.areas)).astype(np.int8)
    shown = coverage_surfaces(skin, seen)
    counts = {name: 0 if surface is None else len(surface.triangles) for name, surface in shown.items()}
    assert tuple(shown) == LAYERS and sum(counts.values()) == len(skin.owners)
    assert counts["cover other"] == (skin.owners < 0).sum() > 0
    assert counts["cover none"] == (seen[skin.owners[skin.owners >= 0]] == Seen.NOT_YET).sum()
    hatched = [name for name, s in shown.items() if s is not None and s.full[0].GetPointData().GetTCoords() is not None]
    assert hatched == ["cover none"], "only what is not yet captured is hatched"
    assert coverage_surfaces(skin, np.full(len(seen), Seen.ENOUGH))["cover none"] is None


# -- trays and artefacts --------------------------------------------------------------------------------------


def test_a_tray_gives_every_part_where_it_really_lies() -> None:
    model, clip = shipped(Kind.CABINET), Nominal.from_shape(read_cad(nominal_path("VC-8")).shape)
    tray, body = plan_tray(clip, whole_part(-0.1, 0.1), model, 3), Body.of(clip, Stance.TABLE)
    cabinet = TomographyCabinet(body, model, tray, seed=5)
    scan = scan_tray(DirectLink(cabinet))
    assert scan.parts == 3 and len(scan.points) == pytest.approx(3 * clip.mesh.area / scan.spacing**2, rel=0.001)
    rng = np.random.default_rng(1)
    for index in range(3):
        count = len(scan.points) // 3
        some = scan.points[index * count : (index + 1) * count][rng.integers(0, count, 3000)]["place"].astype(
            np.float64
        )
        found = body.mesh.tree.query(cabinet.placed(index).inverse.apply(some), limit=1.0)
        assert found.found.all() and np.abs(found.distances).mean() < model.modes[0].noise + HARDENING
    assert not np.allclose(cabinet.placed(0).rotation, cabinet.placed(1).rotation), "nobody lays parts down exactly"


class Mute:
    """A cabinet that answers as it is told."""

    def __init__(self, *answers: Message) -> None:
        self._answers = list(answers)

    def handle(self, message: Message) -> list[Message]:
        return self._answers


@pytest.mark.parametrize(
    ("answers", "words"),
    [
        ((Message("done", {"parts": 3}),), "the cabinet gave no points"),
        ((Message("error", {"what": "the door is open", "next": "Close it"}),), "the door is open"),
        ((Message("frame", {}, b"\x00" * 15),), "a point frame is cut off"),
    ],
)
def test_a_tray_scan_that_fails_says_so(answers: tuple[Message, ...], words: str) -> None:
    with pytest.raises(DeviceError, match=words):
        scan_tray(DirectLink(Mute(*answers)))


def test_artefacts_tell_the_error_of_scale_and_correction_takes_it_off() -> None:
    scanner = HandheldScanner(plate(), MODEL, seed=3)
    scanner.unsettle()
    before = scanner.calibration.error
    assert abs(before) > 1e-5

    def measured() -> float:
        answers = [
            scanner.handle(Message("board", {"distance": 300.0 + k, "tilt": 10.0 * k, "lean": -5.0 * k}))[0].table(
                "dots", 3
            )
            for k in range(4)
        ]
        true = np.linalg.norm(board_dots()[:, None] - board_dots()[None], axis=2)
        there = true > 100
        return float(np.mean([np.linalg.norm(d[:, None] - d[None], axis=2)[there] / true[there] for d in answers]) - 1)

    found = measured()
    assert found == pytest.approx(before, abs=5e-5)
    scanner.handle(Message("correct", {"scale": found}))
    assert abs(measured()) < 8e-5 and abs(scanner.calibration.error) < abs(before)
    with pytest.raises(DeviceError, match="the board is behind the scanner"):
        scanner.handle(Message("board", {"distance": -1.0, "tilt": 0.0, "lean": 0.0}))
    ends = scanner.handle(Message("bar", {"length": 500.0, "diameter": 20.0, "distance": 320.0}))[0].table("ends", 3)
    assert np.linalg.norm(ends[1] - ends[0]) == pytest.approx(500.0, abs=0.15)


@pytest.mark.parametrize("radius", [-4.0, 5.0])
def test_where_half_of_a_round_wall_was_seen_the_surface_ends_with_its_points(radius: float) -> None:
    """A bore (negative) and a rod, seen from one side at a spacing of a quarter of their radius: no vertex leans off at the border."""
    rng, out = np.random.default_rng(4), float(np.sign(radius))
    turn, z = rng.uniform(-1.3, 1.3, 6000), rng.uniform(0, 30, 6000)
    facing = out * np.stack([np.cos(turn), np.sin(turn), 0 * turn], 1)
    points = abs(radius) * out * facing + np.stack([0 * z, 0 * z, z], 1) + rng.normal(0, 0.01, (6000, 1)) * facing
    surface = make_surface(points, facing, 1.0, overhang=0.9)
    off = np.hypot(*surface.points[:, :2].T) - abs(radius)
    assert np.abs(off).max() < 0.08 and np.sqrt((off**2).mean()) < 0.015 and abs(off.mean()) < 0.003
    assert surface.triangle_areas.sum() > 0.9 * 2.6 * abs(radius) * 30


def test_small_rounds_are_no_roughness_where_flat_faces_are_clean() -> None:
    """A plate of even points without noise, a rod of 3 mm on it, 0.6 mm apart: that the rod bends was taken for a veil."""
    rng = np.random.default_rng(5)
    x, y = np.meshgrid(np.arange(0, 30, 0.5), np.arange(5, 35, 0.5))
    plate = np.stack([x.ravel(), y.ravel(), 0 * x.ravel()], 1)
    turn, along = rng.uniform(-np.pi, np.pi, 4000), rng.uniform(0, 30, 4000)
    out = np.stack([0 * turn, np.cos(turn), np.sin(turn)], 1)
    rod = 1.5 * out + np.stack([along, 0 * along, 0 * along + 5], 1)
    points, facing = np.concatenate([plate, rod]), np.concatenate([np.tile([0.0, 0, 1], (len(plate), 1)), out])
    surface = make_surface(points, facing, 0.6, overhang=0.9)
    centres = surface.corners.mean(1)
    assert surface.triangle_areas[centres[:, 2] > 2].sum() == pytest.approx(2 * np.pi * 1.5 * 30, rel=0.03)
