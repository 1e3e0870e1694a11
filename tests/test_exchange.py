"""Files in and out, against another library's writers and readers."""

from __future__ import annotations

import zipfile
from pathlib import Path

import numpy as np
import pytest
import trimesh

from helpers import box_mesh, bracket_mesh
from juxtum.demo.world import nominal_path
from juxtum.exchange.cad import read_cad, write_iges
from juxtum.exchange.mesh_writing import write_mesh
from juxtum.exchange.meshes import read_mesh, write_ply
from juxtum.geometry import PointCloud, TriangleMesh
from juxtum.geometry.topology import closure
from juxtum.job.inputs import load_nominal
from juxtum.nominal import FaceKind, Nominal
from juxtum.progress import silent
from juxtum.units import Unit

pytestmark = pytest.mark.quick

MODEL = (
    '<?xml version="1.0"?><model unit="inch" xmlns="http://schemas.microsoft.com/3dmanufacturing/core/2015/02"><resources>'
    '<object id="1" type="model"><mesh><vertices>{vertices}</vertices><triangles>{triangles}</triangles></mesh></object></resources>'
    '<build><item objectid="1" transform="1 0 0 0 1 0 0 0 1 10 0 0"/></build></model>'
)


def written(folder: Path, kind: str) -> Path:
    """The bracket as other programs write it."""
    mesh, path = bracket_mesh(), folder / f"part.{kind.split(maxsplit=1)[0]}"
    if kind == "stl text":
        path.write_text(trimesh.exchange.stl.export_stl_ascii(mesh))
    elif kind == "ply text":
        path.write_bytes(trimesh.exchange.ply.export_ply(mesh, encoding="ascii"))
    elif kind == "ply big":
        path.write_bytes(big_endian_ply(mesh))
    elif kind == "3mf":
        vertices = "".join(f'<vertex x="{x}" y="{y}" z="{z}"/>' for x, y, z in mesh.vertices)
        triangles = "".join(f'<triangle v1="{a}" v2="{b}" v3="{c}"/>' for a, b, c in mesh.faces)
        with zipfile.ZipFile(path, "w") as package:
            package.writestr("3D/3dmodel.model", MODEL.format(vertices=vertices, triangles=triangles))
    else:
        mesh.export(path)
    return path


def big_endian_ply(mesh: trimesh.Trimesh) -> bytes:
    head = (
        f"ply\nformat binary_big_endian 1.0\nelement vertex {len(mesh.vertices)}\nproperty double x\nproperty double y\nproperty double z\n"
        f"property uchar red\nelement face {len(mesh.faces)}\nproperty list uchar uint vertex_indices\nend_header\n"
    )
    vertices = np.zeros(len(mesh.vertices), dtype=[("p", ">f8", 3), ("red", "u1")])
    vertices["p"] = mesh.vertices
    faces = np.zeros(len(mesh.faces), dtype=[("n", "u1"), ("i", ">u4", 3)])
    faces["n"], faces["i"] = 3, mesh.faces
    return head.encode() + vertices.tobytes() + faces.tobytes()


@pytest.mark.parametrize("kind", ["stl", "stl text", "ply", "ply text", "ply big", "obj", "off", "3mf"])
def test_meshes_of_all_kinds(kind: str, tmp_path: Path) -> None:
    found, truth = read_mesh(written(tmp_path, kind)), bracket_mesh()
    assert isinstance(found.scan, TriangleMesh)
    assert len(found.scan.triangles) == len(truth.faces)
    assert found.scan.volume == pytest.approx(truth.volume, rel=1e-5)
    shift = [10, 0, 0] if kind == "3mf" else [0, 0, 0]
    assert found.scan.bounds == pytest.approx(truth.bounds + shift, abs=1e-5)
    assert found.unit is (Unit.INCH if kind == "3mf" else None)


@pytest.mark.parametrize(
    "row", ["{:.4f} {:.4f} {:.4f}", "{:.4f},{:.4f},{:.4f},255", "{:.4f}; {:.4f}; {:.4f}", "{:.4f}\t{:.4f}\t{:.4f}"]
)
def test_point_lists(row: str, tmp_path: Path) -> None:
    points = np.random.default_rng(2).uniform(-50, 50, (200, 3))
    (tmp_path / "a.xyz").write_text("# x y z\n" + "\n".join(row.format(*p) for p in points))
    found = read_mesh(tmp_path / "a.xyz").scan
    assert isinstance(found, PointCloud) and np.abs(found.points - points).max() < 1e-4


def test_written_ply_is_read_by_others(tmp_path: Path) -> None:
    mesh = bracket_mesh()
    ours = TriangleMesh(np.array(mesh.vertices), np.array(mesh.faces))
    write_ply(tmp_path / "a.ply", ours, {"deviation": ours.points[:, 0] * 0.01})
    theirs = trimesh.load(tmp_path / "a.ply", process=False)
    assert theirs.volume == pytest.approx(mesh.volume)
    kept = theirs.metadata["_ply_raw"]["vertex"]["data"]["deviation"]
    assert np.ravel(kept) == pytest.approx(mesh.vertices[:, 0] * 0.01)


def test_iges_keeps_exact_faces(tmp_path: Path, nominal: Nominal) -> None:
    write_iges(read_cad(nominal_path()).shape, tmp_path / "part.igs")
    found = load_nominal(tmp_path / "part.igs", None, silent())
    assert found.is_exact and len(found.faces) >= 60
    assert found.volume == pytest.approx(nominal.volume, rel=1e-6)


def test_inches_in_step_are_honoured(tmp_path: Path, nominal: Nominal) -> None:
    text = nominal_path().read_text()
    metric = "( LENGTH_UNIT() NAMED_UNIT(*) SI_UNIT(.MILLI.,.METRE.) )"
    assert metric in text
    path = tmp_path / "part.step"
    path.write_text(text.replace(metric, "( LENGTH_UNIT() NAMED_UNIT(*) SI_UNIT(.CENTI.,.METRE.) )"))
    found = load_nominal(path, None, silent())
    assert found.file_unit == "cm" and found.diagonal == pytest.approx(10 * nominal.diagonal, rel=1e-6)


def test_the_shipped_nominal_is_what_it_should_be(nominal: Nominal) -> None:
    kinds = {face.kind for face in nominal.faces}
    assert len(nominal.faces) >= 60 and FaceKind.FREE_FORM in kinds and FaceKind.TORUS in kinds
    assert np.ptp(nominal.mesh.bounds, axis=0) == pytest.approx([260, 180, 140], abs=0.01)
    assert nominal.volume > 0 and nominal_path().stat().st_size < 4_000_000


@pytest.mark.quick
@pytest.mark.parametrize("suffix", [".ply", ".obj"])
def test_loose_triangles_are_joined_where_they_meet(tmp_path: Path, suffix: str) -> None:
    """Each triangle with corners of its own is a surface all the same; three that meet nowhere stay as they are."""
    whole = box_mesh((40.0, 30.0, 20.0), 3)
    loose = TriangleMesh(whole.corners.reshape(-1, 3), np.arange(3 * len(whole.triangles)).reshape(-1, 3))
    write_mesh(tmp_path / f"loose{suffix}", loose)
    found = read_mesh(tmp_path / f"loose{suffix}")
    assert closure(found.scan).is_watertight and len(found.scan.points) == len(whole.points)  # type: ignore[arg-type]
    assert "each triangle had corners of its own" in found.problems[0]
    apart = TriangleMesh(loose.points[: 3 * 3] + np.repeat(np.eye(3) * 100, 3, axis=0), loose.triangles[:3])
    write_mesh(tmp_path / f"apart{suffix}", apart)
    assert len(read_mesh(tmp_path / f"apart{suffix}").scan.points) == 9
    # Points that no triangle uses make none of them loose.
    spare = TriangleMesh(
        np.concatenate([whole.points, np.random.default_rng(1).normal(0, 9, (900, 3))]), whole.triangles
    )
    write_mesh(tmp_path / f"spare{suffix}", spare)
    assert not read_mesh(tmp_path / f"spare{suffix}").problems
