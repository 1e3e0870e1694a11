"""From an Open CASCADE shape to arrays: triangles, parameters, surfaces and exact borders."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt

from juxtum.geometry.arrays import Floats, Ints, unit
from juxtum.nominal.surfaces import SplineTable, SurfaceRow, describe_surface


@dataclass(frozen=True)
class TessellationRule:
    """How finely the exact faces are cut into triangles; results do not depend on it."""

    chord: float
    angle: float = 0.2

    @classmethod
    def for_size(cls, diagonal: float) -> TessellationRule:
        """A rule that suits a part of this diagonal in mm."""
        return cls(chord=float(np.clip(diagonal / 12000, 1e-3, 0.5)))


@dataclass(frozen=True, eq=False)
class Tessellation:
    """Everything that the projection needs, as arrays.

    Parameters
    ----------
    nodes : array (N, 3)
        Node positions, separate for each face.
    parameters : array (N, 2)
        Surface parameters of each node.
    triangles : array (M, 3)
        Node indices, counter-clockwise seen from outside.
    triangle_faces : array (M,)
        Face of each triangle, from 0.
    tangents : dict
        Unit tangents of border edges, by (face, node).
    surfaces : tuple of SurfaceRow
        One for each face.
    splines : SplineTable
        Knots and poles of the free-form faces.
    rule : TessellationRule
    """

    nodes: Floats
    parameters: Floats
    triangles: Ints
    triangle_faces: Ints
    tangents: dict[tuple[int, int], list[Floats]]
    surfaces: tuple[SurfaceRow, ...]
    splines: SplineTable
    rule: TessellationRule
    face_areas: npt.NDArray[np.float64]


def tessellate(shape: Any, rule: TessellationRule) -> Tessellation:
    """Cut every face of a shape into triangles and note its exact surface and border tangents."""
    from OCP.BRepMesh import BRepMesh_IncrementalMesh
    from OCP.BRepTools import BRepTools

    BRepTools.Clean_s(shape)
    BRepMesh_IncrementalMesh(shape, rule.chord, False, rule.angle, True)
    collector = _Collector()
    for face in _faces(shape):
        collector.add(face)
    return collector.result(rule)


def bare_triangles(shape: Any, rule: TessellationRule) -> tuple[Floats, Ints, Ints]:
    """Nodes (N, 3), triangles (M, 3) and the face of each triangle (M,), without anything about surfaces."""
    from OCP.BRep import BRep_Tool
    from OCP.BRepMesh import BRepMesh_IncrementalMesh
    from OCP.BRepTools import BRepTools
    from OCP.TopLoc import TopLoc_Location

    BRepTools.Clean_s(shape)
    BRepMesh_IncrementalMesh(shape, rule.chord, False, rule.angle, True)
    nodes, triangles, faces, count, number = [], [], [], 0, 0
    for face in _faces(shape):
        location = TopLoc_Location()
        mesh = BRep_Tool.Triangulation_s(face, location)
        if mesh is None or mesh.NbTriangles() == 0:
            continue
        nodes.append(_nodes(mesh, location))
        triangles.append(_corners(face, mesh) + count)
        faces.append(np.full(len(triangles[-1]), number, dtype=np.int32))
        count += len(nodes[-1])
        number += 1
    return np.concatenate(nodes), np.concatenate(triangles), np.concatenate(faces)


def _corners(face: Any, mesh: Any) -> npt.NDArray[np.int32]:
    """Triangles of one face (M, 3), counter-clockwise seen from outside."""
    triangles = np.array([mesh.Triangle(i).Get() for i in range(1, mesh.NbTriangles() + 1)], dtype=np.int32) - 1
    return triangles[:, ::-1] if face.Orientation().name == "TopAbs_REVERSED" else triangles


def _faces(shape: Any) -> list[Any]:
    from OCP.collections import IndexedMap_TopoDS_Shape_TopTools_ShapeMapHasher as ShapeMap
    from OCP.TopAbs import TopAbs_ShapeEnum
    from OCP.TopExp import TopExp, TopExp_Explorer
    from OCP.TopoDS import TopoDS

    solids = TopExp_Explorer(shape, TopAbs_ShapeEnum.TopAbs_SOLID)
    found = ShapeMap()
    while solids.More():
        TopExp.MapShapes_s(solids.Current(), TopAbs_ShapeEnum.TopAbs_FACE, found)
        solids.Next()
    return [TopoDS.Face(found.FindKey(index)) for index in range(1, found.Size() + 1)]


class _Collector:
    def __init__(self) -> None:
        self.nodes: list[Floats] = []
        self.parameters: list[Floats] = []
        self.triangles: list[Ints] = []
        self.triangle_faces: list[Ints] = []
        self.tangents: dict[tuple[int, int], list[Floats]] = {}
        self.surfaces: list[SurfaceRow] = []
        self.areas: list[float] = []
        self.splines = SplineTable()
        self.count = 0

    def add(self, face: Any) -> None:
        from OCP.BRep import BRep_Tool
        from OCP.TopLoc import TopLoc_Location

        location = TopLoc_Location()
        mesh = BRep_Tool.Triangulation_s(face, location)
        if mesh is None or mesh.NbTriangles() == 0:
            return
        points = _nodes(mesh, location)
        uv = np.array([_pair(mesh.UVNode(i)) for i in range(1, mesh.NbNodes() + 1)])
        triangles = _corners(face, mesh)
        index = len(self.surfaces)
        row, uv = describe_surface(face, points, uv, triangles, self.splines)
        self.surfaces.append(row)
        self.areas.append(_area(face))
        self._note_tangents(face, mesh, location, index)
        self.nodes.append(points)
        self.parameters.append(uv)
        self.triangles.append(triangles + self.count)
        self.triangle_faces.append(np.full(len(triangles), index, dtype=np.int32))
        self.count += len(points)

    def _note_tangents(self, face: Any, mesh: Any, location: Any, index: int) -> None:
        from OCP.BRep import BRep_Tool
        from OCP.BRepAdaptor import BRepAdaptor_Curve
        from OCP.gp import gp_Pnt, gp_Vec
        from OCP.TopAbs import TopAbs_ShapeEnum
        from OCP.TopExp import TopExp_Explorer
        from OCP.TopoDS import TopoDS

        walk = TopExp_Explorer(face, TopAbs_ShapeEnum.TopAbs_EDGE)
        while walk.More():
            edge = TopoDS.Edge(walk.Current())
            walk.Next()
            polygon = BRep_Tool.PolygonOnTriangulation_s(edge, mesh, location)
            if polygon is None or not polygon.HasParameters() or BRep_Tool.Degenerated_s(edge):
                continue
            curve = BRepAdaptor_Curve(edge)
            for i in range(1, polygon.NbNodes() + 1):
                point, tangent = gp_Pnt(), gp_Vec()
                curve.D1(polygon.Parameter(i), point, tangent)
                node = polygon.Node(i) - 1 + self.count
                direction = unit(np.array([tangent.X(), tangent.Y(), tangent.Z()]))
                self.tangents.setdefault((index, node), []).append(direction)

    def result(self, rule: TessellationRule) -> Tessellation:
        return Tessellation(
            np.concatenate(self.nodes),
            np.concatenate(self.parameters),
            np.concatenate(self.triangles),
            np.concatenate(self.triangle_faces),
            self.tangents,
            tuple(self.surfaces),
            self.splines,
            rule,
            np.array(self.areas),
        )


def _pair(point: Any) -> tuple[float, float]:
    return point.X(), point.Y()


def _area(face: Any) -> float:
    from OCP.BRepGProp import BRepGProp
    from OCP.GProp import GProp_GProps

    properties = GProp_GProps()
    BRepGProp.SurfaceProperties_s(face, properties)
    return float(properties.Mass())


def exact_volume(shape: Any) -> float:
    """Volume of the solids in mm3, from the exact faces."""
    from OCP.BRepGProp import BRepGProp
    from OCP.GProp import GProp_GProps

    properties = GProp_GProps()
    BRepGProp.VolumeProperties_s(shape, properties)
    return float(properties.Mass())


def _nodes(mesh: Any, location: Any) -> Floats:
    transform = location.Transformation()
    moved = not location.IsIdentity()
    rows = []
    for i in range(1, mesh.NbNodes() + 1):
        point = mesh.Node(i)
        if moved:
            point = point.Transformed(transform)
        rows.append((point.X(), point.Y(), point.Z()))
    return np.array(rows)




def exact_bounds(shape: Any) -> list[list[float]]:
    """Lowest and highest corner in mm, from the exact faces."""
    from OCP.Bnd import Bnd_Box
    from OCP.BRepBndLib import BRepBndLib

    box = Bnd_Box()
    BRepBndLib.AddOptimal_s(shape, box, False, False)
    low, high = box.CornerMin(), box.CornerMax()
    return [[low.X(), low.Y(), low.Z()], [high.X(), high.Y(), high.Z()]]


def is_closed(shape: Any) -> bool:
    """Whether every shell of the shape's solids is closed."""
    from OCP.BRep import BRep_Tool
    from OCP.TopAbs import TopAbs_ShapeEnum
    from OCP.TopExp import TopExp_Explorer

    walk = TopExp_Explorer(shape, TopAbs_ShapeEnum.TopAbs_SHELL)
    closed = walk.More()
    while walk.More():
        closed = closed and bool(BRep_Tool.IsClosed_s(walk.Current()))
        walk.Next()
    return bool(closed)
