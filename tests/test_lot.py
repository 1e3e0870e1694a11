"""Many parts in one scan: told apart in the job, measured by one procedure, one of them bad."""

from __future__ import annotations

import csv
import json
from functools import cache
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from benchmarks.joins import whole
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QFileDialog, QLabel, QTableWidget

from hand import Hand
from helpers import STATED, turned
from juxtum.cli.main import main
from juxtum.demo.solids import box, fused
from juxtum.errors import JobError
from juxtum.exchange.cad import write_step
from juxtum.exchange.mesh_writing import write_mesh
from juxtum.geometry import TriangleMesh
from juxtum.guide.findings import Key
from juxtum.job import FileStore, Job, Procedure, Runner, inputs_of, load_job, save_job
from juxtum.job.document import Brief, default_procedure
from juxtum.job.lot import lot_jobs, measure_lot, with_separation, without_separation
from juxtum.job.steps import AlignModel, Decide, Fragments, Separate, Trim
from juxtum.nominal import Nominal
from juxtum.report.lot import HEAD


def shape() -> Any:
    return fused(box((0, 0, 0), (60, 40, 10)), [box((0, 0, 10), (20, 12, 21))])


@cache
def drawn() -> TriangleMesh:
    return whole(Nominal.from_shape(shape()), 6000)


def tray(path: Path, bad: int | None = None, count: int = 3) -> Path:
    """Brackets beside each other, each turned; one of them with a bump of 1 mm on its foot."""
    points, triangles, first = [], [], 0
    for number in range(count):
        one = drawn()
        places = np.array(one.points)
        if number == bad:
            on_top = np.abs(places[:, 2] - 10) < 1e-6
            away = np.hypot(places[:, 0] - 45, places[:, 1] - 20)
            places[on_top, 2] += np.exp(-(away[on_top] ** 2) / (2 * 8.0**2))
        places = turned((0, 0, 20 * number), (90.0 * number, 10.0 * number, 3)).apply(places)
        points.append(places)
        triangles.append(one.triangles + first)
        first += len(places)
    write_mesh(path, TriangleMesh(np.concatenate(points), np.concatenate(triangles)))
    return path


def _written(path: Path) -> Path:
    write_step(shape(), path)
    return path


@pytest.fixture
def job(tmp_path: Path) -> tuple[Job, FileStore]:
    files = FileStore(tmp_path / "files")
    nominal, scan = _written(tmp_path / "bracket.step"), tray(tmp_path / "tray.ply", bad=1)
    steps = tuple(s for s in default_procedure().steps if not isinstance(s, Trim | Fragments))
    procedure = default_procedure().model_copy(update={"steps": steps})
    made = Job(
        brief=Brief(part="Bracket"), circumstances=STATED,
        inputs=inputs_of(files.adopt(nominal), files.adopt(scan)), procedure=procedure,
    )  # fmt: skip
    return made, files


def test_each_part_goes_through_one_procedure(job: tuple[Job, FileStore], tmp_path: Path) -> None:
    whole, files = job
    apart = with_separation(whole, 3)
    assert apart.scan_names == ("scan", "part 1", "part 2", "part 3") and apart.scan_in_force == "part 1"
    assert apart.measured[0].name == "tray.ply" and apart.scan == apart.measured[0]
    assert {step.scan for step in apart.procedure.alignments} == {"part 1"}
    rows = measure_lot(apart, Runner(files))
    verdicts = [[str(line.verdict) for line in row.ledger] for row in rows]
    assert verdicts == [["conforms"], ["does not conform"], ["conforms"]]
    assert rows[1].ledger[0].value == pytest.approx(0.9, abs=0.2) and rows[0].rms < 0.01
    # Whichever is in force, the lot is the same; and all goes back.
    assert lot_jobs(apart.on_scan("part 3")) == lot_jobs(apart)
    assert without_separation(apart.on_scan("part 3")).procedure == whole.procedure
    assert with_separation(with_separation(whole, 3), 2).procedure.separation == Separate(parts=2)
    path = tmp_path / "a.juxtum"
    save_job(apart, path, files)
    assert load_job(path, files, tmp_path / "c").procedure == apart.procedure


def test_more_parts_than_pieces_are_refused_for_all_of_them(job: tuple[Job, FileStore]) -> None:
    whole, files = job
    rows = measure_lot(with_separation(whole, 5), Runner(files))
    assert len(rows) == 5 and all("3 pieces of some size, not 5 parts" in row.problem for row in rows)
    with pytest.raises(JobError, match="Scans are: scan"):
        Runner(files).evaluation(whole.on_scan("part 9"))


def test_a_tray_on_the_command_line(
    job: tuple[Job, FileStore], tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    whole, files = job
    save_job(with_separation(whole, 3), tmp_path / "lot.juxtum", files)
    second = tray(tmp_path / "second tray.ply", bad=2)
    words = ["run", str(tmp_path / "lot.juxtum"), str(second), "--out", str(tmp_path / "out"), "--json"]
    assert main([*words, "--strict"]) == 1
    found = json.loads(capsys.readouterr().out)
    assert [one["characteristics"][0]["verdict"] for one in found] == ["conforms", "conforms", "does not conform"]
    with (tmp_path / "out" / "second tray" / "lot.csv").open(encoding="utf-8") as file:
        rows = list(csv.reader(file))
    assert tuple(rows[0]) == HEAD and [row[0] for row in rows[1:]] == ["part 1", "part 2", "part 3"]
    assert rows[3][HEAD.index("verdict")] == "does not conform" and float(rows[3][3]) == pytest.approx(0.9, abs=0.2)
    assert (tmp_path / "out" / "second tray" / "part 3" / "report.pdf").exists()
    # A tray that holds fewer parts: a sentence, no numbers.
    assert main([*words[:2], str(tray(tmp_path / "less.ply", count=2)), *words[3:]]) == 2
    assert "2 pieces of some size, not 3 parts" in capsys.readouterr().err


def test_parts_are_told_apart_and_measured_in_the_window(
    small_desk: Hand, job: tuple[Job, FileStore], tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    d, session = small_desk, small_desk.window.session
    steps = tuple(step for step in job[0].procedure.steps if not isinstance(step, AlignModel | Decide))
    bare = job[0].model_copy(update={"procedure": Procedure(steps=steps)})
    held = [session.files.adopt(tmp_path / name) for name in ("bracket.step", "tray.ply")]
    session.start(bare.model_copy(update={"inputs": inputs_of(*held)}))
    d.wait(lambda: session.job.brief.part == "Bracket" and session.derived.scan is not None)
    d.go(Key.ASSEMBLE)
    d.wait()
    # Clicked again before the first is done: the same parts, once.
    button = d.named("Tell them apart")
    for _ in range(2):
        QTest.mouseClick(button, Qt.MouseButton.LeftButton)
    d.wait(lambda: len(session.derived.lot) == 3)
    assert session.job.procedure.of(Separate) == (Separate(parts=3),)
    table = d.named("Parts of the lot", QTableWidget)
    assert isinstance(table, QTableWidget) and table.rowCount() == 3
    d.window.hub.perform("align automatically")
    d.wait(lambda: session.derived.evaluation is not None)
    d.go(Key.ASSEMBLE)
    table.selectRow(1)
    d.wait(lambda: session.job.scan_in_force == "part 2")
    assert str(session.derived.evaluation.ledger[0].verdict) == "does not conform"  # type: ignore[union-attr]
    d.click("Measure them all")
    d.wait(lambda: table.item(2, 2).text() != "")  # type: ignore[union-attr]
    assert [table.item(k, 2).text() for k in range(3)] == ["all conform", "not 1", "all conform"]  # type: ignore[union-attr]
    said = d.named("About the lot", QLabel)
    assert isinstance(said, QLabel) and said.text() == "2 of 3 parts conform in all that is asked; part 2 does not."
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(tmp_path / "lot.csv"), ""))
    d.click("Save the table\u2026")
    d.wait(lambda: (tmp_path / "lot.csv").exists())
    d.click("Together again")
    d.wait()
    assert session.job.procedure.separation is None and not session.derived.lot
    assert not session.job.procedure.alignments and session.derived.scan is not None
