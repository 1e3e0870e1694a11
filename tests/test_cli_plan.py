"""`juxtum plan`: every question from the command line, its document, its exit status, and the sentence for bad input."""

from __future__ import annotations

import csv
import json
import subprocess
from pathlib import Path

import pytest

from helpers import box_mesh, bracket_mesh, write_bracket
from juxtum.cli import main
from juxtum.exchange.meshes import write_ply
from juxtum.geometry import TriangleMesh
from juxtum.instruments.models import Kind, shipped


def asked(capsys: pytest.CaptureFixture[str], *words: str) -> tuple[int, dict[str, object]]:
    status = main(["plan", *words, "--json"])
    return status, json.loads(capsys.readouterr().out)


@pytest.mark.parametrize("what", ["suitability", "stations", "blind", "effort", "photos"])
def test_the_beam_is_answered(what: str, capsys: pytest.CaptureFixture[str], tmp_path: Path) -> None:
    status, document = asked(capsys, what, "demo:HB-36", "--out", str(tmp_path))
    assert status == 0 and document["schema"] == "juxtum-plan-1" and document["what"] == what
    assert document["part"] == "HB-36 sluice hinge beam" and document["stance"] == "on stands, free all round"
    assert json.loads((tmp_path / f"plan-{what}.json").read_text()) == document
    keys = {
        "suitability": "cheapest", "stations": "fewest_proven", "blind": "methods", "effort": "schedule", "photos": "variants",
    }  # fmt: skip
    assert document[keys[what]]
    assert what != "photos" or (document["reached"] and len(document["photos"]) <= 60)  # type: ignore[arg-type]


def test_targets_come_with_their_sheet(capsys: pytest.CaptureFixture[str], tmp_path: Path) -> None:
    status, document = asked(capsys, "targets", "demo:BC-220", "--goal", "0.6", "--out", str(tmp_path), "--strict")
    assert status == 0 and document["share_seen"] >= 0.6  # type: ignore[operator]
    targets = document["targets"]
    assert isinstance(targets, list) and all(not t["problems"] for t in targets)
    rows = list(csv.DictReader((tmp_path / "targets.csv").open()))
    assert [float(r["x"]) for r in rows] == pytest.approx([t["place"][0] for t in targets], abs=1e-3)
    assert rows[0]["first_ruler"].endswith("edge")
    words = subprocess.run(
        ["pdftotext", "-layout", str(tmp_path / "setup-sheet.pdf"), "-"], capture_output=True, text=True, check=True
    ).stdout
    for text in (
        "Set-up sheet: BC-220 bearing carrier",
        f"{len(targets)} targets",
        "Handheld scanner WH-3",
        "Laser class 2M",
        "Order of work",
        "08:15",
        "Position 1: the face facing down",
        "The targets stay on for both.",
        "Position 1: scan from 1 ",
    ):
        assert text in words
    info = subprocess.run(
        ["pdfinfo", str(tmp_path / "setup-sheet.pdf")], capture_output=True, text=True, check=True
    ).stdout
    assert "Pages:           2" in info


def test_strict_tells_a_plan_that_does_not_meet_what_is_asked(capsys: pytest.CaptureFixture[str]) -> None:
    assert main(["plan", "blind", "demo:HB-36", "--strict"]) == 1
    assert main(["plan", "blind", "demo:HB-36"]) == 0
    assert (
        "the sheet is 3.0 mm thick: 0 rings of points on its wall, 3 are needed; scan it finer"
        in capsys.readouterr().out
    )
    assert main(["plan", "tray", "demo:VC-8", "--parts", "8", "--strict"]) == 0
    assert capsys.readouterr().out.startswith("8 parts, tilted by ")
    assert main(["plan", "turntable", "demo:VC-8"]) == 0
    assert main(["plan", "effort", "demo:BC-220", "--coat", "vanishing", "--start", "7:30", "--spacing", "0.5"]) == 0
    assert "07:30" in capsys.readouterr().out


def test_a_plain_nominal_and_an_own_instrument_will_do(capsys: pytest.CaptureFixture[str], tmp_path: Path) -> None:
    part = write_bracket(tmp_path / "part.stl")
    mine = shipped(Kind.HANDHELD).model_dump(by_alias=True)
    mine["chains"][0]["a"] = 0.4
    path = tmp_path / "mine.json"
    path.write_text(json.dumps(mine))
    status, document = asked(
        capsys, "suitability", str(part), "--instrument", str(path), "--upper", "0,5", "--lower", "-0.5"
    )
    assert status == 0
    rows = document["rows"]
    assert isinstance(rows, list) and rows[0]["verdict"] == "not suitable" and rows[0]["chain"] == "scanner alone"


def bad_instrument(folder: Path) -> str:
    mine = shipped(Kind.HANDHELD).model_dump(by_alias=True)
    mine["chains"][0]["a"] = -0.02
    path = folder / "bad.json"
    path.write_text(json.dumps(mine))
    return str(path)


def inside_out(folder: Path) -> str:
    mesh = box_mesh()
    write_ply(folder / "out.ply", TriangleMesh(mesh.points, mesh.triangles[:, ::-1]))
    return str(folder / "out.ply")


@pytest.mark.parametrize(
    ("words", "sentence"),
    [
        (
            ["targets", "demo:BC-220", "--target-spacing", "400-900"],
            "the rule 'at least 400 mm apart' cannot be met: it is 140 mm more than the part's 260 mm",
        ),
        (["targets", "demo:BC-220", "--diameter", "4"], "Handheld scanner WH-3 has no targets of 4 mm"),
        (["targets", "demo:BC-220", "--allow-faces", "999"], "the nominal has no face 999"),
        (["targets", "demo:BC-220", "--allow-faces", "x"], "'x' is not a list of face numbers"),
        (["targets", "demo:BC-220", "--goal", "1.5"], "'1.5' is not a share between 0 and 1"),
        (
            ["effort", "demo:BC-220", "--spacing", "300"],
            "a spacing of 300 mm is outside what 'crossed lines' can do, 0.2 to 2 mm",
        ),
        (["effort", "demo:BC-220", "--start", "25:00"], "'25:00' is not a clock time"),
        (["effort", "demo:BC-220", "--mode", "no such"], "Handheld scanner WH-3 has no mode 'no such'"),
        (
            ["suitability", "demo:BC-220", "--instrument", "{bad}"],
            "'chains.0.a' is not right: input should be greater than or equal to 0",
        ),
        (["suitability", "demo:BC-220", "--instrument", "missing.json"], "missing.json"),
        (["suitability", "demo:XX-1"], "there is no demo part 'XX-1'"),
        (["blind", "{inside_out}"], "the nominal is inside out"),
        (["blind", "demo:BC-220", "--finish", "51=shiny"], "'shiny' is not a finish"),
        (["tray", "demo:HB-36"], "not even one part fits into"),
        (["turntable", "demo:HB-36"], "mm more than the turntable"),
        (["photos", "demo:HB-36", "--bars", "9"], "has 5 scale bars, 9 are asked for"),
        (["photos", "demo:HB-36", "--bars", "0"], "'0' is not a number from 1 to 10000"),
        (["everything", "demo:HB-36"], "invalid choice: 'everything'"),
    ],
)
def test_bad_input_gets_its_sentence(
    words: list[str], sentence: str, capsys: pytest.CaptureFixture[str], tmp_path: Path
) -> None:
    places = {"{bad}": bad_instrument, "{inside_out}": inside_out}
    assert main(["plan", *(places[w](tmp_path) if w in places else w for w in words)]) == 2
    captured = capsys.readouterr()
    assert captured.out == "" and captured.err.count("\n") == 1 and captured.err.startswith("juxtum: ")
    assert sentence in captured.err


def test_an_open_nominal_is_planned_all_the_same_and_its_mass_is_not_guessed(
    capsys: pytest.CaptureFixture[str], tmp_path: Path
) -> None:
    mesh = box_mesh((120.0, 80.0, 40.0), cuts=2)
    write_ply(tmp_path / "open.ply", TriangleMesh(mesh.points, mesh.triangles[:-20]))
    status, document = asked(capsys, "effort", str(tmp_path / "open.ply"))
    assert status == 0 and document["points"] > 0  # type: ignore[operator]
    words = "the nominal mesh is not closed: lines of sight may pass through its gaps, and its mass is not known"
    assert document["notes"] == [words]
    assert (
        main(["plan", "suitability", str(tmp_path / "open.ply")]) == 0 and f"note: {words}" in capsys.readouterr().out
    )


def test_a_rough_scan_is_planned_on_after_it_was_thinned(capsys: pytest.CaptureFixture[str], tmp_path: Path) -> None:
    mesh = bracket_mesh()
    for _ in range(3):
        mesh = mesh.subdivide()
    mesh.apply_scale(3.0).export(tmp_path / "rough.stl")
    assert len(mesh.faces) > 150_000
    status, document = asked(capsys, "targets", str(tmp_path / "rough.stl"), "--goal", "0.5")
    assert status == 0 and document["share_seen"] >= 0.5  # type: ignore[operator]
