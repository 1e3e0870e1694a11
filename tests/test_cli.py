"""The command line as its users meet it: a process, files, exit status."""

from __future__ import annotations

import csv
import json
import os
import signal
import subprocess
import sys
import time
from pathlib import Path

import numpy as np
import openpyxl
import pytest
import trimesh

from helpers import turned, write_bracket
from juxtum.demo.job import FACES, datum_step, demo_job
from juxtum.demo.world import nominal_path, scan_path
from juxtum.job import FileStore, save_job
from juxtum.job.document import default_procedure
from juxtum.job.store import save_procedure

HOW = ("--instrument", "handheld", "--temperature", "20")
KEYS = {"schema", "units", "alignment", "deviation", "characteristics"}


def juxtum(*arguments: object, status: int = 0) -> subprocess.CompletedProcess[str]:
    """Run the command."""
    command = [sys.executable, "-m", "juxtum", *map(str, arguments)]
    done = subprocess.run(
        command, capture_output=True, text=True, env=os.environ | {"DISPLAY": ""}, timeout=300, check=False
    )
    assert done.returncode == status, done.stderr
    assert "Traceback" not in done.stderr
    return done


@pytest.fixture(scope="module")
def inspected(tmp_path_factory: pytest.TempPathFactory) -> tuple[Path, dict]:  # type: ignore[type-arg]
    """The demo through `inspect` with datums."""
    folder = tmp_path_factory.mktemp("inspect")
    datums = {"datums": [{"letter": d.letter, "faces": list(d.faces)} for d in datum_step("x").datums]}
    (folder / "d.json").write_text(json.dumps(datums))
    (folder / "i.json").write_text(json.dumps({"name": "Made-up scanner", "a": 0.01, "b": 0.02}))
    done = juxtum(
        "inspect", nominal_path(), scan_path(), "--out", folder / "out", "--upper", "0,5", "--lower", "-0.5", "--align", f"datums:{folder}/d.json",
        "--instrument", folder / "i.json", "--temperature", "20", "--least-seen", "0.6", "--json", "--strict",
    )  # fmt: skip
    assert (
        done.stderr
        == f"note: {scan_path().name}: only 62 % of datum B was seen; the rest of it is extended from there\n"
    )
    return folder / "out", json.loads(done.stdout)


def test_inspect_says_what_it_writes(inspected: tuple[Path, dict], known) -> None:  # type: ignore[no-untyped-def, type-arg]
    out, result = inspected
    assert {p.name for p in out.iterdir()} == {
        "result.json",
        "report.pdf",
        "ledger.csv",
        "ledger.xlsx",
        "deviation.ply",
    }
    assert json.loads((out / "result.json").read_text()) == result
    assert set(result) >= KEYS and result["schema"] == "juxtum-result-2"
    alignment = result["alignment"]
    assert alignment["method"] == "datums A|B|C" and alignment["locked"]["Tz"] == "A"
    error = np.array(alignment["matrix"]) @ known.pose.matrix
    assert np.abs(error - np.eye(4))[:3, :3].max() < 1e-4
    deviation = result["deviation"]
    assert set(deviation["percentiles"]) == {"0.5", "2.5", "50", "97.5", "99.5"}
    assert 0.6 < deviation["area_seen"] < 0.8 and deviation["within_tolerance"] > 0.99
    (line,) = result["characteristics"]
    upper, lower = line["sides"]
    assert (
        line["kind"] == "profile of a surface"
        and (line["lower"], line["upper"]) == (-0.5, 0.5)
        and "tiles of 2 mm" in line["meaning"]
    )
    assert (
        line["side"] == "upper"
        and line["value"] == upper["value"] == pytest.approx(0.45, abs=0.02)
        and line["verdict"] == "conforms"
    )
    assert lower["side"] == "lower" and lower["probability_conforming"] > 0.999


def test_inspect_writes_files_that_others_read(inspected: tuple[Path, dict]) -> None:  # type: ignore[type-arg]
    out, result = inspected
    rows = list(csv.reader((out / "ledger.csv").open()))
    assert rows[1][1] == "Profile of the whole part" and float(rows[1][6]) == pytest.approx(
        result["characteristics"][0]["value"], abs=1e-5
    )
    book = openpyxl.load_workbook(out / "ledger.xlsx")
    assert book.sheetnames == ["Ledger", "Readings", "Statistics"]
    assert book["Ledger"]["K2"].value == "conforms"
    mesh = trimesh.load(out / "deviation.ply", process=False)
    d = np.ravel(mesh.metadata["_ply_raw"]["vertex"]["data"]["deviation"])
    assert np.isfinite(d).sum() == result["deviation"]["points"] + result["deviation"]["outliers"]
    text = subprocess.run(
        ["pdftotext", "-layout", out / "report.pdf", "-"], capture_output=True, text=True, check=True
    ).stdout
    assert "conforms" in text and "Made-up scanner" in text and "datums A|B|C" in text and "Ledger" in text


def test_simple_cases_by_hand(tmp_path: Path) -> None:
    """A bracket grown by 0.1 mm along X on one side is 0.1 mm proud there, whatever its pose."""
    nominal = write_bracket(tmp_path / "n.stl")
    mesh = trimesh.load(nominal)
    mesh.vertices[mesh.vertices[:, 0] > 59.99, 0] += 0.1
    mesh.apply_transform(turned((40, 80, -120), (500, 300, 100)).matrix)
    mesh.export(tmp_path / "s.stl")
    done = juxtum(
        "inspect",
        nominal,
        tmp_path / "s.stl",
        "--out",
        tmp_path / "o",
        "--json",
        "--upper",
        "0.05",
        "--rule",
        "simple",
        "--strict",
        *HOW,
        status=1,
    )
    upper = json.loads(done.stdout)["characteristics"][0]
    assert upper["value"] == pytest.approx(0.1, abs=0.01) and upper["verdict"] == "does not conform"


def test_scan_as_it_lies_in_inches(tmp_path: Path) -> None:
    nominal, scan = write_bracket(tmp_path / "n.stl"), write_bracket(tmp_path / "s.stl", 1 / 25.4)
    done = juxtum(
        "inspect",
        nominal,
        scan,
        "--out",
        tmp_path / "o",
        "--align",
        "none",
        "--trim",
        "none",
        "--scan-unit",
        "in",
        "--json",
    )
    result = json.loads(done.stdout)
    assert result["alignment"]["matrix"] == np.eye(4).tolist()
    assert result["deviation"]["rms"] < 1e-4 and result["deviation"]["area_seen"] == pytest.approx(1, abs=0.01)


def test_run_replays_a_job_and_a_procedure(tmp_path: Path) -> None:
    files = FileStore()
    nominal, scan = write_bracket(tmp_path / "n.stl"), write_bracket(tmp_path / "s.stl", shift=7.0)
    job = (
        demo_job(files)
        .with_nominal(files.adopt(nominal))
        .with_scan(files.adopt(scan))
        .model_copy(update={"procedure": default_procedure()})
    )
    save_job(job, tmp_path / "a.juxtum", files)
    save_procedure(job, tmp_path / "p.json", nominal)
    juxtum("run", tmp_path / "a.juxtum", scan, scan, "--out", tmp_path / "first")
    juxtum("run", tmp_path / "p.json", scan, "--out", tmp_path / "second")
    results = [
        json.loads((tmp_path / place / "result.json").read_text()) for place in ("first/s", "first/s 2", "second/s")
    ]
    assert results[0] == results[1] == results[2]
    assert results[0]["serial"] == "0417" and results[0]["deviation"]["rms"] < 1e-4


def test_info_of_the_nominal() -> None:
    facts = json.loads(juxtum("info", nominal_path(), "--json").stdout)
    assert facts["faces"] == 77 and facts["unit"] == "mm" and facts["watertight"] is True and facts["problems"] == []
    assert np.array(facts["bounds"]) == pytest.approx(np.array([[-130, -90, 0], [130, 90, 140]]), abs=1e-6)
    assert facts["volume"] == pytest.approx(1592147, rel=1e-4)
    assert "yes" in juxtum("info", nominal_path()).stdout


def test_usage_and_version() -> None:
    assert juxtum("--version").stdout.startswith("juxtum 0.")
    assert juxtum("inspect", status=2).stderr.count("\n") == 1
    assert "has no display" in juxtum("open", status=2).stderr
    assert FACES["bore"] == 51


@pytest.mark.parametrize(("asked", "late"), [(signal.SIGTERM, 0.0), (signal.SIGINT, 0.15)])
def test_being_asked_to_end_leaves_no_unfinished_folder(tmp_path: Path, asked: signal.Signals, late: float) -> None:
    part, out = write_bracket(tmp_path / "n.stl"), tmp_path / "out"
    process = subprocess.Popen(
        [sys.executable, "-m", "juxtum", "inspect", part, part, "--out", out],
        stderr=subprocess.PIPE,
        stdout=subprocess.PIPE,
        text=True,
    )
    end = time.monotonic() + 60
    while not list(out.glob(".unfinished-*")) if out.exists() else True:
        assert time.monotonic() < end and process.poll() is None
        time.sleep(0.01)
    time.sleep(late)
    process.send_signal(asked)
    _, said = process.communicate(timeout=60)
    assert process.returncode == 2 and "stopped; nothing unfinished was written" in said and not list(out.iterdir())
