"""Solids of the demo parts, thin words over the CAD library."""

from __future__ import annotations

from typing import Any


def box(corner: tuple[float, float, float], size: tuple[float, float, float]) -> Any:
    """A box from its lowest corner and its size, mm."""
    from OCP.BRepPrimAPI import BRepPrimAPI_MakeBox
    from OCP.gp import gp_Pnt

    return BRepPrimAPI_MakeBox(gp_Pnt(*corner), *size).Shape()


def cylinder(start: tuple[float, float, float], axis: tuple[float, float, float], radius: float, length: float) -> Any:
    """A solid cylinder from the middle of its start along an axis, mm."""
    from OCP.BRepPrimAPI import BRepPrimAPI_MakeCylinder
    from OCP.gp import gp_Ax2, gp_Dir, gp_Pnt

    return BRepPrimAPI_MakeCylinder(gp_Ax2(gp_Pnt(*start), gp_Dir(*axis)), radius, length).Shape()


def extruded(corners: list[tuple[float, float, float]], vector: tuple[float, float, float]) -> Any:
    """A flat outline moved along a vector."""
    from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeFace, BRepBuilderAPI_MakePolygon
    from OCP.BRepPrimAPI import BRepPrimAPI_MakePrism
    from OCP.gp import gp_Pnt, gp_Vec

    polygon = BRepBuilderAPI_MakePolygon()
    for corner in corners:
        polygon.Add(gp_Pnt(*corner))
    polygon.Close()
    return BRepPrimAPI_MakePrism(BRepBuilderAPI_MakeFace(polygon.Wire()).Face(), gp_Vec(*vector)).Shape()


def fused(base: Any, others: list[Any]) -> Any:
    """A solid with others joined to it."""
    from OCP.BRepAlgoAPI import BRepAlgoAPI_Fuse

    return _combined(BRepAlgoAPI_Fuse(), base, others)


def cut(base: Any, tools: list[Any]) -> Any:
    """A solid with others taken out of it."""
    from OCP.BRepAlgoAPI import BRepAlgoAPI_Cut

    return _combined(BRepAlgoAPI_Cut(), base, tools)


def _combined(operation: Any, base: Any, others: list[Any]) -> Any:
    from OCP.ShapeUpgrade import ShapeUpgrade_UnifySameDomain

    operation.SetArguments(_shape_list([base]))
    operation.SetTools(_shape_list(others))
    operation.Build()
    if not operation.IsDone():
        raise RuntimeError("the demo part could not be built")
    unify = ShapeUpgrade_UnifySameDomain(operation.Shape(), True, True, False)
    unify.Build()
    return unify.Shape()


def _shape_list(shapes: list[Any]) -> Any:
    from OCP.collections import List_TopoDS_Shape

    result = List_TopoDS_Shape()
    for shape in shapes:
        result.Append(shape)
    return result
