"""Two layers of surface: how far apart and where, in noise; and none where the shape only steps, bends or is thin."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest
from PyQt6.QtWidgets import QLabel

from hand import Hand
from helpers import box_mesh, plate
from juxtum.assemble.layers import find_layers
from juxtum.assemble.surfacing import make_surface
from juxtum.cli import main
from juxtum.demo import solids
from juxtum.errors import InputError
from juxtum.exchange.mesh_writing import write_mesh
from juxtum.geometry import PointCloud, RigidTransform, TriangleMesh
from juxtum.geometry.transform import rotation_from_vector
from juxtum.guide.findings import Key
from juxtum.nominal import Nominal
from juxtum.nominal.model import sample_surface
from surfaces import noisy

POSE = RigidTransform.from_parts(rotation_from_vector([0.4, -0.7, 0.2]), [400.0, -80.0, 900.0])


def scanned(shape: object, noise: float = 0.015) -> TriangleMesh:
    drawn = Nominal.from_shape(shape)
    dense = sample_surface(drawn.mesh, drawn.triangle_faces, 0.8).mesh
    return noisy(make_surface(dense.corners.mean(1), dense.triangle_normals, 0.8, overhang=0.7), noise)


def twice(mesh: TriangleMesh, apart: float) -> TriangleMesh:
    """Its top once more, so far above it."""
    top = mesh.kept_triangles((mesh.triangle_normals[:, 2] > 0.9) & (mesh.corners.mean(1)[:, 2] > 9))
    above = noisy(top.moved(RigidTransform.translation([0, 0, apart])), 0.015)
    return TriangleMesh(
        np.concatenate([mesh.points, above.points]),
        np.concatenate([mesh.triangles, above.triangles + len(mesh.points)]),
    )


@pytest.fixture(scope="module")
def whole() -> TriangleMesh:
    return scanned(plate(boss=False))


@pytest.mark.parametrize("apart", [0.15, 0.4, 1.2])
def test_the_gap_is_found_and_measured(whole: TriangleMesh, apart: float) -> None:
    found = find_layers(twice(whole, apart).moved(POSE))
    assert found.patches[0].gap == pytest.approx(apart, abs=0.02)
    assert sum(patch.area for patch in found.patches[1:]) < 0.02 * found.patches[0].area, (
        "no more than crumbs of its rims"
    )
    flat = 80 * 65 - 4 * np.pi * 16
    # At ten times the noise the rims of the patch are lost.
    assert found.patches[0].area == pytest.approx(flat, rel=0.15 if apart > 0.2 else 0.3)
    place = POSE.inverse.apply(found.patches[0].place[None])[0]
    assert abs(place[2] - 10 - apart / 2) < apart, "it lies where the layers do"
    assert np.nanmedian(found.gaps) == pytest.approx(apart, abs=0.02) and 0.3 < found.share < 0.75


@pytest.mark.parametrize(
    "shape",
    [
        lambda: plate(),
        lambda: solids.box((0, 0, 0), (60, 40, 0.6)),
        lambda: solids.fused(solids.box((0, 0, 0), (60, 40, 5)), [solids.box((10, 10, 5), (20, 20, 0.5))]),
        lambda: solids.cylinder((0, 0, 0), (0, 0, 1), 6, 40),
        lambda: solids.fused(
            solids.box((0, 0, 0), (60, 40, 3)), [solids.box((x, 0, 3), (1.2, 40, 2)) for x in range(5, 55, 3)]
        ),
    ],
    ids=["plate", "sheet", "ledge", "bar", "ribs"],
)
def test_one_layer_is_one_layer(shape: object) -> None:
    found = find_layers(scanned(shape()))  # type: ignore[operator]
    assert not found.patches and found.share == 0 and found.sentence == "one layer everywhere"


def test_what_tells_nothing_is_said() -> None:
    with pytest.raises(InputError, match="without directions"):
        find_layers(PointCloud(np.random.default_rng(1).normal(0, 9, (500, 3))))
    with pytest.raises(InputError, match="8 points are too few"):
        find_layers(box_mesh())


def test_on_the_command_line(whole: TriangleMesh, tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    write_mesh(tmp_path / "s.ply", twice(whole, 0.4))
    assert main(["finish", str(tmp_path / "s.ply"), "--json"]) == 0
    (layer,) = json.loads(capsys.readouterr().out)["layers"]
    assert layer["gap"] == pytest.approx(0.4, abs=0.02) and layer["place"][2] == pytest.approx(10.2, abs=0.4)
    assert main(["finish", str(tmp_path / "s.ply")]) == 0
    assert "two layers over" in capsys.readouterr().out


def test_in_the_window(small_desk: Hand, whole: TriangleMesh, tmp_path: Path) -> None:
    d, session = small_desk, small_desk.window.session
    write_mesh(tmp_path / "twice.ply", twice(whole, 0.4))
    session.edit("another scan", lambda job: job.with_scan(session.files.adopt(tmp_path / "twice.ply")))
    d.wait()
    d.go(Key.ASSEMBLE)
    box = d.window.assemble.surface.layers
    for _ in range(2):
        d.click("Look for double layers")
    d.wait(lambda: box.found is not None)
    said = d.named("About double layers", QLabel)
    assert isinstance(said, QLabel) and said.text().startswith("Two layers over") and "0.40 mm apart" in said.text()
    stage = d.window.view.stage
    assert stage.has("gaps") and not stage.has("scan")
    d.click("Show the gap")
    assert stage.has("scan") and not stage.has("gaps")
    d.click("Show the gap")
    d.go(Key.ALIGN)
    assert not stage.has("gaps")
