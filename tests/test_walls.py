"""Thickness of walls: known shapes, limits, what cannot be measured, the command line and the window."""

from __future__ import annotations

import json
import subprocess
from functools import cache
from pathlib import Path

import numpy as np
import pytest
import trimesh
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest

from hand import Hand
from helpers import JUDGEMENT, box_mesh
from juxtum.align.result import no_alignment
from juxtum.assemble.surfacing import make_surface
from juxtum.cli.main import main
from juxtum.demo import solids
from juxtum.errors import InputError
from juxtum.evaluate import Verdict, measure_deviation
from juxtum.evaluate.walls import WallLimits, WallMap, by_ball, by_ray, even_places, measure_walls
from juxtum.exchange.mesh_writing import write_mesh
from juxtum.geometry import PointCloud, RigidTransform, TriangleMesh
from juxtum.geometry.transform import rotation_from_vector
from juxtum.guide.findings import Key
from juxtum.guide.lot import lot_words, verdict_words
from juxtum.job.lot import LotRow
from juxtum.job.steps import WallsStep
from juxtum.job.wall_map import TakenWalls
from juxtum.nominal import Nominal
from juxtum.nominal.model import sample_surface
from juxtum.report.lot import _cells
from surfaces import noisy

POSE = RigidTransform.from_parts(rotation_from_vector([0.5, -0.2, 1.1]), [300.0, -900.0, 40.0])


def hollow_ball(off: float) -> TriangleMesh:
    """Between balls of 10 and 8 mm, the inner one moved along X: walls of 2 mm less and more that."""
    outer, inner = trimesh.creation.icosphere(5, 10.0), trimesh.creation.icosphere(5, 8.0)
    points = np.concatenate([outer.vertices, np.add(inner.vertices, [off, 0, 0])])
    return TriangleMesh(points, np.concatenate([outer.faces, inner.faces[:, ::-1] + len(outer.vertices)]))


@cache
def stepped_plate() -> TriangleMesh:
    """60 x 40 mm, 5 mm thick, 3 mm over its middle third."""
    drawn = Nominal.from_shape(
        solids.cut(solids.box((-30, -20, 0), (60, 40, 5)), [solids.box((-10, -21, 3), (20, 42, 4))])
    )
    made = trimesh.Trimesh(drawn.mesh.points, drawn.mesh.triangles)
    for _ in range(5):
        made = made.subdivide()
    return TriangleMesh(np.array(made.vertices), np.array(made.faces))


@pytest.mark.parametrize("way", ["ray", "ball"])
def test_known_shapes(way: str) -> None:
    def measured(mesh: TriangleMesh) -> tuple[np.ndarray, np.ndarray]:
        places, normals = even_places(mesh, 12_000)
        straight = by_ray(mesh, places, normals)
        return places, straight if way == "ray" else by_ball(places, normals, straight)

    places, found = measured(hollow_ball(0.5).moved(POSE))
    outside = np.linalg.norm(POSE.inverse.apply(places), axis=1) > 9.9
    assert np.nanmin(found[outside]) == pytest.approx(1.5, abs=0.02) and np.nanmax(found[outside]) == pytest.approx(
        2.5, abs=0.04
    )
    rod = trimesh.creation.cylinder(5, 40, sections=200)
    places, found = measured(TriangleMesh(np.array(rod.vertices), np.array(rod.faces)).moved(POSE))
    local = POSE.inverse.apply(places)
    wall = (np.abs(local[:, 2]) < 12) & (np.hypot(*local[:, :2].T) > 4.99)
    assert np.nanmedian(found[wall]) == pytest.approx(10.0, abs=0.25)


def walls_of(mesh: TriangleMesh, way: str, limits: WallLimits) -> WallMap:
    drawn = Nominal.from_mesh(box_mesh((60.0, 40.0, 5.0)))
    deviation = measure_deviation(mesh.moved(RigidTransform.translation([0, 0, -2.5])), drawn, no_alignment().transform)
    return measure_walls(deviation, mesh, way, limits, JUDGEMENT)


@pytest.mark.parametrize("way", ["ray", "ball"])
def test_limits_and_noise(way: str) -> None:
    """The thinnest is that of the thin third, not of the noisiest point; and so much of the area is beyond."""
    found = walls_of(noisy(stepped_plate(), 0.02), way, WallLimits(least=4.0))
    assert found.thinnest.value == pytest.approx(3.0, abs=0.04) and abs(found.thinnest.place[0]) < 11
    assert abs(found.thinnest.value - 3.0) < max(found.thinnest.expanded, 0.02), "no extreme of single points"
    assert found.beyond == pytest.approx(1 / 3, abs=0.12) and found.mean > 2.9
    assert found.decision is not None and found.decision.verdict is Verdict.DOES_NOT_CONFORM
    if way == "ray":
        good = walls_of(noisy(stepped_plate(), 0.02), way, WallLimits(least=2.5))
        assert good.decision is not None and good.decision.verdict is Verdict.CONFORMS and good.beyond < 0.02


def test_a_wall_that_is_thin_along_a_line_is_found_or_forbids_conforms() -> None:
    """A small bore 3 mm from the edge of a plate; and a bar of which one half only lets a ball settle."""
    shape = solids.cut(solids.box((-30, -20, 0), (60, 40, 8)), [solids.cylinder((25, 0, -1), (0, 0, 1), 2.0, 10)])
    drawn = Nominal.from_shape(shape)
    fine = trimesh.remesh.subdivide_to_size(drawn.mesh.points, drawn.mesh.triangles, 1.0)
    mesh = TriangleMesh(*(np.array(a) for a in fine))
    deviation = measure_deviation(mesh, drawn, no_alignment().transform)
    found = measure_walls(deviation, mesh, "ray", WallLimits(least=5.0), JUDGEMENT)
    assert found.decision is not None and found.decision.verdict is not Verdict.CONFORMS
    told = min(found.thinnest.value, found.uneven.value if found.uneven is not None else np.inf)
    assert told < 5.0 and 0 < found.beyond < 0.05


@pytest.mark.parametrize("noise", [0.0, 0.02])
def test_no_wall_is_hidden_where_no_ball_settles(noise: float) -> None:
    """Straight through nothing is thinner than what a ball can be: where none settles that bound counts."""
    rods = [solids.cylinder((0, 0, z), (0, 0, 1), r, 40) for z, r in ((0, 15.0), (40, 6.0))]
    drawn = Nominal.from_shape(solids.fused(rods[0], rods[1:]))
    dense = sample_surface(drawn.mesh, drawn.triangle_faces, 1.5).mesh
    mesh = noisy(make_surface(dense.corners.mean(1), dense.triangle_normals, 1.2, overhang=0.7), noise)
    deviation = measure_deviation(mesh, drawn, no_alignment().transform)
    found = measure_walls(deviation, mesh, "ball", WallLimits(least=20.0), JUDGEMENT)
    assert found.decision is not None and found.decision.verdict is not Verdict.CONFORMS
    assert min(found.thinnest.value, found.uneven.value if found.uneven is not None else np.inf) < 12.5
    assert 0 <= found.beyond <= 1


def test_a_part_of_a_lot_is_no_better_than_its_walls() -> None:
    thin = TakenWalls(walls_of(stepped_plate(), "ray", WallLimits(least=4.0)), is_limited=True)
    lost = TakenWalls(None, "the scan shows no two sides of a wall", is_limited=True)
    asked_nothing = TakenWalls(walls_of(stepped_plate(), "ray", WallLimits()))
    rows = (LotRow("part 1", walls=thin), LotRow("part 2", walls=lost), LotRow("part 3", walls=asked_nothing))
    assert [verdict_words(row) for row in rows] == ["not walls", "open walls", "nothing asked"]
    assert lot_words(rows) == "0 of 3 parts conform in all that is asked; part 1 does not."
    cells = [row for one in rows for row in _cells(one)]
    assert cells[0][1] == "walls" and cells[0][8] == "does not conform" and cells[1][9] == lost.problem


def test_what_has_no_walls_is_said() -> None:
    mesh = stepped_plate()
    top = mesh.kept_triangles(mesh.triangle_normals[:, 2] > 0.9)
    with pytest.raises(InputError, match="shows no two sides of a wall"):
        walls_of(top, "ray", WallLimits())
    drawn = Nominal.from_mesh(box_mesh((60.0, 40.0, 5.0)))
    cloud = PointCloud(mesh.points, mesh.normals)
    with pytest.raises(InputError, match="a list of points has no walls"):
        measure_walls(measure_deviation(cloud, drawn, no_alignment().transform), cloud, "ray", WallLimits(), JUDGEMENT)


def test_on_the_command_line(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    write_mesh(tmp_path / "n.ply", stepped_plate())
    write_mesh(tmp_path / "s.ply", noisy(stepped_plate(), 0.01))
    words = [
        "inspect",
        str(tmp_path / "n.ply"),
        str(tmp_path / "s.ply"),
        "--align",
        "none",
        "--trim",
        "none",
        "--out",
        str(tmp_path / "o"),
    ]
    assert main([*words, "--wall-least", "5", "--wall-most", "4"]) == 2
    assert "the least thickness of a wall is not below the most" in capsys.readouterr().err
    assert main([*words, "--walls", "ray", "--wall-least", "4", "--json", "--strict"]) == 1
    walls = json.loads(capsys.readouterr().out)["walls"]
    assert walls["thinnest"]["value"] == pytest.approx(3.0, abs=0.03) and walls["verdict"] == "not decided"
    assert walls["reason"] == "no instrument stated" and walls["thinnest"]["expanded_uncertainty"] is None
    # Whatever says how the part stands counts them: the line on the screen, and the page.
    stated = [*words, "--upper", "1", "--lower", "-1", "--instrument", "handheld", "--temperature", "20"]
    assert main([*stated, "--walls", "ray", "--wall-least", "4", "--strict"]) == 1
    assert "1 of 2 do not conform" in capsys.readouterr().out
    page = subprocess.run(
        ["pdftotext", "-layout", tmp_path / "o" / "report.pdf", "-"], capture_output=True, text=True, check=True
    )
    assert "1 of 2 do not conform" in page.stdout and "Thickness of walls" in page.stdout


def test_walls_in_the_window(small_desk: Hand) -> None:
    d, session = small_desk, small_desk.window.session
    d.go(Key.MEASURE)
    QTest.mouseClick(d.named("Measure the walls"), Qt.MouseButton.LeftButton)
    QTest.mouseClick(d.named("Measure the walls"), Qt.MouseButton.LeftButton)
    panel = d.window.measure.walls
    d.wait(lambda: panel.taken is not None and panel.taken.found is not None)
    assert len(session.job.procedure.of(WallsStep)) == 1, "asked twice it is there once"
    stage = d.window.view.stage
    assert stage.has("walls") and not stage.has("map")
    d.click("Show the walls")
    assert stage.has("map") and not stage.has("walls")
    panel._least.set_value(200.0)
    panel._again()
    d.wait(lambda: panel.taken.found.decision is not None)  # type: ignore[union-attr]
    assert panel.taken.found.beyond == pytest.approx(1.0)  # type: ignore[union-attr]
    d.click("No more")
    d.wait(lambda: panel.taken is None)
    d.go(Key.ALIGN)
    assert not stage.has("walls")
