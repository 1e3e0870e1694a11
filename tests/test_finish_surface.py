"""Work on a surface from the command line and in the window."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QLabel, QPushButton

from hand import Hand
from juxtum.cli.main import main
from juxtum.desk.finishing.hole_list import HoleList
from juxtum.exchange.mesh_writing import write_mesh
from juxtum.geometry import TriangleMesh
from juxtum.guide.findings import Key
from juxtum.job.steps import Fill, Smooth
from surfaces import RADIUS, ball, bored, noisy


def test_finish_on_the_command_line(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    mesh = noisy(ball(6))
    write_mesh(tmp_path / "ball.ply", mesh)
    (tmp_path / "targets.csv").write_text("name,X,Y,Z\n1,0,0,30\n2,30,0,0\n", "utf-8")
    out = tmp_path / "done.stl"
    assert main(["finish", str(tmp_path / "ball.ply"), "--targets-off", str(tmp_path / "targets.csv"), "--diameter", "8",
                 "--repair", "--fill", "curvature", "--smooth", "0.05", "--out", str(out), "--json"]) == 0  # fmt: skip
    said = json.loads(capsys.readouterr().out)
    assert said["schema"] == "juxtum-finished-1" and said["holes"] == [] and said["surface"]["watertight"]
    assert 0 < said["surface"]["largest_displacement"] <= 0.05 and 100 < said["surface"]["invented_area"] < 160
    assert said["surface"]["volume"] == pytest.approx(4 / 3 * np.pi * RADIUS**3, rel=2e-3)
    assert main(["finish", str(out)]) == 0
    assert "0 open borders" in capsys.readouterr().out


FINISH_BAD = [
    (["--kinds", "square", "--fill", "flat"], "'square' is no kind of hole"),
    (["--triangles", "500"], "a number of triangles is given without a bound"),
    (["--thin", "0.001", "--triangles", "100"], "would move the surface by up to"),
    (["--targets-off", "none.csv"], "there is no such file"),
    (["--out", "a.step"], "is no format for a surface"),
    (["--smooth", "-1"], "is not more than nothing"),
]


@pytest.mark.parametrize(("options", "said"), FINISH_BAD)
def test_finish_refuses_with_a_sentence(
    tmp_path: Path, capsys: pytest.CaptureFixture[str], options: list[str], said: str
) -> None:
    write_mesh(tmp_path / "ball.ply", ball(4))
    assert main(["finish", str(tmp_path / "ball.ply"), *options]) == 2
    assert said in capsys.readouterr().err
    np.savetxt(tmp_path / "cloud.xyz", ball(3).points)
    assert main(["finish", str(tmp_path / "cloud.xyz")]) == 2
    assert "a list of points has no surface to work on" in capsys.readouterr().err


def test_the_surface_is_worked_on_in_the_window(small_desk: Hand) -> None:
    d = small_desk
    session = d.window.session
    d.go(Key.ASSEMBLE)
    d.wait(lambda: "closed" in d.named("About the surface", QLabel).text())  # type: ignore[attr-defined]
    # Twice at once: both are there, in order.
    for name in ("Repair", "Smooth"):
        QTest.mouseClick(d.named(name), Qt.MouseButton.LeftButton)
    d.wait()
    kinds = [step.kind for step in session.job.procedure.cleaning]
    assert kinds[-2:] == ["repair", "smooth"]
    done = d.named("What was done to the surface", QLabel)
    assert isinstance(done, QLabel) and "no place of it moved by more than" in done.text()
    d.click("Show what moved")
    d.wait()
    stage = d.window.view.stage
    assert stage.has("moved") and not stage.has("scan") and d.window.view.legend is not None
    session.undo()
    d.wait()
    assert session.job.procedure.cleaning[-1].kind == "repair" and not stage.has("moved")


def test_holes_are_gone_through_and_filled_in_the_window(small_desk: Hand, tmp_path: Path) -> None:
    d = small_desk
    session = d.window.session
    d.go(Key.ASSEMBLE)
    scan = session.derived.scan
    assert isinstance(scan, TriangleMesh)
    middle = scan.points[int(np.argmax(scan.points @ np.array([1.0, 1, 1])))]
    write_mesh(tmp_path / "open.ply", bored(scan, [tuple(middle), tuple(scan.points.min(0))], 9.0))
    held = session.files.adopt(tmp_path / "open.ply")
    inputs = tuple(i if i.role != "scan" else i.model_copy(update={"file": held}) for i in session.job.inputs)
    session.edit("other scan", lambda job: job.model_copy(update={"inputs": inputs}))
    holes = d.named("Open borders", HoleList)
    assert isinstance(holes, HoleList)
    d.wait(lambda: len(holes.holes) == 2)
    stage = d.window.view.stage
    assert stage.has("rims") and not stage.has("rim")
    d.click("Next hole")
    d.wait()
    assert stage.has("rim") and len(holes.taken) == 1
    holes.selectAll()
    d.click("Fill these 2")
    d.wait(lambda: session.derived.scan.invented is not None and not holes.holes)  # type: ignore[union-attr]
    assert stage.has("invented")
    words = d.named("About the surface", QLabel)
    assert isinstance(words, QLabel) and "are invented" in words.text()
    fill_step = session.job.procedure.cleaning[-1]
    assert isinstance(fill_step, Fill) and len(fill_step.places) == 2 and fill_step.is_picked
    assert not any(b.isVisible() and b.text().startswith("Fill these") for b in d.window.findChildren(QPushButton))
    assert Smooth(bound=0.1).title == "smooth within 0.1 mm"
