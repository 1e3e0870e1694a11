"""The way onto exact, trimmed faces, against closed forms and the CAD library's own general search."""

from __future__ import annotations

import numpy as np
import pytest
import trimesh
from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeVertex
from OCP.BRepExtrema import BRepExtrema_DistShapeShape
from OCP.BRepPrimAPI import (
    BRepPrimAPI_MakeBox,
    BRepPrimAPI_MakeCone,
    BRepPrimAPI_MakeCylinder,
    BRepPrimAPI_MakeSphere,
    BRepPrimAPI_MakeTorus,
)
from OCP.gp import gp_Pnt

from helpers import box_mesh
from juxtum.demo.world import nominal_path
from juxtum.exchange.cad import read_cad
from juxtum.nominal import FaceKind, Nominal
from juxtum.nominal.model import sample_surface

pytestmark = pytest.mark.quick

RNG = np.random.default_rng(6)


def ball(points: np.ndarray) -> np.ndarray:
    return np.linalg.norm(points, axis=1) - 20


def can(points: np.ndarray) -> np.ndarray:
    """A cylinder of radius 15 from z = 0 to 40."""
    r, z = np.hypot(points[:, 0], points[:, 1]) - 15, np.abs(points[:, 2] - 20) - 20
    outside = np.hypot(np.maximum(r, 0), np.maximum(z, 0))
    return np.where((r > 0) | (z > 0), outside, np.maximum(r, z))


def ring(points: np.ndarray) -> np.ndarray:
    return np.hypot(np.hypot(points[:, 0], points[:, 1]) - 30, points[:, 2]) - 8


def cone(points: np.ndarray) -> np.ndarray:
    """A full cone of radius 12 at z = 0 and its tip at z = 24, as the distance to its outline in the half plane."""
    r, z = np.hypot(points[:, 0], points[:, 1]), points[:, 2]
    outline = [((0.0, 0.0), (12.0, 0.0)), ((12.0, 0.0), (0.0, 24.0))]
    nearest = np.full(len(points), np.inf)
    for (r0, z0), (r1, z1) in outline:
        s = np.clip(((r - r0) * (r1 - r0) + (z - z0) * (z1 - z0)) / ((r1 - r0) ** 2 + (z1 - z0) ** 2), 0, 1)
        nearest = np.minimum(nearest, np.hypot(r - r0 - s * (r1 - r0), z - z0 - s * (z1 - z0)))
    inside = (z > 0) & (r < 12 * (1 - z / 24))
    return np.where(inside, -nearest, nearest)


SOLIDS = {
    "ball": (lambda: BRepPrimAPI_MakeSphere(20.0).Shape(), ball, FaceKind.SPHERE),
    "can": (lambda: BRepPrimAPI_MakeCylinder(15.0, 40.0).Shape(), can, FaceKind.CYLINDER),
    "ring": (lambda: BRepPrimAPI_MakeTorus(30.0, 8.0).Shape(), ring, FaceKind.TORUS),
    "cone": (lambda: BRepPrimAPI_MakeCone(12.0, 0.0, 24.0).Shape(), cone, FaceKind.CONE),
}


@pytest.mark.parametrize("name", SOLIDS)
def test_distances_equal_the_closed_form(name: str) -> None:
    make, distance, kind = SOLIDS[name]
    nominal = Nominal.from_shape(make())
    assert kind in {face.kind for face in nominal.faces}
    points = RNG.uniform(-45, 45, (4000, 3))
    expected = distance(points)
    points, expected = points[np.abs(expected) < 12], expected[np.abs(expected) < 12]
    found = nominal.projector.project(points).distances
    # Far inside, where several faces are almost as near, the wrong one may seed the search; scans are never there.
    near = np.abs(expected) < 3
    assert np.abs(found - expected)[near].max() < 1e-6
    assert np.quantile(np.abs(found - expected), 0.97) < 1e-5


def test_distances_on_the_demo_part_equal_the_general_search(nominal: Nominal) -> None:
    shape = read_cad(nominal_path()).shape
    centres = nominal.samples.centres
    chosen = RNG.choice(len(centres), 250, replace=False)
    points = centres[chosen] + RNG.normal(0, 0.4, (250, 3))
    found = np.abs(nominal.projector.project(points).distances)
    for point, distance in zip(points, found, strict=True):
        vertex = BRepBuilderAPI_MakeVertex(gp_Pnt(*point)).Vertex()
        reference = shell_distance(shape, vertex)
        assert distance == pytest.approx(reference, abs=2e-6)


def shell_distance(shape: object, vertex: object) -> float:
    """Distance to the surface, also from inside of the solid."""
    from OCP.TopAbs import TopAbs_ShapeEnum
    from OCP.TopExp import TopExp_Explorer

    shell = TopExp_Explorer(shape, TopAbs_ShapeEnum.TopAbs_SHELL).Current()
    return float(BRepExtrema_DistShapeShape(shell, vertex).Value())


def test_faces_border_where_they_should() -> None:
    nominal = Nominal.from_shape(BRepPrimAPI_MakeBox(40.0, 30.0, 20.0).Shape())
    assert len(nominal.faces) == 6 and nominal.area == pytest.approx(5200)
    beyond = nominal.projector.project(np.array([[45.0, 15, 24], [20, 15, 21], [42, 33, 26]]))
    assert beyond.distances == pytest.approx([np.hypot(5, 4), 1, np.sqrt(4 + 9 + 36)])
    assert beyond.on_border.tolist() == [True, False, True]
    assert nominal.edge_distances(np.array([[20.0, 15, 20], [38, 15, 20]]), 10.0) == pytest.approx([10, 2], abs=0.02)


def test_direction_chooses_the_side_of_a_thin_plate() -> None:
    plate = Nominal.from_shape(BRepPrimAPI_MakeBox(50.0, 50.0, 1.0).Shape())
    point, up = np.array([[25.0, 25, 0.3]]), np.array([[0.0, 0, 1]])
    assert plate.projector.project(point).distances[0] == pytest.approx(-0.3)
    assert plate.projector.project(point, up).distances[0] == pytest.approx(-0.7)
    assert np.isnan(plate.projector.project(point, up, limit=0.5).distances[0])


def test_samples_cover_the_area_evenly(nominal: Nominal) -> None:
    samples = nominal.samples
    assert samples.mesh.area == pytest.approx(nominal.area, rel=2e-3)
    edges = np.linalg.norm(samples.mesh.corners - np.roll(samples.mesh.corners, 1, axis=1), axis=2)
    assert edges.max() <= samples.size + 1e-9
    split = sample_surface(box_mesh(), np.zeros(12, dtype=np.int32), 4.0)
    assert split.mesh.area == pytest.approx(5200)


def test_mesh_nominal_has_faces_between_its_sharp_edges() -> None:
    nominal = Nominal.from_mesh(box_mesh(cuts=2))
    assert len(nominal.faces) == 6 and all(face.kind is FaceKind.PLANE for face in nominal.faces)
    assert nominal.volume == pytest.approx(24000) and not nominal.problems


def test_points_deep_beside_a_fillet_keep_their_side() -> None:
    """From beyond its axis a fillet is nearest at its back, which is no part of it: neither place nor side may come from there."""
    from OCP.BRepFilletAPI import BRepFilletAPI_MakeFillet
    from OCP.TopAbs import TopAbs_ShapeEnum
    from OCP.TopExp import TopExp_Explorer
    from OCP.TopoDS import TopoDS

    block = BRepPrimAPI_MakeBox(60.0, 40.0, 20.0).Shape()
    walk = TopExp_Explorer(block, TopAbs_ShapeEnum.TopAbs_EDGE)
    rounding = BRepFilletAPI_MakeFillet(block)
    while walk.More():
        rounding.Add(1.5, TopoDS.Edge(walk.Current()))
        walk.Next()
    nominal = Nominal.from_shape(rounding.Shape())
    rng = np.random.default_rng(4)
    points = rng.uniform([-5, -5, -5], [65, 45, 25], (60_000, 3))
    inside = trimesh.Trimesh(nominal.mesh.points, nominal.mesh.triangles, process=False).ray.contains_points(points)
    found = nominal.projector.project(points)
    near = nominal.mesh.tree.query(points).distances
    assert found.found.all()
    assert np.abs(np.abs(found.distances) - near).max() < 4 * nominal.projector._t.rule.chord
    sure = near > 0.02
    assert ((found.distances < 0) == inside)[sure].all()
