"""PS-14 paddle shaft: a turned shaft with two journals, a collar, a seat with a keyway, a cone and a centre bore."""

from __future__ import annotations

from typing import Any

from juxtum.demo.solids import box, cut, cylinder, fused

JOURNAL, SEAT, COLLAR = 12.5, 16.0, 22.0
"""Radii, mm."""
CONE = (104.0, 16.0, 128.0, 14.5)
"""From where, with which radius, to where, with which radius."""
LENGTH = 162.0
KEY = (8.0, 60.0, 90.0, 11.5)
"""Width of the keyway, from where to where along the axis, and how far its floor lies from the axis, mm."""
CENTRE = (3.15, 14.0)
"""Radius and depth of the centre bore."""


def build_shaft() -> Any:
    """The solid of the shaft (an Open CASCADE shape), its axis along Z."""
    outline = [
        (0.0, 0.0), (JOURNAL - 1.0, 0.0), (JOURNAL, 1.0), (JOURNAL, 30.0), (JOURNAL - 1.0, 30.0), (JOURNAL - 1.0, 34.0),
        (COLLAR, 34.0), (COLLAR, 46.0), (SEAT, 46.0), (SEAT, CONE[0]), (CONE[3], CONE[2]), (JOURNAL, CONE[2]),
        (JOURNAL, LENGTH - 1.0), (JOURNAL - 1.0, LENGTH), (0.0, LENGTH),
    ]  # fmt: skip
    width, start, end, floor = KEY
    keyway = fused(
        box((floor, -width / 2, start + width / 2), (10.0, width, end - start - width)),
        [cylinder((floor, 0, z), (1, 0, 0), width / 2, 10.0) for z in (start + width / 2, end - width / 2)],
    )
    centre = cylinder((0, 0, LENGTH - CENTRE[1]), (0, 0, 1), CENTRE[0], CENTRE[1] + 1)
    return cut(turned(outline), [keyway, centre])


def turned(outline: list[tuple[float, float]]) -> Any:
    """A closed outline of radius and height turned about Z; both its ends lie on the axis."""
    from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeFace, BRepBuilderAPI_MakePolygon
    from OCP.BRepPrimAPI import BRepPrimAPI_MakeRevol
    from OCP.gp import gp_Ax1, gp_Dir, gp_Pnt

    polygon = BRepBuilderAPI_MakePolygon()
    for radius, height in outline:
        polygon.Add(gp_Pnt(radius, 0.0, height))
    polygon.Close()
    face = BRepBuilderAPI_MakeFace(polygon.Wire()).Face()
    return BRepPrimAPI_MakeRevol(face, gp_Ax1(gp_Pnt(0, 0, 0), gp_Dir(0, 0, 1))).Shape()
