"""Models of CAD: whatever closes, whatever is loose, and whatever breaks the library."""

from __future__ import annotations

import json
import math
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from OCP.BRep import BRep_Builder
from OCP.BRepAlgoAPI import BRepAlgoAPI_Cut
from OCP.BRepBuilderAPI import (
    BRepBuilderAPI_MakeEdge,
    BRepBuilderAPI_MakeFace,
    BRepBuilderAPI_MakeWire,
    BRepBuilderAPI_NurbsConvert,
)
from OCP.BRepOffsetAPI import BRepOffsetAPI_ThruSections
from OCP.BRepPrimAPI import (
    BRepPrimAPI_MakeBox,
    BRepPrimAPI_MakeCone,
    BRepPrimAPI_MakeCylinder,
    BRepPrimAPI_MakePrism,
    BRepPrimAPI_MakeRevol,
    BRepPrimAPI_MakeSphere,
    BRepPrimAPI_MakeTorus,
)
from OCP.collections import HArray1_gp_Pnt
from OCP.GeomAPI import GeomAPI_Interpolate
from OCP.gp import gp_Ax1, gp_Dir, gp_Pnt, gp_Vec
from OCP.TopAbs import TopAbs_ShapeEnum
from OCP.TopExp import TopExp_Explorer
from OCP.TopoDS import TopoDS_Compound
from scipy.spatial import cKDTree

from juxtum.demo import solids
from juxtum.errors import Cancelled, InputError
from juxtum.exchange.cad import read_cad, write_iges, write_step
from juxtum.exchange.cad_process import CadLimits, read_cad_arrays
from juxtum.exchange.kept_models import model_arrays
from juxtum.exchange.shapes import cad_arrays
from juxtum.exchange.solid import CadArrays, TessellationRule
from juxtum.geometry import TriangleMesh
from juxtum.nominal import FaceKind, Nominal
from juxtum.nominal.tessellation import checked
from juxtum.progress import Progress

Shape = Any


def interpolated(points: list[tuple[float, float, float]], *, closed: bool) -> Shape:
    held = HArray1_gp_Pnt(1, len(points))
    for index, point in enumerate(points):
        held.SetValue(index + 1, gp_Pnt(*point))
    curve = GeomAPI_Interpolate(held, closed, 1e-6)
    curve.Perform()
    return BRepBuilderAPI_MakeEdge(curve.Curve()).Edge()


def ring(height: float, radius: float, lobes: float) -> Shape:
    """A closed periodic curve of three lobes, as a wire."""
    angles = [2 * math.pi * i / 24 for i in range(24)]
    reach = [radius * (1 + lobes * math.cos(3 * a)) for a in angles]
    points = [(r * math.cos(a), r * math.sin(a), height) for r, a in zip(reach, angles, strict=True)]
    return BRepBuilderAPI_MakeWire(interpolated(points, closed=True)).Wire()


def lofted() -> Shape:
    through = BRepOffsetAPI_ThruSections(True, False)
    for height, radius, lobes in ((0.0, 20.0, 0.0), (20.0, 15.0, 0.1), (45.0, 22.0, 0.2)):
        through.AddWire(ring(height, radius, lobes))
    through.Build()
    return through.Shape()


def extruded() -> Shape:
    return BRepPrimAPI_MakePrism(BRepBuilderAPI_MakeFace(ring(0.0, 20.0, 0.2)).Face(), gp_Vec(0, 0, 30)).Shape()


def knob() -> Shape:
    profile = interpolated([(0, 0, 30), (8, 0, 28), (14, 0, 20), (9, 0, 10), (12, 0, 0)], closed=False)
    foot = BRepBuilderAPI_MakeEdge(gp_Pnt(12, 0, 0), gp_Pnt(0, 0, 0)).Edge()
    axis = BRepBuilderAPI_MakeEdge(gp_Pnt(0, 0, 0), gp_Pnt(0, 0, 30)).Edge()
    face = BRepBuilderAPI_MakeFace(BRepBuilderAPI_MakeWire(profile, foot, axis).Wire()).Face()
    return BRepPrimAPI_MakeRevol(face, gp_Ax1(gp_Pnt(0, 0, 0), gp_Dir(0, 0, 1))).Shape()


def free(shape: Shape) -> Shape:
    return BRepBuilderAPI_NurbsConvert(shape).Shape()


def plate() -> Shape:
    return BRepAlgoAPI_Cut(
        BRepPrimAPI_MakeBox(60.0, 40.0, 8.0).Shape(), BRepPrimAPI_MakeCylinder(7.0, 20.0).Shape()
    ).Shape()


CLOSED: dict[str, tuple[Callable[[], Shape], float | None]] = {
    "lofted tube": (lofted, None),
    "closed extrusion": (extruded, None),
    "turned knob": (knob, None),
    "sphere of splines": (lambda: free(BRepPrimAPI_MakeSphere(15.0).Shape()), 4 / 3 * math.pi * 15**3),
    "cone of splines": (lambda: free(BRepPrimAPI_MakeCone(10, 0, 20).Shape()), math.pi * 100 * 20 / 3),
    "torus of splines": (lambda: free(BRepPrimAPI_MakeTorus(20, 5).Shape()), 2 * math.pi**2 * 20 * 25),
    "drilled plate of splines": (lambda: free(plate()), 60 * 40 * 8 - math.pi * 49 * 8 / 4),
    "cone on its tip": (lambda: BRepPrimAPI_MakeCone(0, 10, 20).Shape(), math.pi * 100 * 20 / 3),
}
KNOB_TIP = 1e-2
"""At the tip of the knob an offset of 0.3 mm comes nearer to the other side."""


@pytest.mark.parametrize("kind", ["step", "igs"])
@pytest.mark.parametrize("name", CLOSED)
def test_closed_faces_are_measured_as_they_are(name: str, kind: str, tmp_path: Path) -> None:
    """Offsets along the normal come back; area and volume are the analytic ones; nothing is lost."""
    make, volume = CLOSED[name]
    path = tmp_path / f"part.{kind}"
    (write_step if kind == "step" else write_iges)(make(), path)
    model = read_cad(path)
    nominal = Nominal.from_arrays(cad_arrays(model.shape, model.file_unit, TessellationRule(0.02)))
    assert nominal.problems == ()
    assert nominal.volume > 0
    if volume is not None:
        assert nominal.volume == pytest.approx(volume, rel=1e-6)
    there = nominal.projector.project(nominal.samples.centres[::5])
    assert there.found.all()
    inside = ~there.on_border & (nominal.edge_distances(there.feet, 1.0) >= 0.7)
    for offset in (0.3, -0.3):
        back = nominal.projector.project(there.feet[inside] + offset * there.normals[inside], there.normals[inside])
        off = np.abs(back.distances - offset)
        # Close to a tip a point lies beyond the other side, and nothing there faces its way.
        assert np.isnan(off).mean() < 0.005
        assert np.nanquantile(off, 0.98) < 1e-9
        assert np.nanmax(off) < KNOB_TIP


def test_face_whose_surface_is_elsewhere_is_named(monkeypatch: pytest.MonkeyPatch) -> None:
    """A guard for all faces: the nodes of the triangles lie on the surface, or the face is left out by name."""
    from dataclasses import replace

    arrays = cad_arrays(BRepPrimAPI_MakeCylinder(10.0, 30.0).Shape())
    numbers = arrays.numbers.copy()
    numbers[np.flatnonzero(arrays.kinds == 1), 6] += 2e-4
    found = checked(replace(arrays, numbers=numbers))
    assert len(found.arrays.kinds) == 2
    assert (
        "a cylinder face of 1885 mm2 cannot be used and is left out: its surface is 0.0002 mm off" in found.problems[0]
    )
    left = Nominal.from_arrays(replace(arrays, numbers=numbers))
    assert {face.kind for face in left.faces} == {FaceKind.PLANE}
    assert not math.isfinite(left.volume)


def compound(*shapes: Shape) -> Shape:
    builder, result = BRep_Builder(), TopoDS_Compound()
    builder.MakeCompound(result)
    for shape in shapes:
        builder.Add(result, shape)
    return result


def first_face(shape: Shape) -> Shape:
    return TopExp_Explorer(shape, TopAbs_ShapeEnum.TopAbs_FACE).Current()


def test_two_bodies_both_count(tmp_path: Path) -> None:
    far = BRepPrimAPI_MakeBox(gp_Pnt(100, 0, 0), gp_Pnt(110, 20, 9)).Shape()
    path = tmp_path / "two.igs"
    write_iges(compound(BRepPrimAPI_MakeBox(40.0, 30.0, 20.0).Shape(), far), path)
    arrays = read_cad_arrays(path)
    assert (arrays.solids, len(arrays.kinds)) == (2, 12)
    assert arrays.volume == pytest.approx(24000 + 1800)


def test_loose_and_open_faces_are_told(tmp_path: Path) -> None:
    loose = BRepBuilderAPI_MakeFace(ring(60.0, 20.0, 0.0)).Face()
    path = tmp_path / "sheet.step"
    write_step(compound(BRepPrimAPI_MakeBox(40.0, 30.0, 20.0).Shape(), loose), path)
    arrays = read_cad_arrays(path)
    assert len(arrays.kinds) == 6
    assert arrays.problems == (f"1 face ({math.pi * 400:.4g} mm2) outside the solid left out",)
    write_step(first_face(BRepPrimAPI_MakeBox(40.0, 30.0, 20.0).Shape()), path)
    sheet = read_cad_arrays(path)
    assert (sheet.solids, len(sheet.kinds), sheet.is_closed) == (0, 1, False)
    assert "an open surface, not a solid" in sheet.problems[0]


def test_library_that_takes_too_long_or_too_much_is_ended(tmp_path: Path) -> None:
    path = tmp_path / "part.step"
    write_step(plate(), path)
    with pytest.raises(InputError, match="was not done with this file after 0 s"):
        read_cad_arrays(path, limits=CadLimits(seconds=0.2, seconds_per_megabyte=0.0))
    with pytest.raises(InputError, match=r"broke down|needs more memory|is damaged"):
        read_cad_arrays(path, limits=CadLimits(memory=400 * 1024**2))
    stopped = Progress()
    stopped.cancel()
    with pytest.raises(Cancelled):
        read_cad_arrays(path, stopped)


def test_process_that_crashes_is_a_sentence(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Whatever the library does to its own process, the application hears an exit code."""
    import juxtum.exchange.cad_process as process

    path = tmp_path / "part.step"
    write_step(plate(), path)
    broken = tmp_path / "broken"
    broken.write_text("#!/bin/sh\nkill -SEGV $$\n")
    broken.chmod(0o755)
    monkeypatch.setattr(process.sys, "executable", str(broken))
    with pytest.raises(InputError, match=r"the CAD library broke down on this file \(SIGSEGV\)"):
        read_cad_arrays(path)


def test_mesh_with_a_round_hole_is_a_nominal() -> None:
    """The faces of a mesh are found by bends, so a face may close on itself."""
    arrays = cad_arrays(plate())
    from juxtum.geometry.topology import weld

    points, triangles = weld(arrays.coarse_nodes[arrays.coarse_triangles].reshape(-1, 3))
    nominal = Nominal.from_mesh(TriangleMesh(points, triangles))
    assert sorted(str(face.kind) for face in nominal.faces).count("plane") == 6
    tube = cad_arrays(BRepPrimAPI_MakeCylinder(10.0, 30.0).Shape())
    points, triangles = weld(tube.coarse_nodes[tube.coarse_triangles].reshape(-1, 3))
    assert len(Nominal.from_mesh(TriangleMesh(points, triangles)).faces) == 3


FUZZ = """
import json, pathlib, sys
from benchmarks.fuzz import faults
found, ends = faults(pathlib.Path(sys.argv[1]), 500, seed=4, cad_share=0.08)
print(json.dumps([[str(fault) for fault in found], ends]))
"""


def test_damaged_files_end_as_an_answer_or_a_sentence(tmp_path: Path) -> None:
    """In a process of its own, since forking a small one for each CAD file is quick."""
    told = subprocess.run(
        [sys.executable, "-c", FUZZ, tmp_path],
        cwd=Path(__file__).parents[1],
        stdout=subprocess.PIPE,
        text=True,
        check=True,
    )
    found, ends = json.loads(told.stdout.splitlines()[-1])
    assert found == [] and ends["sentence"] > 100 and ends["answer"] > 20


def test_rims_of_free_form_faces_do_not_depend_on_the_triangles() -> None:
    """The border of a closed extrusion against its exact curve, for coarse triangles: within a ten-thousandth of a millimetre."""
    from OCP.BRepAdaptor import BRepAdaptor_Curve
    from OCP.TopoDS import TopoDS

    shape = extruded()
    nominal = Nominal.from_shape(shape, rule=TessellationRule(0.03))
    walk, worst = TopExp_Explorer(shape, TopAbs_ShapeEnum.TopAbs_EDGE), 0.0
    while walk.More():
        curve = BRepAdaptor_Curve(TopoDS.Edge(walk.Current()))
        walk.Next()
        if curve.GetType().name == "GeomAbs_Line":
            continue
        places = [curve.Value(t) for t in np.linspace(curve.FirstParameter(), curve.LastParameter(), 500)]
        # From outside and above the rim its border is the nearest.
        points = np.array([[p.X() * 1.02, p.Y() * 1.02, p.Z() + (0.5 if p.Z() > 1 else -0.5)] for p in places])
        found = nominal.projector.project(points)
        steps = [curve.Value(t) for t in np.linspace(curve.FirstParameter(), curve.LastParameter(), 20_000)]
        exact = np.array([[p.X(), p.Y(), p.Z()] for p in steps])
        _, near = cKDTree(exact).query(found.feet)
        inner = np.clip(near, 1, len(exact) - 2)
        chord = exact[inner + 1] - exact[inner - 1]
        across = np.cross(found.feet - exact[inner], chord / np.linalg.norm(chord, axis=1)[:, None])
        worst = max(worst, float(np.linalg.norm(across[(near > 1) & (near < len(exact) - 2)], axis=1).max()))
    assert worst < 1e-4


def test_a_model_is_read_once(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Kept arrays are those of the file; a kept file that was damaged, or another content, is read anew."""
    from juxtum.exchange import kept_models

    monkeypatch.setenv("JUXTUM_CACHE", str(tmp_path / "cache"))
    path = tmp_path / "box.step"
    write_step(solids.box((0, 0, 0), (30, 20, 10)), path)
    reads: list[Path] = []

    def counted(path: Path, progress: Progress | None = None) -> CadArrays:
        reads.append(path)
        return read_cad_arrays(path, progress)

    monkeypatch.setattr(kept_models, "read_cad_arrays", counted)
    first, second = model_arrays(path), model_arrays(path)
    assert len(reads) == 1 and np.array_equal(first.nodes, second.nodes) and second.rule == first.rule
    (kept,) = (tmp_path / "cache" / "models").iterdir()
    for damaged in (b"", b"PK\x03\x04 not an archive", kept.read_bytes()[:-200]):
        kept.write_bytes(damaged)
        assert np.array_equal(model_arrays(path).triangles, first.triangles)
    assert len(reads) == 4
    write_step(solids.box((0, 0, 0), (31, 20, 10)), path)
    assert model_arrays(path).volume == pytest.approx(6200) and len(reads) == 5
    monkeypatch.setenv("JUXTUM_SHELF", "off")
    model_arrays(path)
    assert len(reads) == 6


def test_a_file_that_changes_while_it_is_read_is_not_kept(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Otherwise the older content would be given the newer one's geometry for good."""
    from juxtum.exchange import kept_models

    monkeypatch.setenv("JUXTUM_CACHE", str(tmp_path / "cache"))
    path = tmp_path / "box.step"
    write_step(solids.box((0, 0, 0), (30, 20, 10)), path)
    older = path.read_bytes()

    def written_meanwhile(path: Path, progress: Progress | None = None) -> CadArrays:
        write_step(solids.box((0, 0, 0), (60, 20, 10)), path)
        return read_cad_arrays(path, progress)

    monkeypatch.setattr(kept_models, "read_cad_arrays", written_meanwhile)
    model_arrays(path)
    monkeypatch.setattr(kept_models, "read_cad_arrays", read_cad_arrays)
    path.write_bytes(older)
    assert model_arrays(path).volume == pytest.approx(6000)
