"""From an Open CASCADE shape to arrays: triangles, parameters, surfaces and exact borders."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np
import numpy.typing as npt

from juxtum.errors import InputError
from juxtum.exchange.cad import count_of
from juxtum.exchange.model_line import FaceMark
from juxtum.exchange.solid import KIND_NAMES, CadArrays, TessellationRule
from juxtum.exchange.surfaces import SplineTable, SurfaceRow, describe_surface
from juxtum.geometry.arrays import Bools, Floats, Ints, unit

OPEN = "the model is an open surface, not a solid; its outer side is the one that the file names"
EXACT = 1e-8
"""Relative error of areas and volumes; without one the library is off by half a per cent on free-form faces."""
PERFORATED = 40
"""A face with more outlines and holes is cut by the mesher's other method, which takes a sixth of the time there."""
COVERED = 0.97
"""Triangles that hold less of a face's exact area than this have lost a part of it."""


def cad_arrays(
    shape: Any, file_unit: str = "mm", rule: TessellationRule | None = None, marks: tuple[FaceMark, ...] = ()
) -> CadArrays:
    """Cut every face of a shape into triangles and note its exact surface and border tangents.

    Parameters
    ----------
    marks : tuple of FaceMark
        Of all faces, where the file has some.

    Raises
    ------
    InputError
        When no face of the shape can be used.
    """
    from OCP.TopAbs import TopAbs_ShapeEnum

    faces, loose = faces_of(shape)
    bounds = exact_bounds(shape)
    diagonal = _roomy_diagonal(shape)
    coarse = _coarse(shape, faces, TessellationRule(chord=diagonal / 1500, angle=0.6))
    rule = rule or TessellationRule.for_size(diagonal)
    _cut(shape, rule)
    collector = _Collector(rule)
    for number, face in enumerate(faces):
        collector.add(number, face)
    problems = [*collector.problems]
    if loose:
        area = sum(exact_area(face) for face in loose)
        problems.append(
            f"{len(loose)} {'face' if len(loose) == 1 else 'faces'} ({area:.4g} mm2) outside the solid left out"
        )
    closed, solids = is_closed(shape), count_of(shape, TopAbs_ShapeEnum.TopAbs_SOLID)
    if not closed:
        problems.append("the solid is not closed" if solids else OPEN)
    volume = exact_volume(shape) if closed else float("nan")
    made = collector.result(coarse, (bounds, diagonal), volume, (solids, file_unit, tuple(problems)))
    return replace(made, marks=tuple(marks[position] for position in collector.positions)) if marks else made


def faces_of(shape: Any) -> tuple[list[Any], list[Any]]:
    """Faces of the solids and, where there are solids, the faces that belong to none."""
    from OCP.collections import IndexedMap_TopoDS_Shape_TopTools_ShapeMapHasher as ShapeMap
    from OCP.TopAbs import TopAbs_ShapeEnum
    from OCP.TopExp import TopExp, TopExp_Explorer
    from OCP.TopoDS import TopoDS

    solids = TopExp_Explorer(shape, TopAbs_ShapeEnum.TopAbs_SOLID)
    found, everything = ShapeMap(), ShapeMap()
    while solids.More():
        TopExp.MapShapes_s(solids.Current(), TopAbs_ShapeEnum.TopAbs_FACE, found)
        solids.Next()
    TopExp.MapShapes_s(shape, TopAbs_ShapeEnum.TopAbs_FACE, everything)
    whole = [everything.FindKey(index) for index in range(1, everything.Size() + 1)]
    if found.Size() == 0:
        return [TopoDS.Face(face) for face in whole], []
    loose = [TopoDS.Face(face) for face in whole if not found.Contains(face)]
    return [TopoDS.Face(found.FindKey(index)) for index in range(1, found.Size() + 1)], loose


def _cut(shape: Any, rule: TessellationRule) -> None:
    from OCP.BRepMesh import BRepMesh_IncrementalMesh
    from OCP.BRepTools import BRepTools
    from OCP.IMeshTools import IMeshTools_MeshAlgoType, IMeshTools_Parameters

    BRepTools.Clean_s(shape)
    given = IMeshTools_Parameters()
    given.Deflection, given.Angle, given.InParallel = rule.chord, rule.angle, True
    if _most_wires(shape) > PERFORATED:
        given.MeshAlgo = IMeshTools_MeshAlgoType.IMeshTools_MeshAlgoType_Delabella
    BRepMesh_IncrementalMesh(shape, given)


def _most_wires(shape: Any) -> int:
    """Outlines and holes of the face that has most of them."""
    from OCP.collections import IndexedMap_TopoDS_Shape_TopTools_ShapeMapHasher as ShapeMap
    from OCP.TopAbs import TopAbs_ShapeEnum
    from OCP.TopExp import TopExp

    most, faces = 0, ShapeMap()
    TopExp.MapShapes_s(shape, TopAbs_ShapeEnum.TopAbs_FACE, faces)
    for index in range(1, faces.Size() + 1):
        wires = ShapeMap()
        TopExp.MapShapes_s(faces.FindKey(index), TopAbs_ShapeEnum.TopAbs_WIRE, wires)
        most = max(most, wires.Size())
    return most


def _coarse(shape: Any, faces: list[Any], rule: TessellationRule) -> tuple[Floats, Ints, Ints]:
    """Nodes (N, 3), triangles (M, 3) and the face of each triangle (M,), without anything about surfaces."""
    _cut(shape, rule)
    nodes, triangles, owners, count = [np.empty((0, 3))], [np.empty((0, 3), np.int32)], [np.empty(0, np.int32)], 0
    for number, face in enumerate(faces):
        cut = _triangulation(face)
        if cut is None:
            continue
        mesh, location = cut
        nodes.append(_nodes(mesh, location))
        triangles.append(_corners(face, mesh) + count)
        owners.append(np.full(len(triangles[-1]), number, dtype=np.int32))
        count += len(nodes[-1])
    return np.concatenate(nodes), np.concatenate(triangles), np.concatenate(owners)


def _mended(face: Any, rule: TessellationRule) -> Any:
    """A face that the mesher left out, with its wires repaired and cut once more."""
    from OCP.ShapeFix import ShapeFix_Face

    repair = ShapeFix_Face(face)
    repair.Perform()
    repair.FixOrientation()
    result = repair.Face()
    _cut(result, rule)
    return result


def _triangulation(face: Any) -> tuple[Any, Any] | None:
    from OCP.BRep import BRep_Tool
    from OCP.TopLoc import TopLoc_Location

    location = TopLoc_Location()
    mesh = BRep_Tool.Triangulation_s(face, location)
    return None if mesh is None or mesh.NbTriangles() == 0 else (mesh, location)


def _corners(face: Any, mesh: Any) -> npt.NDArray[np.int32]:
    """Triangles of one face (M, 3), counter-clockwise seen from outside."""
    triangles = np.array([mesh.Triangle(i).Get() for i in range(1, mesh.NbTriangles() + 1)], dtype=np.int32) - 1
    return triangles[:, ::-1] if face.Orientation().name == "TopAbs_REVERSED" else triangles


class _Collector:
    def __init__(self, rule: TessellationRule) -> None:
        self.rule = rule
        self.nodes: list[Floats] = []
        self.parameters: list[Floats] = []
        self.triangles: list[Ints] = []
        self.triangle_faces: list[Ints] = []
        self.tangent_owners: list[tuple[int, int]] = []
        self.tangents: list[Floats] = []
        self.bend_owners: list[tuple[int, int]] = []
        self.bends: list[Floats] = []
        self.surfaces: list[SurfaceRow] = []
        self.areas: list[float] = []
        self.problems: list[str] = []
        self.positions: list[int] = []
        self.splines = SplineTable()
        self.count = 0

    def add(self, number: int, face: Any) -> None:
        cut = _triangulation(face)
        if cut is None:
            face = _mended(face, self.rule)
            cut = _triangulation(face)
        if cut is None:
            self._note_lost(face)
            return
        mesh, location = cut
        points = _nodes(mesh, location)
        uv = np.array([_pair(mesh.UVNode(i)) for i in range(1, mesh.NbNodes() + 1)])
        triangles = _corners(face, mesh)
        index = len(self.surfaces)
        row, uv = describe_surface(face, points, uv, self.splines)
        self.surfaces.append(row)
        self.positions.append(number)
        self.areas.append(exact_area(face))
        self._note_cover(index, points[triangles], row)
        self._note_tangents(face, mesh, location, index)
        self.nodes.append(points)
        self.parameters.append(uv)
        self.triangles.append(triangles + self.count)
        self.triangle_faces.append(np.full(len(triangles), index, dtype=np.int32))
        self.count += len(points)

    def _note_lost(self, face: Any) -> None:
        from OCP.BRepAdaptor import BRepAdaptor_Surface

        kind = BRepAdaptor_Surface(face).GetType().name.removeprefix("GeomAbs_").lower()
        self.problems.append(
            f"a {kind} face of {exact_area(face):.4g} mm2 cannot be cut into triangles and is left out"
        )

    def _note_cover(self, index: int, corners: Floats, row: SurfaceRow) -> None:
        crosses = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
        share = float(np.linalg.norm(crosses, axis=1).sum()) / 2 / max(self.areas[index], 1e-12)
        if share < COVERED and self.areas[index] > 100 * self.rule.chord**2:
            name = f"face {index + 1}, {KIND_NAMES[row.kind]}"
            self.problems.append(f"{name}: its triangles hold {100 * share:.0f} % of its area; the rest is left out")

    def _note_tangents(self, face: Any, mesh: Any, location: Any, index: int) -> None:
        from OCP.BRep import BRep_Tool
        from OCP.BRepAdaptor import BRepAdaptor_Curve
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
            nodes = [polygon.Node(i) - 1 + self.count for i in range(1, polygon.NbNodes() + 1)]
            parameters = [polygon.Parameter(i) for i in range(1, polygon.NbNodes() + 1)]
            directions = _on_curve(curve, parameters)[:, 1]
            known: Bools = np.any(directions != 0, axis=1)
            self.tangent_owners += [(index, node) for node, has in zip(nodes, known, strict=True) if has]
            self.tangents += list(directions[known])
            if curve.GetType().name not in ("GeomAbs_Line", "GeomAbs_Circle"):
                for a, b, first, last in zip(nodes, nodes[1:], parameters, parameters[1:], strict=False):
                    self.bend_owners.append((a, b))
                    self.bends.append(_on_curve(curve, [first + share * (last - first) for share in (0.25, 0.5, 0.75)]))

    def _with_all_faces(self, coarse: tuple[Floats, Ints, Ints]) -> tuple[Floats, Ints, Ints]:
        """Coarse triangles with the numbers of the faces that are used; fine ones stand in where there are none."""
        nodes, triangles, positions = coarse
        lookup = np.full(max(int(positions.max(initial=-1)), *self.positions) + 1, -1, dtype=np.int32)
        lookup[self.positions] = np.arange(len(self.positions), dtype=np.int32)
        owners = lookup[positions]
        missing = np.setdiff1d(np.arange(len(self.positions)), owners)
        triangles, owners = triangles[owners >= 0], owners[owners >= 0]
        fine, fine_owners = np.concatenate(self.triangles), np.concatenate(self.triangle_faces)
        stand_in = np.isin(fine_owners, missing)
        together = np.concatenate([triangles, fine[stand_in] + len(nodes)])
        return np.concatenate([nodes, *self.nodes]), together, np.concatenate([owners, fine_owners[stand_in]])

    def result(
        self,
        coarse: tuple[Floats, Ints, Ints],
        bounds: tuple[Floats, float],
        volume: float,
        rest: tuple[int, str, tuple[str, ...]],
    ) -> CadArrays:
        if not self.surfaces:
            raise InputError("no face of the model can be used", next="Export it again, best as STEP")
        table = self.splines
        coarse = self._with_all_faces(coarse)
        return CadArrays(
            nodes=np.concatenate(self.nodes),
            parameters=np.concatenate(self.parameters),
            triangles=np.concatenate(self.triangles),
            triangle_faces=np.concatenate(self.triangle_faces),
            tangent_owners=np.array(self.tangent_owners, dtype=np.int64).reshape(-1, 2),
            tangents=np.array(self.tangents, dtype=np.float64).reshape(-1, 3),
            bend_owners=np.array(self.bend_owners, dtype=np.int64).reshape(-1, 2),
            bends=np.array(self.bends, dtype=np.float64).reshape(-1, 3, 2, 3),
            kinds=np.array([row.kind for row in self.surfaces], dtype=np.int64),
            numbers=np.array([row.numbers for row in self.surfaces]),
            spline_rows=np.array([row.spline for row in self.surfaces], dtype=np.int64),
            spline_shapes=np.array(table.shapes, dtype=np.int64).reshape(-1, 9),
            spline_boxes=np.array(table.boxes, dtype=np.float64).reshape(-1, 4),
            knots=np.array(table.knots, dtype=np.float64),
            poles=np.array(table.poles, dtype=np.float64).reshape(-1, 4),
            areas=np.array(self.areas),
            coarse_nodes=coarse[0],
            coarse_triangles=coarse[1],
            coarse_faces=coarse[2],
            bounds=bounds[0],
            diagonal=bounds[1],
            volume=volume,
            rule=self.rule,
            solids=rest[0],
            file_unit=rest[1],
            problems=rest[2],
        )


def _on_curve(curve: Any, parameters: list[float]) -> Floats:
    """Places and unit tangents (N, 2, 3) of a curve; a tangent is zero where there is none."""
    from OCP.gp import gp_Pnt, gp_Vec

    point, tangent = gp_Pnt(), gp_Vec()
    rows = []
    for parameter in parameters:
        curve.D1(parameter, point, tangent)
        rows.append((point.X(), point.Y(), point.Z(), tangent.X(), tangent.Y(), tangent.Z()))
    found = np.array(rows, dtype=np.float64).reshape(-1, 2, 3)
    found[:, 1] = unit(found[:, 1])
    return found


def _pair(point: Any) -> tuple[float, float]:
    return point.X(), point.Y()


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


def exact_area(face: Any) -> float:
    """Area of a face in mm2."""
    from OCP.BRepGProp import BRepGProp
    from OCP.GProp import GProp_GProps

    properties = GProp_GProps()
    BRepGProp.SurfaceProperties_s(face, properties, EXACT)
    return float(properties.Mass())


def exact_volume(shape: Any) -> float:
    """Volume of the solids in mm3, from the exact faces."""
    from OCP.BRepGProp import BRepGProp
    from OCP.GProp import GProp_GProps

    properties = GProp_GProps()
    BRepGProp.VolumeProperties_s(shape, properties, EXACT, True)
    return float(properties.Mass())


def exact_bounds(shape: Any) -> Floats:
    """Lowest and highest corner (2, 3) in mm, from the exact faces."""
    from OCP.Bnd import Bnd_Box
    from OCP.BRepBndLib import BRepBndLib

    box = Bnd_Box()
    BRepBndLib.AddOptimal_s(shape, box, False, False)
    low, high = box.CornerMin(), box.CornerMax()
    return np.array([[low.X(), low.Y(), low.Z()], [high.X(), high.Y(), high.Z()]])


def _roomy_diagonal(shape: Any) -> float:
    """Diagonal of the box that the library finds at once, mm; poles of splines make it larger than it need be."""
    from OCP.Bnd import Bnd_Box
    from OCP.BRepBndLib import BRepBndLib

    box = Bnd_Box()
    BRepBndLib.Add_s(shape, box)
    return float(box.CornerMin().Distance(box.CornerMax()))


def is_closed(shape: Any) -> bool:
    """Whether the shape has solids and every shell of theirs is closed."""
    from OCP.BRep import BRep_Tool
    from OCP.TopAbs import TopAbs_ShapeEnum
    from OCP.TopExp import TopExp_Explorer

    solids = TopExp_Explorer(shape, TopAbs_ShapeEnum.TopAbs_SOLID)
    closed = bool(solids.More())
    while solids.More():
        walk = TopExp_Explorer(solids.Current(), TopAbs_ShapeEnum.TopAbs_SHELL)
        closed = closed and bool(walk.More())
        while walk.More():
            closed = closed and bool(BRep_Tool.IsClosed_s(walk.Current()))
            walk.Next()
        solids.Next()
    return closed
