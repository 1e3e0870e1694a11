"""What used to pass without a word: what was given, and what has to be said."""

from __future__ import annotations

import json
import subprocess
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import pytest
import trimesh

from bracket import Bracket, bracket_nominal, bracket_scan
from helpers import STATED, turned
from juxtum.cli import main
from juxtum.demo import solids
from juxtum.exchange.meshes import read_mesh
from juxtum.geometry import PointCloud
from juxtum.guide.verdicts import headline
from juxtum.job import Evaluation, FileStore, Job, Runner, inputs_of
from juxtum.job.document import default_procedure
from juxtum.job.doubts import doubts_about_inputs
from juxtum.job.inputs import LoadedScan
from juxtum.job.store import save_procedure
from juxtum.nominal import Nominal
from juxtum.units import Unit

HOW = ("--instrument", "handheld", "--temperature", "20")
POSE = turned((25, -40, 70), (120, 40, -30)).matrix
Given = Callable[[Path], list[object]]


@dataclass(frozen=True)
class Case:
    """What is given to `inspect`, what its result has to say, and which verdicts it may give."""

    given: Given
    said: str
    verdicts: tuple[str, ...] = ("not decided", "does not conform")


def made(**defects: object) -> Given:
    """A scan of the bracket with defects, in some pose, before its CAD."""

    def give(folder: Path) -> list[object]:
        scan = bracket_scan(Bracket(**defects))  # type: ignore[arg-type]
        scan.apply_transform(POSE)
        scan.export(folder / "scan.stl")
        return [bracket_nominal(folder / "nominal.step"), folder / "scan.stl"]

    return give


def opposite_hand(folder: Path) -> list[object]:
    scan = bracket_scan(Bracket())
    scan.apply_transform(np.diag([-1.0, 1, 1, 1]))
    scan.invert() if scan.volume < 0 else None
    scan.apply_transform(POSE)
    scan.export(folder / "scan.stl")
    return [bracket_nominal(folder / "nominal.step"), folder / "scan.stl"]


def meshes(scale: float = 1.0, swap: bool = False) -> Given:
    """Scan and nominal both as meshes whose files name no unit."""

    def give(folder: Path) -> list[object]:
        drawn, scan = trimesh.creation.box((60, 40, 25)), bracket_scan(Bracket(plain=True))
        for name, mesh in (("nominal.stl", drawn), ("scan.stl", scan)):
            mesh.copy().apply_scale(scale).export(folder / name)
        files: list[object] = [folder / "nominal.stl", folder / "scan.stl"]
        return files[::-1] if swap else files

    return give


def twice(folder: Path) -> list[object]:
    first = bracket_scan(Bracket())
    second = bracket_scan(Bracket(seed=5))
    second.apply_translation(0.4 * np.ones(3) / np.sqrt(3))
    trimesh.util.concatenate([first, second]).export(folder / "scan.stl")
    return [bracket_nominal(folder / "nominal.step"), folder / "scan.stl"]


CASES = {
    "bump of 3.5 mm": Case(made(bump=3.5), "foreign surface"),
    "bump of 5 mm": Case(made(bump=5.0), "foreign surface"),
    "bump of 8 mm": Case(made(bump=8.0), "to 8.0 mm from the nominal"),
    "dent of 5 mm": Case(made(bump=-5.0), "foreign surface"),
    "hole never drilled": Case(made(is_drilled=False), "missing surface"),
    "opposite hand": Case(opposite_hand, "opposite hand", ("not decided",)),
    "no units, in mm": Case(meshes(), "neither file names a unit", ("conforms",)),
    "no units, both in inches": Case(
        meshes(1 / 25.4),
        "taken as millimetres, which makes the part 2.362 x 1.575 x 0.9843 mm",
        ("conforms", "not decided"),
    ),
    "swapped": Case(meshes(swap=True), "changed places", ("conforms", "not decided", "does not conform")),
    "the same scan twice": Case(twice, "the scan is double", ("not decided",)),
}


def evaluated(given: list[object]) -> Evaluation:
    """The whole procedure on a nominal and a scan."""
    files = FileStore()
    nominal, scan = (files.adopt(Path(str(path))) for path in given)
    return Runner(files).evaluation(
        Job(inputs=inputs_of(nominal, scan), procedure=default_procedure(), circumstances=STATED)
    )


@pytest.mark.parametrize("name", CASES)
def test_it_is_said(name: str, tmp_path: Path) -> None:
    case = CASES[name]
    evaluation = evaluated(case.given(tmp_path))
    assert any(case.said in words for words in evaluation.warnings)
    assert {str(c.verdict) for c in evaluation.ledger} <= set(case.verdicts)
    if "conforms" not in case.verdicts:
        assert headline(evaluation) != "conforms"


def test_it_is_written_everywhere(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    nominal, scan = made(is_drilled=False)(tmp_path)
    out = tmp_path / "out"
    assert main(["inspect", str(nominal), str(scan), "--out", str(out), *HOW, "--json", "--strict"]) == 1
    told = capsys.readouterr()
    result = json.loads(told.out)
    foreign, missing = result["deviation"]["foreign"], result["deviation"]["missing"]
    assert len(foreign) == 2 and len(missing) == 1
    assert np.hypot(missing[0]["place"][0] - 44, missing[0]["place"][1] - 24) == pytest.approx(6, abs=0.5)
    assert missing[0]["area"] == pytest.approx(12 * np.pi * 12, rel=0.1)
    assert all(p["area"] == pytest.approx(np.pi * 16, rel=0.35) for p in foreign)
    assert "missing surface" in result["characteristics"][0]["reason"]
    assert told.err.count("note: ") == 3
    pages = subprocess.run(
        ["pdftotext", "-layout", out / "report.pdf", "-"], capture_output=True, text=True, check=True
    ).stdout
    for text in (pages, (out / "ledger.csv").read_text()):
        assert "oreign surface" in text and "issing surface" in text


def test_a_good_part_is_not_doubted(tmp_path: Path) -> None:
    evaluation = evaluated(made()(tmp_path))
    assert evaluation.warnings == () and headline(evaluation) == "conforms"


@pytest.mark.parametrize(
    ("header", "row", "unit"),
    [
        ("y,x,z", "{1},{0},{2}", None),
        ("X [in],Y [in],Z [in]", "{0},{1},{2}", Unit.INCH),
        ("Point;Z (mm);X (mm);Y (mm)", "7;{2};{0};{1}", Unit.MILLIMETRE),
        ("# y x z\n# taken on a Monday", "{1} {0} {2}", None),
        ("\ufeffx,y,z", "{0},{1},{2}", None),
        ("// X Y Z in inches", "{0} {1} {2}", Unit.INCH),
    ],
)
def test_the_header_of_a_list_counts(tmp_path: Path, header: str, row: str, unit: Unit | None) -> None:
    points = np.random.default_rng(3).uniform(-50, 50, (40, 3))
    (tmp_path / "a.csv").write_text("\n".join([header, *(row.format(*p) for p in points)]))
    file = read_mesh(tmp_path / "a.csv")
    assert file.unit is unit and np.allclose(file.scan.points, points)


def _procedure(folder: Path) -> tuple[Path, Path]:
    nominal, scan = made()(folder)
    files = FileStore()
    job = Job(inputs=inputs_of(files.adopt(Path(str(nominal)))), procedure=default_procedure(), circumstances=STATED)
    save_procedure(job, folder / "p.json", Path(str(nominal)))
    return Path(str(nominal)), Path(str(scan))


def test_another_revision_of_the_drawing_is_refused(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    nominal, scan = _procedure(tmp_path)
    bracket_nominal(nominal, length=61.0)
    assert main(["run", str(tmp_path / "p.json"), str(scan), "--out", str(tmp_path / "out")]) == 2
    assert "is not the nominal that this procedure was made with" in capsys.readouterr().err


def test_a_procedure_without_a_hash_is_told(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    _, scan = _procedure(tmp_path)
    raw = json.loads((tmp_path / "p.json").read_text())
    raw["nominal"].pop("sha256")
    (tmp_path / "p.json").write_text(json.dumps(raw))
    assert main(["run", str(tmp_path / "p.json"), str(scan), "--out", str(tmp_path / "out")]) == 0
    assert "does not say which revision" in capsys.readouterr().err


def test_scans_of_one_name_do_not_overwrite_each_other(tmp_path: Path) -> None:
    nominal, scan = _procedure(tmp_path)
    del nominal
    for place in ("a", "b", "c"):
        (tmp_path / place).mkdir()
    other = bracket_scan(Bracket(seed=9))
    scan.rename(tmp_path / "a" / "s.stl")
    other.export(tmp_path / "b" / "s.stl")
    bracket_scan(Bracket(seed=10)).export(tmp_path / "c" / "s 2.stl")
    scans = [str(tmp_path / name) for name in ("a/s.stl", "b/s.stl", "c/s 2.stl")]
    for given in (scans, [scans[1]]):
        assert main(["run", str(tmp_path / "p.json"), *given, "--out", str(tmp_path / "out")]) == 0
    hashes = [json.loads(p.read_text())["scan_sha256"] for p in sorted((tmp_path / "out").glob("*/result.json"))]
    assert len(hashes) == len(set(hashes)) == 3


@pytest.mark.parametrize(
    ("thickness", "has_normals", "told"), [(1.0, False, True), (1.0, True, False), (20.0, False, False)]
)
def test_points_without_normals_on_a_thin_wall_are_told(
    tmp_path: Path, thickness: float, has_normals: bool, told: bool
) -> None:
    nominal = Nominal.from_shape(solids.box((0, 0, 0), (80, 60, thickness)))
    mesh = nominal.samples.mesh
    cloud = PointCloud(mesh.corners.mean(1), mesh.triangle_normals if has_normals else None)
    notes = doubts_about_inputs(nominal, LoadedScan(cloud, Unit.MILLIMETRE, (), False), 3.0)
    assert [note.split(":")[0] for note in notes] == (
        ["the points come without normals, and walls are only 1 mm thick"] if told else []
    )
