"""Stand-ins against their own models: noise, poses, light, reach, lines of sight; and the protocol against garbage."""

from __future__ import annotations

import numpy as np
import pytest
from scipy.stats import chi2

from juxtum.devices.body import Body, Pose
from juxtum.devices.handheld import HandheldScanner
from juxtum.devices.head import StructuredLightHead
from juxtum.devices.patterns import rays_of
from juxtum.devices.probe import TouchProbe
from juxtum.devices.projector import LaserProjector
from juxtum.devices.protocol import DeviceError, Message, encode
from juxtum.devices.resection import resect, resect_robust
from juxtum.devices.shot import Setting, shoot
from juxtum.devices.surface import EXPOSURES, best_exposure
from juxtum.devices.tracked import TrackedScanner
from juxtum.geometry import Cylinder, RigidTransform, TriangleMesh
from juxtum.geometry.transform import rotation_from_vector
from juxtum.instruments.models import Kind, shipped
from juxtum.nominal import Nominal
from juxtum.plan.blind import Finish
from juxtum.plan.holes import Hole
from juxtum.plan.targets.reach import reach_of
from juxtum.plan.targets.views import Stance
from standins import MODEL, SPREAD, over, plate

pytestmark = pytest.mark.quick


def test_noise_follows_its_model() -> None:
    body, rng = plate(()), np.random.default_rng(5)
    mode = MODEL.modes[0]
    sums, count = 0.0, 0
    for height, lean in ((250.0, 0.0), (330.0, 20.0), (450.0, 45.0)):
        axis = np.array([np.sin(np.radians(lean)), 0, -np.cos(np.radians(lean))])
        pose = Pose.looking(np.array([0.0, 0, 10.0]) - height * axis, axis, np.array([0.0, 1, 0]))
        shot = shoot(body, body.scenes[0], pose, rays_of(mode, 2.0, rng), Setting(mode, 5), rng)
        places, normals = pose.to_part.apply(shot.places), np.array([0.0, 0, 1])
        sight = places - pose.eye
        cosines = np.abs(sight @ normals) / np.linalg.norm(sight, axis=1)
        # What the errors do to the height of a point, in units of what the model says.
        z = (places[:, 2] - 10.0) / (shot.sigmas * cosines)
        z = z[np.abs(z) < 6]
        sums, count = sums + float(z @ z), count + len(z)
    low, high = chi2.ppf([0.0005, 0.9995], count)
    assert low < sums < high and count > 3000


def test_poses_follow_their_covariance() -> None:
    body = plate()
    scanner = HandheldScanner(body, MODEL, seed=2)
    scanner.calibration.error = 0.0
    scanner.handle(Message("map", {"targets": [[k, *t.place, 1.0] for k, t in enumerate(body.targets)], "fixed": True}))
    scanner.handle(Message("pause", {"on": True}))
    distances = []
    for k in range(400):
        x, y = 25 * np.sin(k), 25 * np.cos(1.7 * k)
        pose = Pose.looking(np.array([x, y, 330.0]), np.array([0.0, 0, -1]), np.array([0.0, 1, 0]))
        fields, found = scanner._tracked(pose, body.scenes[0], np.random.default_rng([k, 7]))
        assert found is not None and fields["state"] == "tracking"
        covariance = np.zeros((6, 6))
        covariance[np.triu_indices(6)] = fields["covariance"]
        covariance += np.triu(covariance, 1).T
        centre = np.array(fields["centre"])
        error = found @ pose.to_part.inverse
        shift = error.apply(centre[None])[0] - centre
        turn = np.array([error.rotation[2, 1], error.rotation[0, 2], error.rotation[1, 0]])
        twist = np.concatenate([shift, turn])
        distances.append(twist @ np.linalg.solve(covariance, twist))
    low, high = chi2.ppf([0.0005, 0.9995], 6 * len(distances))
    assert low < np.sum(distances) < high


def test_what_is_asked_twice_is_answered_alike() -> None:
    def run(seed: int) -> list[bytes]:
        scanner = HandheldScanner(plate(), MODEL, seed)
        return [encode(scanner.handle(over(10 * k, 0))[0]) for k in range(4)]

    assert run(3) == run(3) and run(3) != run(4)


def test_tracking_is_lost_below_the_minimum_and_says_why() -> None:
    scanner = HandheldScanner(plate(), MODEL)
    assert scanner.handle(over())[0].fields["state"] == "tracking"
    for k in range(5):
        scanner.handle(Message("fault", {"name": "target", "index": k}))
    lost = scanner.handle(over())[0]
    assert lost.fields["state"] == "lost" and lost.fields["points"] == 0 and not lost.payload
    assert lost.fields["why"] == "2 targets in view, 3 are the bare minimum"


def test_a_weak_pattern_jumps_and_is_found_out() -> None:
    scanner = HandheldScanner(plate(), MODEL, seed=1)
    scanner.handle(over())
    for k in range(4):
        scanner.knocked.add(k)
    states = [scanner.handle(over(0.3 * k))[0] for k in range(60)]
    assert {m.fields["state"] for m in states} == {"weak"}
    scanner.knocked.clear()
    found = scanner.handle(over())[0]
    assert found.fields["event"] == "jump" and found.fields["since"] > 1 and found.fields["state"] == "tracking"
    assert "event" not in scanner.handle(over())[0].fields


def test_a_target_that_moved_is_left_out() -> None:
    body = plate()
    scanner = HandheldScanner(body, MODEL, seed=6)
    for _ in range(10):
        scanner.handle(over())
    scanner.map.targets[2].place = scanner.map.targets[2].place + np.array([3.0, 0, 0])
    message = scanner.handle(over())[0]
    assert (
        message.fields["event"] == "target moved"
        and message.fields["handles"] == [2]
        and message.fields["state"] == "tracking"
    )
    rng = np.random.default_rng(0)
    known = rng.normal(0, 80, (7, 3))
    found, moved = resect_robust(
        known + rng.normal(0, 0.03, known.shape), known + np.eye(7, 3) * 0, np.full(7, 2 * 0.03**2), 4
    )
    assert not moved and found.chi.max() < 25


@pytest.mark.parametrize(
    ("finish", "exposure", "few", "bright"),
    [
        (Finish.MATT, 5, False, False),
        (Finish.DARK, 5, True, False),
        (Finish.DARK, 8, False, False),
        (Finish.MATT, 9, False, True),
        (Finish.CLEAR, 5, True, False),
    ],
)
def test_light_against_finish(finish: Finish, exposure: int, few: bool, bright: bool) -> None:
    body, rng = plate((), finish=finish), np.random.default_rng(1)
    pose = Pose.looking(np.array([0.0, 0, 330.0]), np.array([0.05, 0, -1.0]), np.array([0.0, 1, 0]))
    shot = shoot(body, body.scenes[0], pose, rays_of(MODEL.modes[0], 2.0, rng), Setting(MODEL.modes[0], exposure), rng)
    assert (shot.dark > 0.5) is few and (shot.bloomed > 0.5) is bright
    assert (len(shot.places) < 600) is few
    assert (
        best_exposure(Finish.DARK, MODEL.modes[0]) > best_exposure(Finish.MATT, MODEL.modes[0])
        and best_exposure(finish, MODEL.modes[0]) in EXPOSURES
    )


def test_glare_is_avoided_by_leaning_away() -> None:
    body, rng = plate((), finish=Finish.GLOSSY), np.random.default_rng(1)

    def bloomed(lean: float) -> float:
        axis = np.array([np.sin(np.radians(lean)), 0, -np.cos(np.radians(lean))])
        pose = Pose.looking(np.array([0.0, 0, 10.0]) - 320 * axis, axis, np.array([0.0, 1, 0]))
        return shoot(
            body, body.scenes[0], pose, rays_of(MODEL.modes[0], 2.0, rng), Setting(MODEL.modes[0], 5), rng
        ).bloomed

    assert bloomed(0.0) > 0.02 and bloomed(45.0) < 0.003


def test_no_point_lies_outside_the_window_or_under_a_target() -> None:
    body, rng = plate(), np.random.default_rng(2)
    near, _, far = MODEL.modes[0].stand_off
    for height in (100.0, 200.0, 500.0):
        pose = Pose.looking(np.array([0.0, 0, 10 + height]), np.array([0.0, 0, -1]), np.array([0.0, 1, 0]))
        shot = shoot(body, body.scenes[0], pose, rays_of(MODEL.modes[0], 1.0, rng), Setting(MODEL.modes[0], 5), rng)
        assert len(shot.places) == 0 or near - 3 < -shot.places[:, 2].min() < far + 3
        assert shot.stand_off == pytest.approx(height, abs=1)
    pose = Pose.looking(np.array([0.0, 0, 330.0]), np.array([0.0, 0, -1]), np.array([0.0, 1, 0]))

    def bare(edge: float) -> float:
        there = plate(((5, -12),), edge)
        nearest = []
        for k in range(40):
            hand = Pose.looking(
                np.array([0.7 * k - 14, 0.5 * k - 10, 330.0]), np.array([0.0, 0, -1]), np.array([0.0, 1, 0])
            )
            shot = shoot(
                there, there.scenes[0], hand, rays_of(MODEL.modes[0], 0.6, rng), Setting(MODEL.modes[0], 5), rng
            )
            nearest.append(np.linalg.norm((hand.to_part.apply(shot.places) - [5, -12, 10])[:, :2], axis=1).min())
        return float(min(nearest))

    assert bare(40.0) == pytest.approx(3.3, abs=0.7), "only the disc"
    assert bare(4.0) == pytest.approx(9.0, abs=0.7), "near an edge the rim is spoilt"


@pytest.mark.parametrize(("mode", "diameters"), [("crossed lines", 0.95), ("single line", 3.1)])
def test_deep_holes_are_seen_as_deep_as_the_mode_says(mode: str, diameters: float) -> None:
    import trimesh

    tube = trimesh.creation.annulus(r_min=10, r_max=40, height=160, sections=96)
    mesh = TriangleMesh(np.array(tube.vertices), np.array(tube.faces))
    radial = np.linalg.norm(mesh.corners.mean(1)[:, :2], axis=1)
    faces = np.where((radial < 11) & (np.abs(mesh.triangle_normals[:, 2]) < 0.5), 2, 1).astype(np.int32)
    hole = Hole((2,), Cylinder(np.zeros(3), np.array([0.0, 0, 1]), 10.0), 160.0, True)
    body = Body(mesh, faces, (RigidTransform.translation([0, 0, 80.0]),), holes=(hole,))
    rng, used, depths = np.random.default_rng(0), MODEL.mode(mode), []
    for k in range(40):
        axis = rotation_from_vector(np.radians([*rng.uniform(-22, 22, 2), 0])) @ [0.0, 0, -1]
        pose = Pose.looking(
            np.array([0.0, 0, 80]) - used.stand_off[1] * axis, axis, np.array([np.cos(k), np.sin(k), 0.1])
        )
        shot = shoot(body, body.scenes[0], pose, rays_of(used, 0.3, rng), Setting(used, 5), rng)
        places = pose.to_part.apply(shot.places)
        depths += list(80 - places[(np.linalg.norm(places[:, :2], axis=1) < 10.3) & (places[:, 2] < 79)][:, 2])
    assert np.quantile(depths, 0.999) <= diameters * 20 + 0.5 and reach_of(used, 20.0) == pytest.approx(
        diameters, abs=0.05
    )
    assert len(body.hole_mouths[0]) == 2 and max(depths) > 0.6 * diameters * 20


def test_the_tracker_tells_why_it_sees_nothing() -> None:
    scanner = TrackedScanner(
        plate(((-90, -60), (95, -70), (80, 75), (-70, 88), (5, -12))), shipped(Kind.TRACKED), seed=4
    )
    hand = Message("hand", {"eye": [0, 0, 340], "axis": [0, 0, -1], "up": [0, 1, 0], "time": 0.0})
    scanner.handle(Message("tracker", {"place": [0, -2000, 1500], "axis": [0, 0.8, -0.6]}))
    first = scanner.handle(hand)[0].fields
    assert first["state"] == "tracker moved" and "measure the reference targets" in first["why"]
    assert scanner.handle(Message("reference"))[0].fields["targets"] == 5
    near = scanner.handle(hand)[0]
    assert near.fields["state"] == "tracking" and near.fields["points"] > 1000
    scanner.handle(Message("tracker", {"place": [0, -3000, 2200], "axis": [0, 0.8, -0.6]}))
    scanner.handle(Message("reference"))
    assert scanner.handle(hand)[0].fields["spread"] > near.fields["spread"], "the error grows with the range"
    turned = Message("hand", {"eye": [0, 0, -320], "axis": [0, 0, 1], "up": [0, 1, 0], "time": 0.0})
    assert scanner.handle(turned)[0].fields["state"] == "hidden"
    scanner.handle(Message("fault", {"name": "tracker"}))
    assert scanner.handle(hand)[0].fields["state"] == "tracker moved"
    with pytest.raises(DeviceError, match="the tracker sees 0 reference targets, 4 are needed"):
        scanner.handle(Message("tracker", {"place": [0, -9000, 1500], "axis": [0, 1, 0]}))
        scanner.handle(Message("reference"))


def test_the_probe_is_compensated_and_late_by_little() -> None:
    probe = TouchProbe(plate(), shipped(Kind.PROBE), seed=1)
    tip = probe.handle(Message("hello"))[0].fields["tip_radius"]
    from juxtum.devices.handheld import START

    heights = []
    for k in range(40):
        answer = probe.handle(Message("touch", {"from": [3.0 * k - 60, 10.0, 60.0], "direction": [0, 0, -1]}))[0]
        heights.append(START.inverse.apply(answer.vector("middle")[None])[0][2] - tip - 10.0)
    assert abs(np.mean(heights)) < 0.006 and np.std(heights) < 0.01
    assert probe.handle(Message("touch", {"from": [0.0, 0, 60], "direction": [0, 0, 1]}))[0].kind == "missed"


def test_overlap_puts_right_what_the_turntable_gets_wrong(nominal: Nominal) -> None:
    from juxtum.capture.ways.turns import TurnedShots

    head = StructuredLightHead(Body.of(nominal, Stance.TABLE), shipped(Kind.HEAD), seed=3)
    head.is_calibrated = False
    head.spacing = 1.2
    held = TurnedShots((np.array([0.0, 0, nominal.mesh.bounds[0, 2]]), np.array([0.0, 0, 1])))
    raw = []
    for k in range(3):
        head.handle(Message("turn", {"degrees": 25.0 * k}))
        frame = head.handle(Message("shoot"))[0]
        pose = RigidTransform(frame.vector("pose", 16).reshape(4, 4))
        raw.append(pose.apply(frame.points()["place"]))
        shot = held.take(frame, pose)
    assert shot.overlap > 0.3 and shot.rms < 0.1
    error = np.linalg.norm(raw[-1].mean(0) - raw[0].mean(0))
    assert error > 0 and (shot.places[:, 2] > nominal.mesh.bounds[0, 2] + 0.5).all(), "the table is cut off"


def test_a_projector_must_know_where_the_part_is() -> None:
    projector = LaserProjector(plate(), shipped(Kind.PROJECTOR))
    with pytest.raises(DeviceError, match="Locate it by targets first"):
        projector.handle(Message("show", {"line": [[0, 0, 10]]}))
    projector.handle(Message("locate", {"targets": [list(t.place) for t in plate().targets]}))
    line = projector.handle(Message("show", {"line": [[0, 0, 10], [50, 0, 10]]}))[0].table("line", 3)
    assert np.abs(line - [[0, 0, 10], [50, 0, 10]]).max() < 1.0


def test_warmth_makes_the_part_grow() -> None:
    scanner = HandheldScanner(plate(), MODEL, seed=8)
    scanner.calibration.error = 0.0
    cold, warm = [], []
    for held in (cold, warm):
        for _ in range(60):
            pose = Pose.looking(np.array([0.0, 0, 340]), np.array([0.0, 0, -1]), np.array([0.0, 1, 0]))
            _, local = scanner.observed(pose, scanner.body.scenes[0], np.random.default_rng(len(cold + warm)))
            held.append(np.linalg.norm(local[0] - local[1]))
        scanner.handle(Message("fault", {"name": "temperature", "kelvin": 100.0}))
    length = np.linalg.norm(np.subtract(*np.array([[*SPREAD[0]], [*SPREAD[1]]])))
    assert np.mean(warm) - np.mean(cold) == pytest.approx(11e-6 * 100 * length, rel=0.2)


def test_resection_needs_no_start() -> None:
    rng = np.random.default_rng(4)
    known = rng.normal(0, 100, (6, 3))
    pose = RigidTransform.from_parts(rotation_from_vector([0.4, -1.2, 2.0]), [50, -20, 900])
    found = resect(pose.inverse.apply(known), known, np.full(6, 1e-4))
    assert np.allclose(found.pose.matrix, pose.matrix, atol=1e-9) and found.chi.max() < 1e-9


# -- the protocol ---------------------------------------------------------------------------------------------
