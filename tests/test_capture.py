"""Capture from end to end on the stand-ins: patches, coverage, loss and resumption, and the truth at the end of it."""

from __future__ import annotations

import os
import threading
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from juxtum.align.datums import DatumFeature, datum_points
from juxtum.associate import fit_plane, without_outliers
from juxtum.capture.kept.document import CaptureRecord
from juxtum.capture.kept.result import kept_points, record_of, surface_of, write_patch
from juxtum.capture.kept.resume import take_up
from juxtum.capture.live.coverage import Seen
from juxtum.capture.live.next_view import next_view
from juxtum.capture.live.patch import State, Zone
from juxtum.capture.live.points import Budget, MemoryFull, PointStore
from juxtum.capture.live.session import CaptureSession
from juxtum.capture.path.run import follow, legs, run_by_itself, tell
from juxtum.capture.ways.practice import EXERCISES, debrief, debrief_bars, exercise_of
from juxtum.capture.ways.probing import Purpose, evaluate, guide, task_for
from juxtum.demo.bodies import body_for
from juxtum.demo.capture import with_capture
from juxtum.demo.job import FACES, datum_step, demo_job
from juxtum.demo.truth import Truth
from juxtum.devices.body import Body
from juxtum.devices.handheld import START, HandheldScanner
from juxtum.devices.link import DirectLink, SocketLink
from juxtum.devices.probe import TouchProbe
from juxtum.devices.protocol import DeviceError, Message
from juxtum.devices.server import serve
from juxtum.errors import JuxtumError
from juxtum.exchange.meshes import write_ply
from juxtum.geometry import Cylinder, RigidTransform
from juxtum.instruments.models import Kind, shipped
from juxtum.job import FileStore, Job, Procedure, Runner, load_job, save_job
from juxtum.job.planning import task_of
from juxtum.job.steps import BestFit, Decide, Fragments, Rough
from juxtum.nominal import Nominal
from juxtum.plan.grounds import Grounds
from juxtum.plan.planner import Planner

LIMIT = 0.02


@pytest.fixture(scope="module")
def captured() -> tuple[FileStore, Job]:
    """The demo job with its capture, as the desk opens it."""
    files = FileStore()
    return files, with_capture(demo_job(files), files)


@pytest.fixture(scope="module")
def planner(captured: tuple[FileStore, Job], nominal: Nominal) -> Planner:
    assert captured[1].plan is not None
    return Planner(nominal, task_of(captured[1]), captured[1].plan, Grounds())


@pytest.fixture(scope="module")
def scanned(captured: tuple[FileStore, Job], tmp_path_factory: pytest.TempPathFactory) -> tuple[FileStore, Job]:
    """The captured job, its surface made and run through Assemble and Align as they stand."""
    files, job = captured
    surface = surface_of(kept_points(job.capture, files.locate), 1.0)
    path = tmp_path_factory.mktemp("scan") / "captured.ply"
    write_ply(path, surface)
    usual = (Fragments(share=0.002), Rough(), BestFit(start="rough"), datum_step("best fit"))
    steps = Procedure(steps=(*usual, *job.procedure.steps))
    job = job.with_scan(files.adopt(path)).model_copy(
        update={"procedure": steps.with_step(Decide(alignment="best fit"))}
    )
    return files, job


def scanner_for(planner: Planner, job: Job, seed: int = 417) -> HandheldScanner:
    return HandheldScanner(body_for(job.nominal, planner.nominal, planner.plan, seed), planner.model, seed)


def test_the_capture_recovers_what_was_injected(scanned: tuple[FileStore, Job], nominal: Nominal, known: Truth) -> None:
    files, job = scanned
    runner = Runner(files)
    deviation, pose, scan = (
        runner.deviation(job, "best fit"),
        runner.alignment(job, "best fit").transform,
        runner.cleaned(job),
    )

    def mean_of(name: str) -> float:
        rows = (deviation.faces == FACES[name] - 1) & deviation.clear
        return float(np.average(deviation.distances[rows], weights=deviation.weights[rows]))

    def cylinder_at(name: str) -> Cylinder:
        points = pose.apply(datum_points(scan, nominal, pose, DatumFeature("A", (FACES[name],))))
        start = nominal.face(FACES[name]).feature
        assert isinstance(start, Cylinder)
        return without_outliers(start, points).feature

    assert 2 * cylinder_at("bore").radius - 72.0 == pytest.approx(known.errors.bore_diameter, abs=LIMIT)
    assert mean_of("boss 2 top") == pytest.approx(-known.errors.boss_shortfall, abs=LIMIT)
    assert mean_of("boss 1 top") == pytest.approx(0, abs=LIMIT) and mean_of("plate top") == pytest.approx(0, abs=LIMIT)
    points = pose.apply(datum_points(scan, nominal, pose, DatumFeature("A", (FACES["seat top"],))))
    normal = fit_plane(points, np.array([0.0, 0, 1])).feature.normal
    length = float(np.ptp(nominal.face_mesh((FACES["seat top"],)).points[:, 1]))
    assert abs(normal[1] / normal[2]) * length == pytest.approx(known.errors.seat_tilt, abs=LIMIT)
    hole, drawn = cylinder_at("bolt hole 1"), nominal.face(FACES["bolt hole 1"]).feature
    assert isinstance(drawn, Cylinder)
    shift = hole.point + hole.axis * ((drawn.point - hole.point) @ hole.axis) - drawn.point
    assert shift[:2] == pytest.approx(known.errors.hole_shift, abs=1.5 * LIMIT)
    shroud = (deviation.faces == FACES["shroud"] - 1) & deviation.clear
    assert np.quantile(deviation.distances[shroud], 0.995) == pytest.approx(known.bump.height, abs=2 * LIMIT)
    assert deviation.area_seen_of((FACES["underside"],)) > 0.9, "turned over, it was scanned too"


def test_the_demo_job_carries_it_and_keeps_it(captured: tuple[FileStore, Job], tmp_path: Path) -> None:
    files, job = captured
    assert (
        job.capture is not None
        and job.plan is not None
        and job.capture.coverage > 0.9
        and job.capture.to_part is not None
    )
    assert {p.position for p in job.capture.patches} == {0, 1} and sum(
        t.planned is not None for t in job.capture.targets
    ) == len(job.plan.targets)
    save_job(job, tmp_path / "kept.juxtum", files)
    other = FileStore()
    again = load_job(tmp_path / "kept.juxtum", other, tmp_path / "inputs")
    assert again == job and len(kept_points(again.capture, other.locate)) == len(job.capture.patches)


@pytest.fixture
def session(planner: Planner) -> CaptureSession:
    return CaptureSession(planner, 2e9)


@pytest.fixture
def link(planner: Planner, captured: tuple[FileStore, Job], session: CaptureSession) -> DirectLink:
    made = DirectLink(scanner_for(planner, captured[1]))
    tell(session, made, Message("spacing", {"mm": 3.0}))
    return made


def test_patches_begin_end_and_go(session: CaptureSession, link: DirectLink, planner: Planner) -> None:
    stops = next(iter(legs(planner))).stops
    follow(session, link, stops[:2])
    first = session.accept()
    assert first is not None and first.number == 1 and len(first.store) > 5000 and session.map.to_part is not None
    share = session.coverage.share(Seen.ONE_PASS)
    follow(session, link, stops[2:4])
    assert session.coverage.share(Seen.ONE_PASS) > share > 0
    session.accept()
    session.discard(2)
    assert [p.number for p in session.patches] == [1]
    # The first may count otherwise than before: more targets tell better where the part is.
    assert session.coverage.counts == pytest.approx(first.counts)
    with pytest.raises(DeviceError, match="there is no patch 7"):
        session.discard(7)
    session.turn_over()
    assert session.position == 1 and session.begin().position == 1
    assert session.accept() is None, "an empty patch is none"


def test_a_zone_is_scanned_again_finer(session: CaptureSession, link: DirectLink, planner: Planner) -> None:
    stops = next(iter(legs(planner))).stops
    follow(session, link, stops[:3])
    assert session.map.to_part is not None
    places = session.map.to_part.apply(session.patches[0].store.all()["place"])
    spot = tuple(float(v) for v in places[np.argmin(np.linalg.norm(places - places.mean(0), axis=1))])
    zone = Zone(spot, 15.0)
    before = int(zone.holds(places).sum())
    patch = session.refine(zone, 0.6)
    coarse = session.map.to_part.apply(session.patches[0].store.all()["place"])
    assert before > 20 and not zone.holds(coarse).any(), "the coarse points are erased"
    tell(session, link, Message("spacing", {"mm": 0.6}))
    follow(session, link, stops[:3])
    fine = session.map.to_part.apply(patch.store.all()["place"])
    assert len(fine) > 3 * before and zone.holds(fine).all(), "and only there fine ones are taken"


def test_a_jump_costs_one_patch(
    session: CaptureSession, link: DirectLink, planner: Planner, monkeypatch: pytest.MonkeyPatch
) -> None:
    stops, taken, take = next(iter(legs(planner))).stops, [], session.take
    with monkeypatch.context() as watched:
        watched.setattr(session, "take", lambda message: (taken.append(message), take(message)))
        follow(session, link, stops[:2])
    session.accept()
    kept, share = len(session.patches[0].store), session.coverage.share(Seen.ONE_PASS)
    session.begin()
    message = [m for m in taken if m.kind == "frame" and m.fields["points"]][-1]
    message = Message("frame", {**message.fields, "number": 900}, message.payload)
    session.take(message)
    assert session.coverage.share(Seen.ONE_PASS) >= share
    session.take(Message("frame", {**message.fields, "event": "jump", "since": 900, "points": 0}))
    assert session.state is State.JUMP and session.patches[1].has_jumped and len(session.patches[0].store) == kept
    assert session.coverage.share(Seen.ONE_PASS) == pytest.approx(share, abs=1e-9) and [
        p.number for p in session.good
    ] == [1]
    assert session.happenings[-1].word == "jump"
    session.take(
        Message("frame", {**message.fields, "event": "jump", "since": session.patches[0].last_frame, "points": 0})
    )
    assert not session.good and session.coverage.share(Seen.ONE_PASS) == 0, (
        "a patch that was accepted after the jump began is lost too"
    )


def test_full_memory_stops_and_loses_nothing(planner: Planner, link: DirectLink) -> None:
    small = CaptureSession(planner, 150_000)
    stops = next(iter(legs(planner))).stops
    follow(small, link, stops[:2])
    assert small.state is State.FULL and 0 < small.budget.used <= small.budget.limit and small.points > 1000
    assert [h.word for h in small.happenings if h.word == "full"] == ["full"]
    taken = small.points
    follow(small, link, stops[:1])
    assert small.points == taken
    store = PointStore(Budget(100))
    with pytest.raises(MemoryFull, match="nothing is lost"):
        store.add(Message("frame", {}, bytes(16 * 100)).points(), RigidTransform.identity())


def test_next_view_leads_to_what_is_missing(session: CaptureSession, link: DirectLink, planner: Planner) -> None:
    tracks = session.poses.holds
    view = next_view(session.coverage, planner, tracks, 0)
    assert view is not None and view.area > 1000 and not view.turns_over
    session.coverage.counts = np.where(np.isin(session.cells.faces, (FACES["bore"],)), 0.0, 1e6)
    bore = next_view(session.coverage, planner, tracks, 0)
    assert bore is not None and bore.face == FACES["bore"] and bore.name == "bore"
    session.coverage.counts[:] = 1e6
    assert next_view(session.coverage, planner, tracks, 0) is None and session.coverage.share() == 1.0


@pytest.fixture(scope="module")
def body(planner: Planner, captured: tuple[FileStore, Job]) -> Body:
    """The part, made and prepared before any child is born."""
    made = body_for(captured[1].nominal, planner.nominal, planner.plan, 417)
    assert made.scenes and made.hole_mouths
    return made


def served(planner: Planner, body: Body) -> tuple[int, int]:
    """A scanner in a child process: its number and port."""
    ready, told = os.pipe()
    child = os.fork()
    if child == 0:
        try:
            serve(
                HandheldScanner(body, planner.model, 417),
                0,
                lambda port: os.write(told, f"{port}\n".encode()),
                once=True,
            )
        finally:
            os._exit(0)
    os.close(told)
    port = int(os.read(ready, 20))
    os.close(ready)
    return child, port


def test_a_device_that_dies_twenty_times_takes_nothing_with_it(planner: Planner, body: Body, tmp_path: Path) -> None:
    import signal

    rng = np.random.default_rng(5)
    session = CaptureSession(planner, 2e9)
    stops = next(iter(legs(planner))).stops[:10]
    accepted: dict[int, int] = {}
    step = 0
    for _ in range(20):
        child, port = served(planner, body)
        link = SocketLink(port)
        tell(session, link, Message("spacing", {"mm": 6.0}))
        if session.map.targets:
            tell(session, link, Message("map", {"targets": session.map.rows()}))
        session.found_device()
        timer = threading.Timer(float(rng.uniform(0.05, 0.7)), os.kill, (child, signal.SIGKILL))
        timer.start()
        with pytest.raises(DeviceError, match="connection"):
            while True:
                follow(session, link, (stops[step % 10],))
                step += 1
                patch = session.accept()
                if patch is not None:
                    accepted[patch.number] = len(patch.store)
                    write_patch(patch, tmp_path)
        running = session.current
        session.lost_device("the connection to the device is lost")
        if running is not None and len(running.store):
            accepted[running.number] = len(running.store)
        assert session.state is State.GONE and session.current is None
        os.waitpid(child, 0)
        link.close()
    assert len(accepted) > 5 and {p.number: len(p.store) for p in session.good} == accepted


def test_a_capture_goes_on_where_it_was(captured: tuple[FileStore, Job], planner: Planner, tmp_path: Path) -> None:
    files, job = captured
    assert job.capture is not None
    session = CaptureSession(planner, 4e9)
    take_up(session, job.capture, files.locate)
    assert session.coverage.share() == pytest.approx(job.capture.coverage, abs=0.02)
    assert [p.number for p in session.good] == [p.number for p in job.capture.patches]
    kept = {p.number: files.adopt(write_patch(p, tmp_path)) for p in session.good}
    again = record_of(session, kept, "handheld", 417)
    assert again.points == job.capture.points and len(again.targets) == len(job.capture.targets)
    assert CaptureRecord.model_validate_json(again.model_dump_json()) == again


def test_probing_is_guided_and_finds_the_hole(
    captured: tuple[FileStore, Job], planner: Planner, nominal: Nominal, known: Truth
) -> None:
    probe = TouchProbe(body_for(captured[1].nominal, nominal, planner.plan, 1), shipped(Kind.PROBE), seed=1)
    tip = float(probe.handle(Message("hello"))[0].fields["tip_radius"])
    task = task_for(nominal, FACES["bolt hole 1"], "bolt hole 1")
    order = [p.purpose for p in task.points]
    assert order == sorted(order, key=[Purpose.PLANE, Purpose.EDGE].index), "the plane comes first"
    assert all(p.normal[2] == 1 and p.place[2] > 10 for p in task.points if p.purpose is Purpose.PLANE), (
        "in its counterbore: the part stands on the other side"
    )
    told = guide(task.points[0], task.points[0].start + np.array([0, 0, 50]))
    assert (
        told.words == "50 mm: down"
        and not told.may_touch
        and guide(task.points[0], task.points[0].start).words == "touch"
    )
    assert guide(task.points[0], task.points[0].start + np.array([0, 0, 5])).tone.frequency > told.tone.frequency
    middles = []
    for point in task.points:
        answer = probe.handle(Message("touch", {"from": list(point.start), "direction": list(-point.normal)}))[0]
        middles.append(START.inverse.apply(answer.vector("middle")[None])[0])
    found = evaluate(task, middles, tip)
    drawn = nominal.face(FACES["bolt hole 1"]).feature
    assert isinstance(drawn, Cylinder) and found.circle is not None
    assert 2 * found.circle.feature.radius == pytest.approx(2 * drawn.radius, abs=0.03)
    model = shipped(Kind.PROBE)
    least = 2 * model.chain().a / np.sqrt(3)
    assert least < found.diameter_u(model.as_instrument(model.chain())) < 2 * least, "its own error is in it"
    assert (found.circle.feature.point - drawn.point)[:2] == pytest.approx(known.errors.hole_shift, abs=0.03)
    with pytest.raises(JuxtumError, match="3 touches are missing"):
        evaluate(task, middles[:-3], tip)


@pytest.fixture
def practised(planner: Planner, captured: tuple[FileStore, Job]) -> Iterator[tuple[CaptureSession, HandheldScanner]]:
    yield CaptureSession(planner, 2e9), scanner_for(planner, captured[1])


def test_the_debrief_is_honest(practised: tuple[CaptureSession, HandheldScanner], planner: Planner) -> None:
    session, device = practised
    link = DirectLink(device)
    tell(session, link, Message("spacing", {"mm": 4.0}))
    stops = next(iter(legs(planner))).stops[:5]
    follow(session, link, stops)
    good = debrief(exercise_of("hold"), session, device.body)
    far = [replace(s, eye=s.eye - 150.0 * s.axis) for s in stops]
    follow(session, link, tuple(far))
    bad = debrief(exercise_of("hold"), session, device.body)
    assert good.score > bad.score and dict(bad.facts)["in the window"] != dict(good.facts)["in the window"]
    assert any("needle" in words for words in bad.advice) and not any("needle" in words for words in good.advice)
    assert dict(good.facts)["tracking"] == "100 %, lost 0\u00d7"
    assert (
        dict(good.facts)["from technique"].endswith("RMS")
        and float(dict(good.facts)["map's largest error"].split()[0]) < 0.3
    )
    assert {e.id for e in EXERCISES} == {"stick", "gloss", "loop", "deep", "hold", "bars"}


def test_bars_that_say_the_same_twice_are_told(planner: Planner) -> None:
    alike = debrief_bars(planner, ((-700, 200, 0, 700, 200, 0), (-700, -200, 0, 700, -200, 0)), 60.0)
    assert any("different directions" in words for words in alike.advice)
    crossed = debrief_bars(planner, ((-700, 200, 0, 700, 200, 0), (300, -700, 0, 300, 700, 0)), 60.0)
    assert crossed.score > alike.score and not any("different directions" in words for words in crossed.advice)


def test_a_run_that_is_stopped_keeps_what_it_has(session: CaptureSession, link: DirectLink) -> None:
    from juxtum.errors import Cancelled
    from juxtum.progress import Progress

    progress = Progress(
        lambda phase, share: progress.cancel() if phase == "scanning along the plan" and share > 0.1 else None
    )
    with pytest.raises(Cancelled):
        run_by_itself(session, link, progress)
    assert session.points > 1000
