"""The nominal against the scan, and one scan against another: known gaps, what is missing, both turns of the sign; in the window."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from PyQt6.QtWidgets import QComboBox

from hand import Hand
from helpers import plate, turned
from juxtum.assemble.surfacing import make_surface
from juxtum.cli import main
from juxtum.demo import solids
from juxtum.evaluate.held import nominal_against, scan_against
from juxtum.exchange.cad import write_step
from juxtum.exchange.mesh_writing import write_mesh
from juxtum.exchange.meshes import read_mesh
from juxtum.geometry import RigidTransform, TriangleMesh
from juxtum.guide.findings import Key
from juxtum.job.document import usual_alignment
from juxtum.nominal import Nominal
from juxtum.nominal.model import sample_surface
from surfaces import noisy

HALF = 0.5
"""How much is missing of the part in one of the scans."""


@pytest.fixture(scope="module")
def drawn() -> Nominal:
    return Nominal.from_shape(plate(boss=False))


def made(drawn: Nominal, height: float = 0.0) -> TriangleMesh:
    """The plate as scanned, its top raised."""
    mesh = sample_surface(drawn.mesh, drawn.triangle_faces, 1.5).mesh
    points = np.array(mesh.points)
    points[np.isclose(points[:, 2], 10.0), 2] += height
    return TriangleMesh(points, mesh.triangles)


def test_the_nominal_shows_what_lies_over_it_and_what_is_missing(drawn: Nominal) -> None:
    scan = made(drawn, 0.3)
    part = scan.kept_triangles(scan.corners[:, :, 0].max(1) < 80 * HALF)
    whole, half = nominal_against(drawn, scan), nominal_against(drawn, part)
    top = np.isclose(whole.mesh.points[:, 2], 10.0) & (whole.mesh.triangle_normals.repeat(3, 0)[:, 2] > 0.9)
    assert np.nanmedian(whole.values[top]) == pytest.approx(0.3, abs=1e-6) and np.nanmax(whole.values) < 0.31
    assert np.nanmedian(whole.values[~top]) == pytest.approx(0.0, abs=1e-3)
    assert whole.numbers["seen"] > 0.99 and half.numbers["seen"] == pytest.approx(HALF, abs=0.06)
    beyond = half.mesh.points[:, 0] > 80 * HALF + 3
    assert np.isnan(half.values[beyond]).all(), "what the scan does not show has no value"


def test_a_scan_stands_out_of_another_or_lies_behind_it(drawn: Nominal) -> None:
    before, after = made(drawn), made(drawn, -0.12)
    worn = scan_against(after, before)
    top = np.isclose(after.points[:, 2], 9.88)
    assert np.nanmedian(worn.values[top]) == pytest.approx(-0.12, abs=1e-6)
    assert scan_against(before, after).numbers["largest"] == pytest.approx(0.12, abs=1e-4)
    assert abs(scan_against(before, before).numbers["sd"]) < 1e-9


def test_a_scan_lies_on_itself_also_at_its_edges(drawn: Nominal) -> None:
    """Noisy corners look somewhere between their faces: no value, rather than that of a face farther off."""
    dense = sample_surface(drawn.mesh, drawn.triangle_faces, 0.8).mesh
    scan = noisy(make_surface(dense.corners.mean(1), dense.triangle_normals, 0.8, overhang=0.7), 0.02)
    found = scan_against(scan, scan)
    assert np.nanmax(np.abs(found.values)) < 1e-9 and found.numbers["seen"] > 0.9


def test_of_a_thin_sheet_the_side_that_looks_the_same_way_counts() -> None:
    thin = Nominal.from_shape(solids.box((0, 0, 0), (60, 40, 0.2)))
    sheet = sample_surface(thin.mesh, thin.triangle_faces, 1.0).mesh
    moved = scan_against(sheet.moved(RigidTransform.translation([0, 0, 0.15])), sheet)
    up = sheet.normals[:, 2]
    assert np.nanmedian(moved.values[up > 0.99]) == pytest.approx(0.15, abs=1e-6)
    assert np.nanmedian(moved.values[up < -0.99]) == pytest.approx(-0.15, abs=1e-6)


def test_a_hole_has_nothing_over_it(drawn: Nominal) -> None:
    """Over the mouths of the bores the plate without bores finds no surface of the one with them."""
    closed = Nominal.from_shape(solids.box((0, 0, 0), (80, 65, 10)))
    found = nominal_against(closed, made(drawn))
    middle = np.linalg.norm(found.mesh.points[:, :2] - [20, 20], axis=1) < 2.0
    assert middle.sum() > 10 and np.isnan(found.values[middle]).all()


def test_on_the_command_line(drawn: Nominal, tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    write_step(plate(boss=False), tmp_path / "n.step")
    write_mesh(tmp_path / "s.ply", made(drawn, 0.3))
    given = [
        "inspect",
        str(tmp_path / "n.step"),
        str(tmp_path / "s.ply"),
        "--align",
        "none",
        "--trim",
        "none",
        "--out",
        str(tmp_path / "o"),
    ]
    assert main([*given, "--from-nominal", str(tmp_path / "map.stl")]) == 2
    assert "only PLY holds a value at each place" in capsys.readouterr().err
    assert main([*given, "--from-nominal", str(tmp_path / "map.ply")]) == 0
    said = capsys.readouterr().out
    assert "map.ply: " in said and "+0.300 mm" in said and "% of the nominal has scan over it" in said
    assert read_mesh(tmp_path / "map.ply").scan.area == pytest.approx(drawn.area, rel=1e-3)


def test_in_the_window(small_desk: Hand, drawn: Nominal, tmp_path: Path) -> None:
    d, session = small_desk, small_desk.window.session
    d.go(Key.MEASURE)
    panel, stage = d.window.measure.held, d.window.view.stage
    choice = d.named("What is held against what", QComboBox)
    assert isinstance(choice, QComboBox) and choice.count() == 2

    def choose(index: int) -> None:
        choice.setCurrentIndex(index)
        choice.activated.emit(index)

    choose(1)
    d.wait(lambda: panel.found is not None)
    assert stage.has("held") and not stage.has("map")
    assert d.named("Other map").facts["area with a value"].endswith("%")  # type: ignore[attr-defined]
    choose(0)
    choose(1)
    choose(0)
    d.wait()
    assert not stage.has("held") and stage.has("map") and panel.found is None, "the last choice counts"
    # A second scan, with an alignment of its own, can be held against.
    scan = session.derived.measured
    assert isinstance(scan, TriangleMesh)
    write_mesh(tmp_path / "second.ply", scan.moved(turned((0, 0, 2), (0.5, 0.2, 0))))
    session.edit("another", lambda job: job.with_further(session.files.adopt(tmp_path / "second.ply")))
    d.wait()
    for step in usual_alignment("scan 2"):
        named = step.model_copy(update={"name": f"{step.name} 2", "start": f"{step.start} 2" if step.start else ""})
        session.edit("align it", lambda job, step=named: job.with_step(step))
    d.wait(lambda: choice.count() == 4)
    choose(2)
    d.wait(lambda: panel.found is not None)
    assert abs(panel.found.numbers["mean"]) < 0.02 and stage.has("held")
    d.go(Key.ALIGN)
    assert not stage.has("held")
    d.go(Key.MEASURE)
    d.wait()
    assert stage.has("held"), "it is still chosen"
