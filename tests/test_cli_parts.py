"""Parts of the command line in this process: arguments, facts, displays, messages."""

from __future__ import annotations

import argparse
import json
import os
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest

from helpers import box_mesh, bracket_mesh, write_bracket
from juxtum.cli import commands, facts, main
from juxtum.cli.display import virtual_display
from juxtum.cli.facts import file_facts
from juxtum.cli.main import _joined_numbers
from juxtum.cli.parser import make_parser
from juxtum.exchange.meshes import write_ply
from juxtum.geometry import TriangleMesh
from juxtum.job import FileStore, Job, inputs_of, save_job
from juxtum.log import log_file
from juxtum.units import Unit


def test_numbers_that_begin_with_a_minus_are_no_options() -> None:
    words = _joined_numbers(["inspect", "n", "s", "--lower", "-0,2", "--upper", "1/64 in", "--out", "-x"])
    assert words == ["inspect", "n", "s", "--lower=-0,2", "--upper", "1/64 in", "--out", "-x"]
    options = make_parser().parse_args(
        _joined_numbers(["inspect", "n", "s", "--out", "o", "--lower", "-.5 mm", "--scan-unit", "in"])
    )
    assert (
        options.lower == -0.5
        and options.scan_unit is Unit.INCH
        and options.rule == "guarded"
        and options.trim == "auto"
    )


def test_no_command_is_a_question(capsys: pytest.CaptureFixture[str]) -> None:
    assert main([]) == 2
    said = capsys.readouterr()
    assert said.out == "" and "inspect" in said.err


def test_unexpected_failures_are_one_line_and_a_log(
    monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    def broken(options: argparse.Namespace) -> int:
        raise ZeroDivisionError("the secret cause")

    monkeypatch.setattr(facts, "info", broken)
    assert main(["info", "x"]) == 2
    said = capsys.readouterr().err
    assert said.count("\n") == 1 and "ZeroDivisionError" in said and str(log_file()) in said and "Traceback" not in said
    assert "the secret cause" in log_file().read_text()


@pytest.mark.parametrize(("problem", "words"), [(KeyboardInterrupt(), "stopped"), (MemoryError(), "not enough memory")])
def test_stops_are_told(
    problem: BaseException, words: str, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    def stopped(options: argparse.Namespace) -> int:
        raise problem

    monkeypatch.setattr(facts, "info", stopped)
    assert main(["info", "x"]) == 2
    assert words in capsys.readouterr().err


def test_facts_of_a_mesh(tmp_path: Path) -> None:
    facts = file_facts(write_bracket(tmp_path / "a.stl"))
    assert facts["volume"] == pytest.approx(bracket_mesh().volume) and facts["area"] == pytest.approx(
        bracket_mesh().area
    )
    assert facts["faces"] == 12 and facts["watertight"] and facts["unit"] is None
    assert facts["bounds"] == [[0, 0, 0], [60, 40, 31]]


def test_facts_name_what_is_wrong(tmp_path: Path) -> None:
    box = box_mesh(cuts=1)
    write_ply(tmp_path / "out.ply", TriangleMesh(box.points, np.array(box.triangles)[:, ::-1]))
    inside_out = file_facts(tmp_path / "out.ply")
    assert "the mesh is inside out" in inside_out["problems"] and inside_out["volume"] == pytest.approx(-24000)
    write_ply(tmp_path / "open.ply", TriangleMesh(box.points, box.triangles[1:]))
    opened = file_facts(tmp_path / "open.ply")
    assert "3 open edges" in opened["problems"] and opened["volume"] is None and not opened["watertight"]


def test_facts_of_a_job_and_of_points(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    files = FileStore()
    job = Job(inputs=inputs_of(files.adopt(write_bracket(tmp_path / "n.stl"))))
    save_job(job, tmp_path / "a.juxtum", files)
    assert main(["info", str(tmp_path / "a.juxtum"), "--json"]) == 0
    facts = json.loads(capsys.readouterr().out)
    assert facts["kind"] == "job" and facts["nominal"] == "n.stl" and facts["scan"] is None
    (tmp_path / "p.xyz").write_text("\n".join(f"{x} {x * x} 1" for x in range(20)))
    assert main(["info", str(tmp_path / "p.xyz")]) == 0
    said = capsys.readouterr().out
    assert "points       20" in said and "volume       not known" in said and "(0, 0, 1); (19, 361, 1)" in said
    (tmp_path / "r.json").write_text("{}")
    assert main(["info", str(tmp_path / "r.json")]) == 2
    assert "'.json' files are not read. Give a job, STEP or IGES" in capsys.readouterr().err


def test_equal_names_get_folders_of_their_own(tmp_path: Path) -> None:
    scans = [tmp_path / name for name in ("a/part.ply", "b/part.ply", "c/other.stl")]
    for number, scan in enumerate(scans):
        scan.parent.mkdir()
        scan.write_text(str(number))
    assert [p.name for p in commands._folders(tmp_path, scans)] == ["part", "part 2", "other"]


def test_a_virtual_display_is_there_and_goes() -> None:
    with virtual_display() as environment:
        done = subprocess.run(
            [sys.executable, "-c", "from PyQt6.QtWidgets import QApplication; QApplication([])"],
            env=environment,
            check=False,
        )
        assert done.returncode == 0
        assert environment.get("DISPLAY") != os.environ.get("DISPLAY") or "QT_QPA_PLATFORM" in environment
