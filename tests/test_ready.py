"""Ready: advice, calibration, checks, the logbook with its migrations, policies, and the go list."""

from __future__ import annotations

import sqlite3
from dataclasses import replace
from datetime import date, datetime, timedelta
from pathlib import Path

import numpy as np
import pytest

from juxtum.capture.calibration.calibrating import (
    CalibrationKind,
    HandPose,
    bar_requests,
    check_kind,
    evaluate_bar,
    order_for,
    poses_for,
    request,
    solve_board,
)
from juxtum.capture.calibration.calibrating_others import correction_of, poses_of, requests_of, solve
from juxtum.demo.job import demo_job
from juxtum.demo.register import fill
from juxtum.devices.body import Body
from juxtum.devices.handheld import HandheldScanner
from juxtum.devices.head import StructuredLightHead
from juxtum.devices.probe import TouchProbe
from juxtum.devices.protocol import Message
from juxtum.devices.standin import StandIn
from juxtum.errors import JuxtumError
from juxtum.evaluate import Verdict
from juxtum.instruments import Coating
from juxtum.instruments.coats import COATS
from juxtum.instruments.models import Kind, shipped
from juxtum.job import FileStore, Job, Runner
from juxtum.job.planning import task_of, with_circumstances, with_room
from juxtum.job.readiness import Policy, Readiness, Tick
from juxtum.logbook import Logbook
from juxtum.logbook.book import Entry
from juxtum.logbook.go_list import KNOCK, go_list, is_go
from juxtum.logbook.register import Register
from juxtum.nominal import Nominal
from juxtum.plan.blind import Finish
from juxtum.plan.cost.preparing import coat_window, soak_minutes, surface_advice
from juxtum.plan.grounds import Grounds
from juxtum.plan.planner import Planner
from juxtum.plan.targets.views import Stance
from test_devices import plate

MODEL = shipped(Kind.HANDHELD)


@pytest.fixture
def book(tmp_path: Path) -> Logbook:
    made = Logbook(f"sqlite:///{tmp_path / 'book.sqlite'}")
    fill(made)
    return made


def test_advice_by_finish() -> None:
    advice = {
        a.finish: a
        for a in surface_advice(
            {3: Finish.DARK, 4: Finish.CLEAR, 9: Finish.GLOSSY}, MODEL.modes[0], MODEL.mode("single line")
        )
    }
    assert (
        advice[Finish.CLEAR].needs_coat and not advice[Finish.DARK].needs_coat and advice[Finish.GLOSSY].faces == (9,)
    )
    assert "use 'single line', or coat: vanishing spray" in advice[Finish.DARK].words
    window = coat_window(COATS["vanishing"], 480.0)
    assert (window.opens, window.closes) == (483.0, 570.0) and window.left(560.0) == 10.0
    with_dark = surface_advice({3: Finish.DARK}, MODEL.mode("single line"))
    assert with_dark[0].words == "'single line' copes without a coat"


def test_soaking_follows_the_lumped_body() -> None:
    minutes = soak_minutes(20.0, 5e5, 8.0)
    tau = 20.0 * 500 / (9 * 0.5) / 60
    assert 8.0 * np.exp(-minutes / tau) == pytest.approx(0.5) and soak_minutes(20.0, 5e5, 0.4) == 0
    assert soak_minutes(40.0, 5e5, 8.0) == pytest.approx(2 * minutes) and soak_minutes(20.0, 5e5, -8.0) == minutes


def test_calibration_finds_and_takes_away_the_error_of_scale() -> None:
    scanner = HandheldScanner(plate(), MODEL, seed=5)
    scanner.handle(Message("fault", {"name": "uncalibrated"}))
    before = scanner.calibration.error
    assert abs(before) > 1e-4
    bar = (300.012, 25.4003, 0.004)
    bad = evaluate_bar([a for m in bar_requests(*bar[:2], MODEL) for a in scanner.handle(m)], *bar, MODEL)
    assert not bad.passed and bad.length_error > bad.length_limit
    answers = [a for pose in poses_for(MODEL) for a in scanner.handle(request(pose))]
    found = solve_board(CalibrationKind.SCANNER, answers, MODEL)
    assert found.passed and found.scale == pytest.approx(before, abs=2.5e-5)
    scanner.handle(Message("correct", {"scale": found.scale}))
    good = evaluate_bar([a for m in bar_requests(*bar[:2], MODEL) for a in scanner.handle(m)], *bar, MODEL)
    assert good.passed and "allowed" in good.words
    with pytest.raises(JuxtumError, match="3 poses are too few to calibrate"):
        solve_board(CalibrationKind.SCANNER, answers[:3], MODEL)


def test_tip_and_turntable_are_calibrated_by_ball_board_and_shape(nominal: Nominal) -> None:
    probe = TouchProbe(plate(), shipped(Kind.PROBE), seed=3)
    tip = CalibrationKind.TIP

    def answers_of(device: StandIn, kind: CalibrationKind) -> list[Message]:
        return [
            [a for m in requests_of(kind, pose, k) for a in device.handle(m)][-1]
            for k, pose in enumerate(poses_of(kind, device.model))
        ]

    answers = answers_of(probe, tip)
    found = solve(tip, answers, probe.model)
    assert found.passed and found.scale == pytest.approx(1.5, abs=0.01) and found.words.startswith("tip radius 1.")
    probe.handle(correction_of(found))
    assert probe.about()["tip_radius"] == pytest.approx(found.scale)
    with pytest.raises(JuxtumError, match="2 touches are too few"):
        solve(tip, answers[:2], probe.model)
    head = StructuredLightHead(Body.of(nominal, Stance.TABLE), shipped(Kind.HEAD), seed=3)
    for kind in (CalibrationKind.BOARD, CalibrationKind.SHAPE):
        head.handle(Message("fault", {"name": "uncalibrated"}))
        assert not head.is_calibrated
        answers = answers_of(head, kind)
        turned = solve(kind, answers, head.model)
        head.handle(correction_of(turned))
        assert turned.passed and head.is_calibrated and "about one axis" in turned.words
        with pytest.raises(JuxtumError, match="1 turns are too few"):
            solve(kind, answers[:1], head.model)


def test_the_hand_is_led_to_each_pose() -> None:
    assert order_for(shipped(Kind.TRACKED)) == (
        CalibrationKind.TRACKER,
        CalibrationKind.SCANNER,
        CalibrationKind.SYSTEM,
    )
    wanted = HandPose(300.0, 10.0, -20.0)
    hand = HandPose(360.0, 0.0, 0.0)
    assert hand.towards(wanted) == "closer, tilt up, lean left" and not hand.is_at(wanted)
    assert replace(hand, distance=305.0, tilt=9.0, lean=-18.0).is_at(wanted)
    near, best, far = MODEL.modes[0].stand_off
    poses = poses_for(MODEL)
    assert len(poses) >= 8 and all(near < p.distance < far for p in poses) and best in {p.distance for p in poses}
    assert len({(p.tilt, p.lean) for p in poses}) > 5


def test_by_shape_is_refused_where_a_turn_changes_nothing(nominal: Nominal) -> None:
    import trimesh

    from juxtum.geometry import TriangleMesh

    ring = trimesh.creation.annulus(r_min=20, r_max=40, height=30, sections=180)
    part = Nominal.from_mesh(TriangleMesh(np.array(ring.vertices), np.array(ring.faces)))
    with pytest.raises(JuxtumError, match=r"looks the same after a turn.*Use the board"):
        check_kind(CalibrationKind.SHAPE, part)
    check_kind(CalibrationKind.SHAPE, nominal)
    check_kind(CalibrationKind.BOARD, part)


def entry(value: float, limit: float = 0.05, kind: str = "scanner") -> Entry:
    return Entry(kind, "ball bar BB-300", "Ilse Maartens", 20.0, value, limit)


def test_the_logbook_keeps_what_is_written(book: Logbook, tmp_path: Path) -> None:
    instrument = book.instrument(MODEL, "TF-HS-03")
    book.add_calibration(instrument, entry(0.01))
    book.add_calibration(instrument, entry(0.09))
    book.add_check(instrument, entry(0.004), entry(0.02))
    book.close()
    again = Logbook(f"sqlite:///{tmp_path / 'book.sqlite'}")
    same = again.instrument(MODEL, "TF-HS-03")
    assert (
        same.id == instrument.id
        and [c.passed for c in again.calibrations(same)] == [False, True]
        and again.checks(same)[0].passed
    )
    assert {a.name for a in again.artefacts()} >= {"ball bar BB-300", "bar A"}
    with pytest.raises(JuxtumError, match="knows no artefact 'my ruler'"):
        again.artefact("my ruler")


def test_an_old_logbook_is_brought_forward_and_a_newer_one_is_told(tmp_path: Path) -> None:
    from alembic import command
    from alembic.config import Config
    from sqlalchemy import create_engine

    url = f"sqlite:///{tmp_path / 'old.sqlite'}"
    config = Config()
    config.set_main_option("script_location", "juxtum.logbook:migrations")
    with create_engine(url).begin() as connection:
        config.attributes["connection"] = connection
        command.upgrade(config, "0001")
    with sqlite3.connect(tmp_path / "old.sqlite") as raw:
        raw.execute(
            "insert into instruments (model, name, serial, certificate) values ('wh-3', 'Old scanner', '7', 'C-1')"
        )
    old = Logbook(url)
    assert old.instrument(MODEL, "7").name == "Old scanner" and list(old.exercises()) == []
    listed = Register(old).listed()
    assert [r.title for r in listed] == ["Old scanner, 7"], "what a person certified is the shop's"
    assert [c.number for c in Register(old).history(listed[0].row)] == ["C-1"]
    old.close()
    with sqlite3.connect(tmp_path / "old.sqlite") as raw:
        raw.execute("update alembic_version set version_num = '9999'")
    with pytest.raises(JuxtumError, match="written by a newer program"):
        Logbook(url)
    (tmp_path / "not.sqlite").write_bytes(b"this is not a database" * 100)
    with pytest.raises(JuxtumError, match="the logbook cannot be opened"):
        Logbook(f"sqlite:///{tmp_path / 'not.sqlite'}")


NOW = datetime(2026, 11, 25, 10, 0)


@pytest.mark.parametrize(
    ("policy", "due", "check", "met", "words"),
    [
        (Policy.NONE, None, None, True, "no check is asked for"),
        (Policy.CERTIFICATE, date(2027, 1, 1), None, True, "valid until 2027-01-01"),
        (Policy.CERTIFICATE, date(2026, 11, 24), None, False, "ran out on 2026-11-24"),
        (Policy.CERTIFICATE, None, None, False, "has no certificate"),
        (Policy.TODAY, date(2027, 1, 1), None, False, "was not verified today"),
        (Policy.TODAY, date(2027, 1, 1), (1, 0.01), False, "was not verified today"),
        (Policy.TODAY, date(2027, 1, 1), (0, 0.09), False, "today's check failed: 0.090 mm on ball bar BB-300"),
        (Policy.TODAY, date(2027, 1, 1), (0, 0.01), True, "verified at 10:00 on ball bar BB-300"),
    ],
)
def test_policies(
    book: Logbook, policy: Policy, due: date | None, check: tuple[int, float] | None, met: bool, words: str
) -> None:
    instrument = book.instrument(MODEL)
    book.set_due(instrument, "TF-C-1182" if due else "", due)
    book.set_due(book.artefact("ball bar BB-300"), "TF-C-1220", date(2027, 6, 30))
    if check is not None:
        book.add_check(instrument, entry(0.001), entry(check[1]), NOW - timedelta(days=check[0]))
    found = book.readiness(policy, book.instrument(MODEL), NOW)
    assert found.is_met is met and words in found.reason


def test_what_is_not_met_leaves_verdicts_open_unless_overridden(
    demo_files: tuple[FileStore, Job], demo_runner: Runner
) -> None:
    job = demo_files[1]
    given = [c.verdict for c in demo_runner.evaluation(job).ledger]
    assert any(v is not Verdict.NOT_DECIDED for v in given)
    unmet = Readiness(policy=Policy.TODAY, is_met=False, reason="Handheld scanner WH-3 was not verified today")
    ledger = demo_runner.evaluation(job.model_copy(update={"readiness": unmet})).ledger
    assert {c.verdict for c in ledger} == {Verdict.NOT_DECIDED} and {c.reason for c in ledger} == {unmet.reason}
    noted = unmet.model_copy(update={"note": "checked yesterday evening, nothing moved since", "by": "Ilse Maartens"})
    assert [c.verdict for c in demo_runner.evaluation(job.model_copy(update={"readiness": noted})).ledger] == given
    from juxtum.report.blocks.cover import _readiness_rows

    rows = dict(_readiness_rows(job.model_copy(update={"readiness": noted})))
    assert rows["Overridden"] == f"{noted.note} (Ilse Maartens)" and rows["Instrument check"].startswith(
        "verified today: Handheld"
    )


def test_the_go_list_follows_from_plan_and_logbook(book: Logbook, nominal: Nominal) -> None:
    job = demo_job(FileStore(), with_scan=False)
    assert job.plan is not None
    planner = Planner(nominal, task_of(job), job.plan.model_copy(update={"coat": "vanishing"}), Grounds())
    instrument = book.instrument(MODEL)
    items = {i.title: i for i in go_list(job, planner, book.calibrations(instrument), NOW)}
    assert (
        items["plan"].words == "plan the targets first"
        and items["coated: vanishing spray"].words == "dry after 3 min, gone after 90 min"
    )
    assert items["scanner calibrated"].words == "not today" and not is_go(list(items.values()))
    book.add_calibration(instrument, entry(0.02), NOW)
    ready = job.model_copy(
        update={"prepared": tuple(Tick(key=k) for k in ("warm", "soak", "clean", "coat", "safe", "targets"))}
    )
    planned = replace(planner, plan=planner.plan.with_targets(plate().targets))
    items_now = go_list(ready, planned, book.calibrations(instrument), NOW)
    assert is_go(items_now), [i for i in items_now if not i.is_done]
    calibrated = lambda job, now: next(  # noqa: E731
        i.words for i in go_list(job, planned, book.calibrations(instrument), now) if i.title == "scanner calibrated"
    )
    assert calibrated(with_room(ready, 24.5), NOW) == "again: it is 4.5 K warmer than it was then"
    assert calibrated(ready, NOW + timedelta(hours=9)) == "again: 8 hours have passed since 10:00"
    book.add_calibration(instrument, Entry(KNOCK, "", "Ilse Maartens", 20.0, 0.0, 0.0), NOW + timedelta(minutes=5))
    assert calibrated(ready, NOW + timedelta(minutes=6)) == "again: the instrument was knocked at 10:05"
    book.add_calibration(instrument, entry(0.02), NOW + timedelta(minutes=10))
    assert calibrated(ready, NOW + timedelta(minutes=11)).startswith("10:10, 20 of 50")
    tracked = replace(planned, plan=planned.plan.model_copy(update={"instrument": shipped(Kind.TRACKED), "chain": ""}))
    book.add_calibration(instrument, entry(0.02, kind="tracker"), NOW + timedelta(minutes=20))
    words = {i.title: i.words for i in go_list(ready, tracked, book.calibrations(instrument), NOW)}
    assert (
        words["scanner calibrated"] == "again: what comes before it was calibrated later"
        and "of 50" in words["tracker calibrated"]
    )


def test_a_coat_is_taken_off_the_value_and_enters_the_budget(
    demo_files: tuple[FileStore, Job], demo_runner: Runner
) -> None:
    from juxtum.plan.document import Plan

    job = demo_files[1]
    bare = demo_runner.evaluation(job, "rough").ledger[0]
    sprayed = datetime(2026, 11, 24, 9, 0)

    def with_coat(*faces: int, name: str = "powder", began: int = 10) -> Job:
        measured = {"began": sprayed + timedelta(minutes=began), "ended": sprayed + timedelta(minutes=began + 20)}
        return with_circumstances(job, coats=(Coating.of(name, faces, sprayed),), **measured)

    coated = demo_runner.evaluation(with_coat(), "rough").ledger[0]
    assert bare.value - coated.value == pytest.approx(COATS["powder"].thickness, abs=1e-9)
    lines = {c.source: c.standard for c in coated.budget.contributions}
    assert (
        lines["coat 12 \u00b1 8 \u00b5m"] == pytest.approx(0.008 / np.sqrt(3))
        and coated.budget.expanded > bare.budget.expanded
    )
    for never in (
        with_coat(999),
        with_coat(began=-60),
        with_coat(name="vanishing", began=100),
        job.model_copy(update={"plan": Plan(coat="powder")}),
    ):
        assert demo_runner.evaluation(never, "rough").ledger[0].value == bare.value, (
            "another face, not yet, gone by itself, only planned"
        )
