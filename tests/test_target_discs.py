"""Reference targets that are still in a surface: found by their shape, told apart from what is none, taken off, in the window too."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator
from pathlib import Path

import numpy as np
import pytest
import trimesh
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QLabel, QLineEdit, QPushButton
from scipy.spatial import cKDTree

from hand import Hand, close, opened
from juxtum.assemble.finishing import find_discs, without_targets
from juxtum.assemble.holes import holes_of
from juxtum.cli.main import main
from juxtum.demo.world import scan_path
from juxtum.desk.finishing.hole_list import HoleList
from juxtum.errors import InputError
from juxtum.exchange.mesh_writing import write_mesh
from juxtum.exchange.meshes import read_mesh
from juxtum.geometry import TriangleMesh
from juxtum.geometry.arrays import Bools, Floats, orthonormal_frame
from juxtum.guide.findings import Key
from juxtum.guide.finishing import discs_words
from juxtum.job import FileStore, Job, Runner, inputs_of
from juxtum.job.document import Brief, default_procedure
from juxtum.job.steps import AsScanned, Decide, TargetsOff
from juxtum.progress import silent
from surfaces import sheet

PLACES = [(x, y) for x in (-34.0, -9.0, 17.0, 39.0) for y in (-40.0, -11.0, 13.0, 36.0)]
HEIGHT = 0.1


def discs(u: Floats, v: Floats, across: float = 8.0) -> Floats:
    """Stickers at the places, their rim rounded as a scanner sees it."""
    away = np.min([np.hypot(u - x, v - y) for x, y in PLACES], axis=0)
    return np.asarray(HEIGHT * np.clip((across / 2 + 0.15 - away) / 0.3, 0, 1))


def shiny(blank: float) -> Callable[[Floats, Floats], Bools]:
    """Where the middle of a sticker shines so that nothing is captured."""
    return lambda u, v: np.asarray(np.min([np.hypot(u - x, v - y) for x, y in PLACES], axis=0) < blank / 2)


def known(bend: float) -> Floats:
    """The places (16, 3) on a sheet that is bent to a radius."""
    x, y = np.array(PLACES).T
    if np.isinf(bend):
        return np.column_stack([x, y, 0 * x])
    return np.column_stack([bend * np.sin(x / bend), y, bend * np.cos(x / bend)])


@pytest.mark.parametrize("bend", [np.inf, 60.0])
@pytest.mark.parametrize("blank", [0.0, 4.5])
def test_all_are_found_where_they_are(bend: float, blank: float) -> None:
    made = find_discs(sheet(discs, bend, shiny(blank) if blank else None), 8.5)
    found = made.found
    off = np.linalg.norm(made.places[:, None] - known(bend), axis=2)
    assert len(found) == len(PLACES) and len(set(off.argmin(1).tolist())) == len(PLACES) and off.min(1).max() < 0.3
    assert np.median([disc.diameter for disc in found]) == pytest.approx(8.0, abs=0.2)
    assert np.median([disc.height for disc in found]) == pytest.approx(HEIGHT, abs=0.015)


NONE: dict[str, Callable[[Floats, Floats], Floats]] = {
    "nothing": lambda u, v: 0 * u,
    "a square pad": lambda u, v: 0.1 * ((abs(u) < 4) & (abs(v) < 4)),
    "a long pad with round ends": lambda u, v: 0.1 * (np.hypot(np.maximum(abs(u) - 3, 0), v) < 4),
    "a ridge": lambda u, v: 0.1 * (abs(u - 8 * np.sin(v / 15)) < 4),
    "a dent": lambda u, v: -0.1 * (np.hypot(u, v) < 4),
    "a dome": lambda u, v: np.maximum(0.1 * (1 - (u * u + v * v) / 16), 0),
    "a burr": lambda u, v: 0.1 * ((np.hypot(u, v) > 2.5) & (np.hypot(u, v) < 3.3)),
    "a boss": lambda u, v: 1.0 * (np.hypot(u, v) < 4),
    "waves": lambda u, v: 0.05 * np.sin(u / 2.2) * np.sin(v / 2.2),
}


@pytest.mark.parametrize("name", NONE)
def test_what_is_no_target_is_left(name: str) -> None:
    mesh = sheet(NONE[name])
    assert find_discs(mesh, 8.0).found == ()
    made = TargetsOff(by_shape=True).work(mesh, silent())
    assert made.mesh is mesh and made.notes == ("no disc of 8 mm stands out of the surface as a target does",)


def test_a_diameter_that_is_none_and_a_step_without_targets() -> None:
    with pytest.raises(InputError, match="a target of 500 mm is none"):
        find_discs(sheet(discs), 500.0)
    with pytest.raises(ValueError, match="nor are they looked for"):
        TargetsOff()
    tiny = TriangleMesh(np.eye(3), np.array([[0, 1, 2]]))
    assert discs_words(find_discs(tiny, 8.0)).startswith("The surface is too coarse to tell targets of 8 mm")
    assert TargetsOff(by_shape=True).work(tiny, silent()).notes[0].startswith("the surface is too coarse")
    assert TargetsOff(by_shape=True).is_picked is False and TargetsOff(places=((0, 0, 0),), by_shape=True).is_picked


def test_on_the_demo_part_only_what_was_stuck_is_found_and_the_part_comes_back() -> None:
    bare = read_mesh(scan_path()).scan
    assert isinstance(bare, TriangleMesh) and find_discs(bare, 8.0).found == ()
    places = _where_a_hand_would_stick(bare)
    stuck = _stuck(bare, places)
    found = find_discs(stuck, 8.0)
    off = np.linalg.norm(found.places[:, None] - places, axis=2)
    assert len(places) > 12 and off.min(1).max() < 0.6 and (off.min(0) < 0.6).sum() >= 0.9 * len(places)
    worked = without_targets(stuck, found.places, 8.0)
    assert f"{len(off)} of {len(off)} targets went" in worked.notes[0]
    kept = cKDTree(worked.mesh.points).query(places[off.argmin(1)])[0]
    assert kept.min() > 3.5, "what stood out is gone"


def _where_a_hand_would_stick(mesh: TriangleMesh) -> Floats:
    """Places (K, 3) of a scan about which the surface is smooth for 7 mm, 25 mm apart."""
    tree = cKDTree(mesh.points)
    chosen: list[Floats] = []
    for row in np.random.default_rng(2).permutation(len(mesh.points))[:1500]:
        place, facing = mesh.points[row], mesh.normals[row]
        if any(np.linalg.norm(place - other) < 25 for other in chosen):
            continue
        near = np.array(tree.query_ball_point(place, 7.0))
        aside = (mesh.points[near] - place) @ orthonormal_frame(facing)[:2].T
        sectors = np.unique(np.floor(np.arctan2(*aside[np.linalg.norm(aside, axis=1) > 6].T) / np.pi * 8))
        if (mesh.normals[near] @ facing > 0.9).all() and len(sectors) >= 16:
            chosen.append(place)
    return np.array(chosen)


def _stuck(mesh: TriangleMesh, places: Floats) -> TriangleMesh:
    away = cKDTree(places).query(mesh.points)[0]
    lift = HEIGHT * np.clip((4.15 - away) / 0.3, 0, 1)
    return TriangleMesh(mesh.points + lift[:, None] * mesh.normals, mesh.triangles)


def test_on_the_command_line(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    write_mesh(tmp_path / "s.ply", sheet(discs))
    assert main(["finish", str(tmp_path / "s.ply"), "--find-targets"]) == 0
    said = capsys.readouterr().out
    assert "16 discs about 7.9 mm across stand 0.11 mm out of the surface" in said
    assert said.count("     disc 8") + said.count("     disc 7") == 16
    out = tmp_path / "done.ply"
    taken = [
        "finish",
        str(tmp_path / "s.ply"),
        "--targets-off",
        "by-shape",
        "--fill",
        "curvature",
        "--out",
        str(out),
        "--json",
    ]
    assert main(taken) == 0
    done = json.loads(capsys.readouterr().out)
    assert len(done["targets"]) == 16 and done["targets"][0]["height"] == pytest.approx(HEIGHT, abs=0.02)
    assert [hole["kind"] for hole in done["holes"]] == ["edge"] and done["surface"]["invented_area"] == pytest.approx(
        16 * 63, rel=0.15
    )
    filled = read_mesh(out).scan
    assert np.abs(filled.points[:, 2]).max() < 0.1, "flat again where they were"
    assert main(["finish", str(tmp_path / "s.ply"), "--targets-off", "by-shape", "--diameter", "12"]) == 0
    assert (
        "No disc of 12 mm stands out of the surface as a target does; noise would hide one lower than 0.0"
        in capsys.readouterr().out
    )


def plate_job(files: FileStore, folder: Path, scan: TriangleMesh) -> Job:
    """A plate of 100 x 100 x 5 mm as drawn, and a scan of its upper face in part coordinates."""
    plate = trimesh.creation.box((100, 100, 5), trimesh.transformations.translation_matrix((0, 0, -2.5)))
    plate.export(folder / "n.stl")
    write_mesh(folder / "s.ply", scan)
    job = Job(
        brief=Brief(part="A"),
        inputs=inputs_of(files.adopt(folder / "n.stl"), files.adopt(folder / "s.ply")),
        procedure=default_procedure(),
    )
    return job.with_step(AsScanned(name="a")).with_step(Decide(alignment="a"))


@pytest.mark.parametrize(("lift", "said"), [(discs, True), (NONE["a square pad"], False), (NONE["nothing"], False)])
def test_an_evaluation_says_that_targets_are_still_there(
    tmp_path: Path, lift: Callable[[Floats, Floats], Floats], said: bool
) -> None:
    files = FileStore()
    warnings = Runner(files).evaluation(plate_job(files, tmp_path, sheet(lift))).warnings
    told = [words for words in warnings if "as reference targets are" in words]
    assert bool(told) is said
    if said:
        assert "of the highest places are round, 8.0 mm across" in told[0].replace("7.9", "8.0")


@pytest.fixture
def desk_with_targets(application: QApplication, tmp_path: Path) -> Iterator[Hand]:
    """A window with a scan on which sixteen targets are left."""
    window = opened(tmp_path)
    window.session.start(plate_job(window.session.files, tmp_path, sheet(discs)))
    hand = Hand(window)
    hand.wait(lambda: window.session.derived.scan is not None)
    yield hand
    close(window)


def _shown(d: Hand, text: str) -> bool:
    return any(button.text() == text and button.isVisible() for button in d.window.findChildren(QPushButton))


def test_in_the_window(desk_with_targets: Hand) -> None:
    d = desk_with_targets
    session, stage = d.window.session, d.window.view.stage
    d.go(Key.ASSEMBLE)
    d.wait()
    assert not _shown(d, "Take targets off")
    # Twice before the first is done.
    for _ in range(2):
        QTest.mouseClick(d.named("Find targets"), Qt.MouseButton.LeftButton)
    d.wait()
    words = d.named("About targets", QLabel)
    assert isinstance(words, QLabel) and words.text().startswith("16 discs about 7.9 mm across")
    assert stage.has("target rings")
    # Another width is typed before they go: what was ringed goes.
    across = d.named("Across a target", QLineEdit)
    assert isinstance(across, QLineEdit)
    across.setText("0")
    across.editingFinished.emit()
    d.click("Take targets off")
    d.wait()
    step = session.job.procedure.cleaning[-1]
    assert isinstance(step, TargetsOff) and step.by_shape and not step.is_picked and step.diameter == 8.0
    holes = d.window.findChild(HoleList)
    assert holes is not None
    d.wait(lambda: sum(hole.kind == "target" for hole in holes.holes) == 16)
    assert not stage.has("target rings") and not _shown(d, "Take targets off")
    d.click("Fill round ones")
    d.wait(lambda: sum(hole.kind == "target" for hole in holes.holes) == 0)
    session.undo()
    session.undo()
    d.wait()
    assert not any(isinstance(step, TargetsOff) for step in session.job.procedure.cleaning)
    assert [hole.kind for hole in holes_of(session.derived.scan)] == ["edge"]
