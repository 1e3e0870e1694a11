"""Ways to capture besides the scanner in the hand: a tracker with its stations, a head before its table, a loop that closes or not."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from juxtum.capture.kept.document import CapturedPatch, CaptureRecord
from juxtum.capture.kept.resume import check_device
from juxtum.capture.live.coverage import Seen
from juxtum.capture.live.session import CaptureSession
from juxtum.capture.path.loop import SECTORS, Loop, loop_of
from juxtum.capture.path.run import run_by_itself, station_at, tell
from juxtum.capture.ways.practice import closing_error
from juxtum.capture.ways.turning import TurnRun
from juxtum.demo.bodies import body_for
from juxtum.demo.job import demo_job
from juxtum.devices.head import StructuredLightHead
from juxtum.devices.kinds import DeviceKind, make_stand_in
from juxtum.devices.link import DirectLink
from juxtum.devices.protocol import DeviceError, Message, packed
from juxtum.devices.tracked import STAND, TrackedScanner
from juxtum.exchange.inputfile import InputFile
from juxtum.geometry import RigidTransform
from juxtum.instruments.models import Kind, shipped
from juxtum.job import FileStore, Job
from juxtum.job.planning import task_of
from juxtum.nominal import Nominal
from juxtum.plan.grounds import Grounds
from juxtum.plan.planner import Planner, expected_coverage
from juxtum.plan.turntable import laid_down
from test_devices import plate


@pytest.fixture(scope="module")
def job() -> Job:
    return demo_job(FileStore(), with_scan=False)


@pytest.fixture(scope="module")
def planner(nominal: Nominal, job: Job) -> Planner:
    assert job.plan is not None
    return Planner(nominal, task_of(job), job.plan, Grounds())


@pytest.fixture(scope="module")
def tracked(planner: Planner) -> Planner:
    """The plan made for the tracked scanner."""
    made = replace(
        planner,
        plan=planner.plan.model_copy(
            update={"instrument": shipped(Kind.TRACKED), "mode": "", "chain": "", "targets": ()}
        ),
    )
    return replace(made, plan=made.planned())


# -- the tracker ----------------------------------------------------------------------------------------------


def test_targets_on_stands_tie_the_stations_together() -> None:
    scanner = TrackedScanner(
        plate(((-90, -60), (95, -70), (80, 75), (-70, 88), (5, -12))), shipped(Kind.TRACKED), seed=4
    )
    stands = [[700.0, 0, 50], [-700, 100, 150], [0, 800, 300], [100, -800, 200], [500, 500, 400]]
    low = Message("tracker", {"place": [0, -2500, -900], "axis": [0, 0.94, 0.34]})
    scanner.handle(low)
    with pytest.raises(DeviceError, match="the tracker sees 0 reference targets"):
        scanner.handle(Message("reference"))
    scanner.handle(Message("stands", {"places": stands}))
    scanner.handle(Message("tracker", {"place": [0, -2000, 1500], "axis": [0, 0.8, -0.6]}))
    first = scanner.handle(Message("reference"))[0]
    assert first.fields["targets"] == 10 and sum(row[0] >= STAND for row in first.table("new", 4)) == 5
    scanner.handle(low)
    assert scanner.handle(Message("reference"))[0].fields["targets"] in (4, 5), (
        "from below it sees no target on the part, but the stands"
    )
    below = Message("hand", {"eye": [0, 0, -330], "axis": [0, 0, 1], "up": [0, 1, 0], "time": 0.0})
    found = scanner.handle(below)[0]
    assert found.fields["state"] == "tracking" and found.fields["points"] > 500
    with pytest.raises(DeviceError, match="501 stands are too many"):
        scanner.handle(Message("stands", {"places": [[float(k), 0, 0] for k in range(501)]}))


def test_a_plan_for_the_tracker_needs_a_handful_that_tie_both_positions(tracked: Planner) -> None:
    assessment, ground = tracked.assess(), tracked.ground()
    assert 4 <= len(tracked.plan.targets) <= 16 and assessment.share > 0.98
    for position in (0, 1):
        rows = ground.views.setups == position
        assert (assessment.seen[rows].sum(1) >= 4).mean() > 0.98, "the tracker sees them in either position"
    none = replace(tracked, plan=tracked.plan.with_targets(()))
    assert not none.holding().any() and expected_coverage(ground, none.holding(), ()) == 0, (
        "without targets nobody ties the positions"
    )
    assert tracked.stations() is tracked.stations(), "stations are planned once"


def test_the_tracked_scanner_reaches_what_the_plan_expects(tracked: Planner, job: Job) -> None:
    body = body_for(job.nominal, tracked.nominal, tracked.plan, 3)
    device = make_stand_in(DeviceKind.TRACKED, body, tracked, 3)
    session = CaptureSession(tracked, 2e9, 6.0)
    link = DirectLink(device)
    with pytest.raises(DeviceError, match="there is no tracker station 9"):
        station_at(session, lambda asked: tell(session, link, asked), 8)
    station_at(session, lambda asked: tell(session, link, asked), 0)
    assert session.stations is not None and session.stations.station == 0
    run_by_itself(session, link)
    assert session.coverage.share(Seen.ONE_PASS) > session.goal - 0.02 and {p.position for p in session.good} == {0, 1}
    largest = closing_error(session, body)
    assert largest is not None and largest < 0.25, "tracker stations and both positions lie in one frame"
    session.found_device()
    assert session.stations.station == -1, "after a restart it must be placed anew"


# -- the table ------------------------------------------------------------------------------------------------


def test_shots_before_the_table_are_laid_onto_each_other(planner: Planner, job: Job) -> None:
    body = body_for(job.nominal, planner.nominal, planner.plan, 3)
    plan, model = planner.turntable(), shipped(Kind.HEAD)
    coarse = model.model_copy(
        update={"modes": tuple(m.model_copy(update={"spacing": (0.1, 2.0)}) for m in model.modes)}
    )
    link = DirectLink(StructuredLightHead(replace(body, turned=laid_down(planner.nominal, plan.tilts)), coarse, 3))
    run = TurnRun(CaptureSession(planner, 2e9, 1.5), plan)
    for _ in range(3):
        run.shoot(link)
    first, *others = run.facts
    assert first.overlap == 0 and all(f.overlap > 0.3 and f.rms < 0.05 and f.words == "good" for f in others)
    before = run.session.coverage.share(Seen.ONE_PASS)
    run.discard_last()
    assert run.session.coverage.share(Seen.ONE_PASS) < before and run.next_stop == run.stops[2]
    run.shoot_all(link)
    assert run.turns_over and len(run.facts) == run.plan.steps and len(run.session.good) == run.plan.steps
    assert 0.4 < run.session.coverage.share(Seen.ONE_PASS) < run.plan.coverage, "one way of laying it does not show all"
    places = np.concatenate([s.places[::50] for s in run._held.shots])
    found = body.mesh.tree.query(places, limit=2.0)
    assert np.median(np.abs(found.distances[found.found])) < 0.03, "the shots lie on the part as it was made"
    assert run.shoot(link).stop.position == 1 and not run.turns_over
    run.stops = run.stops[: len(run.facts)]
    with pytest.raises(DeviceError, match=r"all planned shots are taken\. Discard one to take it again"):
        run.shoot(link)


def test_captures_of_different_making_are_not_mixed() -> None:
    patch = CapturedPatch(
        number=1,
        file=InputFile(name="a.ply", sha256="0" * 64),
        points=5,
        mode="area",
        spacing=1.0,
        seconds=9.0,
        frames=1,
    )
    turned = CaptureRecord(device="head", patches=(patch,))
    check_device(turned, "head")
    check_device(None, "handheld")
    check_device(turned.model_copy(update={"patches": ()}), "handheld")
    for record, device in ((turned, "handheld"), (turned.model_copy(update={"device": "tracked"}), "head")):
        with pytest.raises(DeviceError, match="Start a new capture, then use this one"):
            check_device(record, device)


# -- the loop -------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(("turn", "offset", "meets"), [(1.0, 0.0, True), (1.0, 0.3, True), (0.6, 0.0, False)])
def test_a_loop_is_judged_by_its_ends(planner: Planner, turn: float, offset: float, meets: bool) -> None:
    mesh = planner.nominal.mesh
    rng = np.random.default_rng(2)
    rows = rng.choice(len(mesh.triangles), 120_000, p=mesh.triangle_areas / mesh.triangle_areas.sum())
    places = np.einsum("nk,nkd->nd", rng.dirichlet(np.ones(3), len(rows)), mesh.corners[rows])
    normals = mesh.triangle_normals[rows]
    about = places - mesh.bounds.mean(0)
    share = (np.arctan2(about[:, 1], about[:, 0]) + np.pi) / (2 * np.pi)
    order = np.argsort(share)
    order = order[share[order] < turn]
    again = order[: len(order) // 5] if meets else order[:0]
    taken = np.concatenate([places[order], places[again] + offset * normals[again]])
    facing = np.concatenate([normals[order], normals[again]])
    session = CaptureSession(planner, 1e9)
    session.map.locate(RigidTransform.identity())
    session.begin()
    frame = packed(taken, facing, np.full(len(taken), 200, dtype=np.uint8))
    session.take(
        Message(
            "frame", {"state": "tracking", "time": 0.0, "pose": list(np.eye(4).ravel()), "points": len(taken)}, frame
        )
    )
    session.accept()
    loop = loop_of(session)
    assert loop.is_round is meets and (loop.sectors == SECTORS) is (turn == 1.0)
    assert loop.gap == pytest.approx(offset, abs=0.02) if meets else loop.gap is None
    assert loop_of(CaptureSession(planner, 1e9)) == Loop(0, None)
