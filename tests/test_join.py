"""Several scans become one in a job: on the command line, in the document, and in the window."""

from __future__ import annotations

import json
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pytest
from benchmarks.joins import view_of, whole
from PyQt6.QtCore import QPointF, Qt, QTimer
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QDialog, QLabel, QRadioButton

from hand import Hand, answer_unit, close, opened
from juxtum.cli.main import main
from juxtum.demo.world import nominal_path
from juxtum.desk.asking import NominalDialog
from juxtum.desk.joining.ring import ClosureRing
from juxtum.desk.joining.scan_list import ScanList
from juxtum.errors import JobError
from juxtum.exchange.meshes import write_ply
from juxtum.geometry import RigidTransform, TriangleMesh
from juxtum.geometry.rays import RayCaster
from juxtum.guide.findings import Key
from juxtum.job import FileStore, Job, Procedure, Runner
from juxtum.job.document import default_procedure
from juxtum.job.joins import join_of_all, measured_title, with_join
from juxtum.job.roles import inputs_of
from juxtum.job.sources import joining
from juxtum.job.steps import AsScanned, Decide, Join, Measure
from juxtum.job.store import load_job, save_job
from juxtum.nominal import Nominal

ROUND = np.array([[0.75, 0.25, 0.61], [-0.3, 0.75, 0.6], [-0.2, -0.75, 0.63]])


@pytest.fixture(scope="module")
def pieces(nominal: Nominal, tmp_path_factory: pytest.TempPathFactory) -> list[Path]:
    """Three views of BC-220 from round about, some tenths of a millimetre off, and one of them again from far away."""
    mesh = whole(nominal, 25_000)
    caster, rng, folder = RayCaster(mesh), np.random.default_rng(3), tmp_path_factory.mktemp("pieces")
    paths = [folder / f"piece {k + 1}.ply" for k in range(4)]
    for path, towards, away in zip(paths, (*ROUND, ROUND[0]), (0, 0, 0, 900), strict=True):
        move = np.concatenate([rng.normal(0, 0.2, 3), np.radians(0.03) * rng.normal(size=3)])
        off = RigidTransform.translation([away, 0, 0]) @ RigidTransform.about(mesh.bounds.mean(0), move)
        write_ply(path, view_of(mesh, caster, towards, rng).moved(off))
    return paths


def job_of(files: FileStore, paths: list[Path]) -> Job:
    job = Job(inputs=inputs_of(files.adopt(nominal_path())), procedure=default_procedure())
    for path in paths:
        job = job.with_further(files.adopt(path))
    return job


def test_the_joined_scan_is_used_like_one_and_survives_the_file(pieces: list[Path], tmp_path: Path) -> None:
    files = FileStore()
    job = job_of(files, pieces[:3])
    joined = with_join(job, join_of_all(job))
    assert joined.scan_in_force == "assembly" and [s.scan for s in joined.procedure.alignments] == ["assembly"] * 2
    assert {s.scan for s in joined.procedure.cleaning} == {"scan"}, "cleaning stays with its scan"
    runner = Runner(files)
    evaluation = runner.evaluation(joined, "best fit")
    # At 5 mm between points edges are rounded, and the surface ends with its points; what lies between them is not bent.
    seen = evaluation.statistics
    assert seen.sd < 0.25 and abs(seen.mean) < 0.05 and seen.area_seen > 0.55
    # How sure it is where the scans lie is a line of every budget of what is measured across them, and of no other.
    lines = {c.source: c.standard for c in evaluation.ledger[0].budget.contributions}
    assert 0 < lines["joining of the scans"] < 0.2
    assert runner.outcome(job.on_scan("scan"), joining("scan")) == 0
    save_job(joined, tmp_path / "a.juxtum", files)
    assert load_job(tmp_path / "a.juxtum", FileStore(), tmp_path / "in").procedure == joined.procedure
    assert measured_title(joined) == "piece 1.ply, piece 2.ply, piece 3.ply"
    apart = joined.without_input("assembly")
    assert apart.scan_in_force == "scan" and not apart.procedure.joins
    assert joined.without_input("scan 2").procedure.joins[0].scans == ("scan", "scan 3")
    assert not joined.without_input("scan 2").without_input("scan 3").procedure.joins
    lost = joined.model_copy(update={"inputs": tuple(i for i in joined.inputs if i.name != "scan 3")})
    with pytest.raises(JobError, match="joined of 'scan 3', which the job does not have"):
        runner.cleaned(lost)
    finer = joined.with_step(joined.procedure.joins[0].model_copy(update={"spacing": 6.0}))
    assert len(runner.loaded_scan(finer).scan.points) < len(runner.loaded_scan(joined).scan.points)


def test_a_join_follows_what_is_decided_about_it() -> None:
    join = Join(scans=("a", "b", "c"))
    assert join.with_left_out("b").used == ("a", "c") and join.with_left_out("b").with_left_out("b") == join
    assert join.with_cut("a", "b").cut == (("a", "b"),) and join.with_cut("a", "b").with_cut("b", "a") == join
    assert join.with_cut("a", "b").tying == join.with_cut("a", "b").model_copy(update={"spacing": 2}).tying


def test_the_command_line_replays_a_join(
    pieces: list[Path], tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    words, joined = [str(path) for path in pieces], [str(path) for path in pieces[:2]]
    asked = ["inspect", str(nominal_path())]
    assert main([*asked, *joined, "--align", "none", "--trim", "none", "--out", str(tmp_path / "i"), "--json"]) == 0
    made = json.loads(capsys.readouterr().out)
    assert [s["file"] for s in made["scans"]] == ["piece 1.ply", "piece 2.ply"]
    assert (tmp_path / "i" / "assembled.ply").exists() and made["scan_sha256"] is None
    # The same side again, from far away: its shape tells where it belongs.
    assert main([*asked, *joined, words[3], "--out", str(tmp_path / "j")]) == 0
    said = capsys.readouterr().err
    assert "placed by its shape" in said and "scan 3 (piece 4.ply)" in said
    assert main([*asked, words[0], words[0], "--out", str(tmp_path / "j")]) == 2
    assert "one file is given twice" in capsys.readouterr().err
    files = FileStore()
    job = job_of(files, pieces[:2])
    steps = (Measure(), AsScanned(), Decide(alignment="as scanned"))
    job = job.model_copy(update={"procedure": Procedure(steps=steps)})
    save_job(with_join(job, join_of_all(job)), tmp_path / "a.juxtum", files)
    assert main(["run", str(tmp_path / "a.juxtum"), *words[:3], "--out", str(tmp_path / "r")]) == 2
    assert "the procedure joins 2 scans of each part, and 3 were given" in capsys.readouterr().err
    assert main(["run", str(tmp_path / "a.juxtum"), *joined[::-1], "--out", str(tmp_path / "r"), "--json"]) == 0
    again = json.loads(capsys.readouterr().out)
    assert [s["file"] for s in again["scans"]] == ["piece 2.ply", "piece 1.ply"]


@pytest.fixture
def desk(application: QApplication, pieces: list[Path], tmp_path: Path) -> Iterator[Hand]:
    """A window with three scans, brought together."""
    window = opened(tmp_path)
    hand = Hand(window)
    window.session.start(Job(inputs=inputs_of(window.session.files.adopt(nominal_path()))))
    hand.wait(lambda: window.session.derived.nominal is not None)
    window.bringing.bring(pieces[:3])
    answer_unit()
    hand.wait(lambda: len(window.session.derived.brought) == 3)
    hand.go(Key.ASSEMBLE)
    yield hand
    close(window)


@pytest.mark.parametrize("choice", ["All 3 are scans", "piece 2.ply is the nominal"])
def test_meshes_for_a_job_without_a_nominal_are_asked_about(
    application: QApplication, pieces: list[Path], tmp_path: Path, choice: str
) -> None:
    """Several views and nothing else may be scans alone; none of them becomes the nominal without a word."""
    window = opened(tmp_path)
    hand = Hand(window)
    window.session.start(Job())
    hand.wait()

    def answer() -> None:
        dialog = QApplication.activeModalWidget()
        if isinstance(dialog, NominalDialog):
            next(o for o in dialog.findChildren(QRadioButton) if o.accessibleName() == choice).click()
        if isinstance(dialog, QDialog):
            dialog.accept()

    timer = QTimer()
    timer.timeout.connect(answer)
    timer.start(50)
    window.bringing.bring(pieces[:3])
    scans = 3 if choice.startswith("All") else 2
    hand.wait(lambda: len(window.session.derived.brought) == scans)
    timer.stop()
    assert (window.session.job.nominal is None) == (scans == 3)
    close(window)


def states(desk: Hand) -> dict[str, str]:
    """What the list says of each scan."""
    table = desk.named("Scans", ScanList)
    assert isinstance(table, ScanList)
    cells = [[table.item(row, column) for column in (1, 3)] for row in range(table.rowCount())]
    return {name.text(): state.text() for name, state in cells if name is not None and state is not None}


def said(desk: Hand, name: str) -> str:
    label = desk.named(name, QLabel)
    assert isinstance(label, QLabel)
    return label.text()


def unhook_and_take_in(desk: Hand) -> None:
    """A tie left out and used again, a scan left out and taken in."""
    window = desk.window
    desk.click("Leave the tie out")
    assert len(window.session.job.procedure.joins[0].cut) == 1
    window.session.undo()
    desk.wait()
    window.assemble.panel.scans.choose("scan 3")
    for _ in range(3):  # without waiting: an odd number of times is once
        window.assemble.panel.toggle_left_out()
    desk.wait()
    assert states(desk)["scan 3"] == "left out" and said(desk, "What ties the scans").startswith("2 of 2")
    desk.click("Take it in")


def test_scans_are_joined_unhooked_and_tied_anew_in_the_window(desk: Hand, pieces: list[Path]) -> None:
    window = desk.window
    assert list(states(desk)) == ["scan", "scan 2", "scan 3"] and "clean every scan" in desk.next()
    desk.click("Clean them all")
    assert "join the scans" in desk.next()
    desk.click("Join the scans")
    assert states(desk)["assembly"] == "in force" and all(
        s.startswith(("tied", "stays")) for s in list(states(desk).values())[:3]
    )
    assert said(desk, "What ties the scans").startswith("3 of 3 scans are tied")
    assert not window.assemble.panel.scans.is_shown("scan 2"), "the surface takes their place on the stage"
    ring = desk.named("Closure ring", ClosureRing)
    QTest.keyClick(ring, Qt.Key.Key_Right)
    assert "in common" in said(desk, "What ties the scans") and "mm RMS" in said(desk, "What ties the scans")
    unhook_and_take_in(desk)
    window.bringing.further_scan(pieces[3])
    answer_unit()
    desk.wait(lambda: "scan 4" in states(desk))
    desk.click("Join those too")
    assert states(desk)["scan 4"] == "by shape"
    there = next(b.pose for b in window.session.derived.brought if b.name == "scan 4")
    desk.click("By shape where nothing else ties")
    assert states(desk)["scan 4"] == "not tied"
    window.assemble.panel.scans.choose("scan 4")
    assert "nothing ties it to the others" in said(desk, "About the chosen scan")
    pair_up(desk, "scan 4")
    assert states(desk)["scan 4"].startswith("tied")
    pose = next(b.pose for b in window.session.derived.brought if b.name == "scan 4")
    first = next(b.pose for b in window.session.derived.brought if b.name == "scan")
    assert pose is not None and first is not None and there is not None
    far = np.array([[900.0, 0, 60]])
    assert np.linalg.norm(pose.apply(far) - there.apply(far)) < 1.5, "by its shape it lay there, too"
    assert np.linalg.norm((first.inverse @ pose).apply(np.array([[900.0, 0, 60]])) - [[0, 0, 60]]) < 1.5


def pair_up(desk: Hand, name: str) -> None:
    """Click four places on a scan and on the first one beside it, where the stage shows both."""
    window, panel = desk.window, desk.window.assemble.panel
    assert panel.target == name
    desk.click("Pick pairs")
    assert panel.pairs.pairing is not None and panel.pairs.pairing.first.name == "scan"
    one, two = panel.pairs.pairing.placements
    mesh = panel.pairs.pairing.first.scan
    assert isinstance(mesh, TriangleMesh)
    chosen: list[tuple[QPointF, QPointF]] = []
    away = np.array([900.0, 0, 0])
    for place in mesh.points[np.random.default_rng(1).permutation(len(mesh.points))]:
        moves = ((one, place), (two, place + away))
        # Where the click goes: whole pixels.
        spots = [QPointF(QPointF(*window.view.project(move.apply(p[None]))[0]).toPoint()) for move, p in moves]
        hits = [window.view.hit(spot) for spot in spots]
        there = [one.apply(place[None])[0], two.apply(place[None] + away)[0]]
        if all(hit is not None and np.linalg.norm(hit.place - at) < 1.2 for hit, at in zip(hits, there, strict=True)):
            far = [QPointF(spots[0] - other[0]).manhattanLength() for other in chosen]
            if min(far, default=99.0) > 40:
                chosen.append((spots[0], spots[1]))
        if len(chosen) == 5:
            break
    for spots in chosen:
        for spot in spots:
            QTest.mouseClick(window.view, Qt.MouseButton.LeftButton, pos=spot.toPoint())
            desk.wait()
    assert said(desk, "Picked pairs").startswith("5 pairs, ")
    desk.click("Use the pairs")


def test_picking_can_be_given_up_and_cleaning_goes_to_the_chosen_scan(desk: Hand) -> None:
    window = desk.window
    window.assemble.panel.scans.choose("scan 2")
    desk.click("Pick pairs")
    assert window.view.pieces == ("piece 0", "piece 1")
    desk.press(Qt.Key.Key_Escape)
    assert len(window.view.pieces) == 3
    desk.click("Keep the largest")
    assert [s.scan for s in window.session.job.procedure.cleaning] == ["scan 2"]
    desk.go(Key.ALIGN)
    assert not window.view.pieces, "other stations do not show them"
