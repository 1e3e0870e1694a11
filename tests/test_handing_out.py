"""A surface handed out in part coordinates holds what the job held."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from PyQt6.QtWidgets import QFileDialog

from hand import Hand
from helpers import write_bracket
from juxtum.cli.main import main
from juxtum.errors import InputError
from juxtum.exchange.mesh_writing import write_mesh
from juxtum.exchange.meshes import read_mesh
from juxtum.geometry import PointCloud, RigidTransform, TriangleMesh
from juxtum.geometry.transform import rotation_from_vector
from juxtum.report import handing_out
from juxtum.report.handing_out import hand_out
from surfaces import ball

POSE = RigidTransform.from_parts(rotation_from_vector([0.3, -1.1, 0.6]), [40.0, -700.0, 12.0])


@pytest.mark.parametrize("suffix", [".ply", ".stl", ".obj", ".3mf"])
def test_what_is_written_is_where_the_part_lies(tmp_path: Path, suffix: str) -> None:
    mesh = ball(5)
    marks = np.zeros(len(mesh.triangles), bool)
    marks[:40] = True
    mesh = TriangleMesh(mesh.points, mesh.triangles, invented=marks)
    made = hand_out(tmp_path / f"out{suffix}", mesh, POSE, "datums")
    read = read_mesh(made.path).scan
    assert isinstance(read, TriangleMesh) and read.volume == pytest.approx(mesh.volume, rel=1e-5)
    assert np.abs(read.points.mean(0) - POSE.apply(mesh.points).mean(0)).max() < 1e-3
    assert read.invented_area == pytest.approx(mesh.invented_area, rel=1e-4)
    assert made.largest < 1e-3 and made.lost == 0 and "part coordinates of 'datums'" in made.sentence
    assert "were not measured and are marked" in made.sentence
    assert [p.name for p in tmp_path.iterdir()] == [f"out{suffix}"]


def test_a_file_that_holds_something_else_does_not_stay(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """What lies there already is not replaced by a file that does not hold the surface."""
    target = tmp_path / "out.ply"
    hand_out(target, ball(3), None)
    before = target.read_bytes()
    shifted = RigidTransform.translation(np.array([0.01, 0.0, 0.0]))
    monkeypatch.setattr(handing_out, "write_mesh", lambda path, mesh: write_mesh(path, mesh.moved(shifted)))
    with pytest.raises(InputError, match="does not hold the surface"):
        hand_out(target, ball(4), None)
    assert target.read_bytes() == before and len(list(tmp_path.iterdir())) == 1


def test_a_cloud_has_no_surface(tmp_path: Path) -> None:
    with pytest.raises(InputError, match="a list of points has no surface to hand out"):
        hand_out(tmp_path / "out.ply", PointCloud(ball(3).points), None)


def test_the_command_line_hands_out(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    nominal = write_bracket(tmp_path / "n.stl")
    turned = read_mesh(nominal).scan.moved(POSE)
    write_mesh(tmp_path / "s.ply", turned)
    asked = ["inspect", str(nominal), str(tmp_path / "s.ply"), "--nominal-unit", "mm", "--out", str(tmp_path / "out")]
    assert main([*asked, "--surface", str(tmp_path / "part.step")]) == 2
    assert "is no format for a surface" in capsys.readouterr().err
    assert main([*asked, "--surface", str(tmp_path / "part.3mf")]) == 0
    assert "triangles in part coordinates of 'best fit', mm; read back" in capsys.readouterr().out
    back, there = read_mesh(tmp_path / "part.3mf").scan, read_mesh(nominal).scan
    assert np.abs(back.bounds - there.bounds).max() < 0.01


def test_the_window_hands_out(small_desk: Hand, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    d = small_desk
    target = tmp_path / "handed"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(target), ""))
    d.window.menus.actions["export surface"].trigger()
    d.wait(lambda: target.with_suffix(".ply").exists() and "read back" in d.window.notice.text)
    assert "triangles in part coordinates of 'a'" in d.window.notice.text
