"""How fast: deviations against other libraries in the same run, and the whole command."""

from __future__ import annotations

import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator

import igl
import numpy as np

from juxtum.demo.world import nominal_path, scan_path
from juxtum.exchange.cad import read_cad
from juxtum.exchange.meshes import read_mesh
from juxtum.geometry import TriangleMesh
from juxtum.nominal import Nominal

POINTS = 1_000_000


def seconds(work: Callable[[], object], times: int = 3) -> float:
    """The shortest of some runs."""
    best = float("inf")
    for _ in range(times):
        start = time.perf_counter()
        work()
        best = min(best, time.perf_counter() - start)
    return best


def rate(duration: float) -> str:
    """Thousands of points a second."""
    return f"{POINTS / duration / 1000:.0f} k/s"


def queries(mesh: TriangleMesh) -> np.ndarray:
    """A million places within a few tenths of a mm of a surface, in the order in which a scan would bring them."""
    rng = np.random.default_rng(0)
    rows = np.sort(rng.choice(len(mesh.triangles), POINTS, p=mesh.triangle_areas / mesh.area))
    places = np.einsum("ij,ijk->ik", rng.dirichlet(np.ones(3), POINTS), mesh.corners[rows])
    return places + rng.normal(0, 0.15, places.shape)


def nearest() -> Iterator[str]:
    """Deviation of a million points: exact faces, and a mesh of 200,000 triangles."""
    nominal = Nominal.from_shape(read_cad(nominal_path()).shape)
    points = queries(nominal.mesh)
    nominal.projector.project(points[:1000])
    ours = seconds(lambda: nominal.projector.project(points))
    theirs = seconds(lambda: igl.point_mesh_squared_distance(points, nominal.mesh.points, nominal.mesh.triangles))
    yield f"1 M points, exact faces of BC-220: {rate(ours)}; libigl on its tessellation {rate(theirs)}; ratio {theirs / ours:.2f}"
    scan = read_mesh(scan_path()).scan
    assert isinstance(scan, TriangleMesh)
    import fast_simplification

    p, t = fast_simplification.simplify(
        scan.points.astype(np.float32), np.array(scan.triangles, dtype=np.int32), target_count=200_000
    )
    mesh = Nominal.from_mesh(TriangleMesh(p.astype(float), t))
    points = queries(mesh.mesh)
    mesh.projector.project(points[:1000])
    ours = seconds(lambda: mesh.projector.project(points))
    theirs = seconds(lambda: igl.point_mesh_squared_distance(points, mesh.mesh.points, mesh.mesh.triangles))
    count = len(mesh.mesh.triangles)
    yield f"1 M points, mesh of {count} triangles: {rate(ours)}; libigl {rate(theirs)}; ratio {theirs / ours:.2f}"


def inspect() -> Iterator[str]:
    """`juxtum inspect` on the demo, as a whole process."""
    times = []
    for _ in range(5):
        with tempfile.TemporaryDirectory() as out:
            start = time.perf_counter()
            command = [sys.executable, "-m", "juxtum", "inspect", str(nominal_path()), str(scan_path()), "--out", out]
            subprocess.run(command, check=True, capture_output=True)
            times.append(time.perf_counter() - start)
    yield f"whole command with PDF: least {min(times):.1f} s, median {statistics.median(times):.1f} s, most {max(times):.1f} s of 5"


def perforated() -> Iterator[str]:
    """What 400 holes cost against none, in processor time: loading a plate, and the map of 400,000 points on it."""
    import trimesh

    from juxtum.evaluate import measure_deviation
    from juxtum.geometry import PointCloud, RigidTransform

    for holes in (0, 0, 10, 20):
        shape, start = _plate(holes), time.process_time()
        nominal = Nominal.from_shape(shape)
        loaded = time.process_time() - start
        flat = trimesh.Trimesh(nominal.mesh.points, nominal.mesh.triangles, process=False)
        places, rows = trimesh.sample.sample_surface(flat, 400_000, seed=1)
        normals = flat.face_normals[rows]
        noise = np.random.default_rng(1).normal(0, 0.02, (len(places), 1))
        start = time.process_time()
        measure_deviation(PointCloud(places + noise * normals, normals), nominal, RigidTransform.identity())
        yield f"{holes * holes} holes: loaded in {loaded:.2f} s, map in {time.process_time() - start:.2f} s"


def _plate(holes: int, size: float = 200.0) -> object:
    from OCP.BRep import BRep_Builder
    from OCP.BRepAlgoAPI import BRepAlgoAPI_Cut
    from OCP.BRepPrimAPI import BRepPrimAPI_MakeBox, BRepPrimAPI_MakeCylinder
    from OCP.gp import gp_Ax2, gp_Dir, gp_Pnt
    from OCP.TopoDS import TopoDS_Compound

    box = BRepPrimAPI_MakeBox(size, size, 5.0).Shape()
    if not holes:
        return box
    tools, builder, pitch = TopoDS_Compound(), BRep_Builder(), size / holes
    builder.MakeCompound(tools)
    for i in range(holes * holes):
        x, y = pitch * (i // holes + 0.5), pitch * (i % holes + 0.5)
        pin = BRepPrimAPI_MakeCylinder(gp_Ax2(gp_Pnt(x, y, -1), gp_Dir(0, 0, 1)), 0.3 * pitch, 7.0)
        builder.Add(tools, pin.Shape())
    return BRepAlgoAPI_Cut(box, tools).Shape()
