"""BC-220 bearing carrier: its nominal, and the part as it was really made.

Part coordinates: X along the plate, Y across it, Z up; the origin lies in the middle of the plate's underside.
The bore runs along Y.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from juxtum.demo.solids import box, cut, cylinder, extruded, fused

PLATE = (260.0, 180.0, 18.0)
BORE_RADIUS = 36.0
BORE_HEIGHT = 80.0
SEAT_LENGTH = 96.0
SEAT_WIDTH = 104.0
SEAT_TOP = 140.0
PAD_WIDTH = 56.0
BOSSES = ((-98.0, -52.0), (98.0, 52.0))
BOSS_RADIUS = 15.0
BOSS_TOP = 48.0
HOLES = ((-108.0, 70.0), (108.0, -70.0), (-108.0, -8.0), (108.0, 8.0))
HOLE_RADIUS = 7.0


@dataclass(frozen=True)
class CarrierErrors:
    """How the made part differs from the nominal; all lengths in mm."""

    bore_diameter: float = 0.0
    seat_tilt: float = 0.0
    boss_shortfall: float = 0.0
    hole_shift: tuple[float, float] = (0.0, 0.0)


def build_carrier(errors: CarrierErrors | None = None) -> Any:
    """The solid of the carrier (an Open CASCADE shape), with the given errors made into it."""
    made = errors or CarrierErrors()
    body = cut(_body(made), _openings(made))
    return fused(body, [_shroud()])


def _body(made: CarrierErrors) -> Any:
    """Plate, seat block, ribs and bosses, with the outer corners rounded."""
    length, width, height = PLATE
    plate = _rounded_corners(box((-length / 2, -width / 2, 0), (length, width, height)), 12.0, height)
    block = box((-SEAT_WIDTH / 2, -SEAT_LENGTH / 2, height - 1), (SEAT_WIDTH, SEAT_LENGTH, BORE_HEIGHT - height + 1))
    barrel = cylinder((0, -SEAT_LENGTH / 2, BORE_HEIGHT), (0, 1, 0), SEAT_WIDTH / 2, SEAT_LENGTH)
    pad = box((-PAD_WIDTH / 2, -SEAT_LENGTH / 2, BORE_HEIGHT), (PAD_WIDTH, SEAT_LENGTH, SEAT_TOP - BORE_HEIGHT))
    ribs = [_rib(sign, y) for sign in (-1, 1) for y in (-26.0, 26.0)]
    bosses = [_boss(place, BOSS_TOP) for place in BOSSES[:1]]
    bosses.append(_boss(BOSSES[1], BOSS_TOP - made.boss_shortfall))
    body = fused(plate, [block, barrel, pad, *ribs, *bosses])
    if made.seat_tilt:
        body = cut(body, [_tilted_cutter(made.seat_tilt)])
    return _filleted_foot(body)


def _openings(made: CarrierErrors) -> list[Any]:
    """Tools for the bore, its relief groove, the bolt holes with counterbores, the slot and the boss holes."""
    radius = BORE_RADIUS + made.bore_diameter / 2
    tools = [cylinder((0, -SEAT_LENGTH, BORE_HEIGHT), (0, 1, 0), radius, 2 * SEAT_LENGTH)]
    for sign in (-1, 1):
        tools.append(_chamfer_ring(sign))
    for index, (x, y) in enumerate(HOLES):
        dx, dy = made.hole_shift if index == 0 else (0.0, 0.0)
        tools.append(cylinder((x + dx, y + dy, -1), (0, 0, 1), HOLE_RADIUS, PLATE[2] + 2))
        tools.append(cylinder((x, y, PLATE[2] - 5), (0, 0, 1), 11.5, 10))
    tools += _slot_tools((58.0, -68.0), 36.0, 8.0)
    tools += [cylinder((x, y, BOSS_TOP - 22), (0, 0, 1), 5.0, 40) for x, y in BOSSES]
    return tools


def _chamfer_ring(sign: int) -> Any:
    """A cone that breaks the edge of the bore by 2 mm at one end."""
    from OCP.BRepPrimAPI import BRepPrimAPI_MakeCone
    from OCP.gp import gp_Ax2, gp_Dir, gp_Pnt

    start = gp_Pnt(0, sign * (SEAT_LENGTH / 2 - 2), BORE_HEIGHT)
    return BRepPrimAPI_MakeCone(gp_Ax2(start, gp_Dir(0, sign, 0)), BORE_RADIUS, BORE_RADIUS + 4, 4).Shape()


def _slot_tools(centre: tuple[float, float], length: float, radius: float) -> list[Any]:
    x, y = centre
    ends = [cylinder((x + s * length / 2, y, -1), (0, 0, 1), radius, PLATE[2] + 2) for s in (-1, 1)]
    middle = box((x - length / 2, y - radius, -1), (length, 2 * radius, PLATE[2] + 2))
    return [fused(middle, ends)]


def _boss(place: tuple[float, float], top: float) -> Any:
    x, y = place
    return cylinder((x, y, PLATE[2] - 1), (0, 0, 1), BOSS_RADIUS, top - PLATE[2] + 1)


def _rib(sign: int, y: float) -> Any:
    """A triangular rib between the plate and the seat block, 8 mm thick."""
    low, inner = PLATE[2] - 1, SEAT_WIDTH / 2 - 1
    profile = [(sign * inner, low), (sign * 94.0, low), (sign * 94.0, low + 7), (sign * inner, 66.0)]
    return extruded([(x, y - 4, z) for x, z in profile], (0, 8, 0))


def _tilted_cutter(tilt: float) -> Any:
    """Material above a seat top that falls by `tilt` over the length of the seat (towards +Y)."""
    reach = 40.0
    half = SEAT_LENGTH / 2
    slope = tilt / SEAT_LENGTH
    x = PAD_WIDTH / 2 + 5
    corners = [
        (-x, -half, SEAT_TOP),
        (-x, half + reach, SEAT_TOP - slope * (SEAT_LENGTH + reach)),
        (-x, half + reach, SEAT_TOP + 20),
        (-x, -half, SEAT_TOP + 20),
    ]
    return extruded(corners, (2 * x, 0, 0))


def _shroud() -> Any:
    """The lofted drip shroud that leans out over the +Y face of the seat: a free-form skin of its own."""
    from OCP.BRepOffsetAPI import BRepOffsetAPI_ThruSections

    loft = BRepOffsetAPI_ThruSections(True, False, 1e-4)
    front = SEAT_LENGTH / 2
    for reach, rise, half in ((-3.0, 0.0, 44.0), (9.0, 3.5, 47.0), (20.0, 4.0, 46.0), (30.0, -3.0, 42.0)):
        loft.AddWire(_crescent(front + reach, BORE_HEIGHT + rise, half))
    loft.Build()
    return loft.Shape()


def _crescent(y: float, z: float, half: float) -> Any:
    """One closed section of the shroud: a wavy outer arc, a plain inner arc and two short ends."""
    from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeEdge, BRepBuilderAPI_MakeWire
    from OCP.gp import gp_Pnt

    angles = [math.radians(20 + 140 * k / 8) for k in range(9)]
    outer = [(half + 4.5 + 1.2 * math.cos(3 * a)) for a in angles]
    inner = [half for _ in angles]

    def points(radii: list[float]) -> list[Any]:
        return [gp_Pnt(r * math.cos(a), y, z + r * math.sin(a)) for r, a in zip(radii, angles, strict=True)]

    first, second = points(outer), points(inner)
    wire = BRepBuilderAPI_MakeWire()
    wire.Add(BRepBuilderAPI_MakeEdge(_spline(first)).Edge())
    wire.Add(BRepBuilderAPI_MakeEdge(first[-1], second[-1]).Edge())
    wire.Add(BRepBuilderAPI_MakeEdge(_spline(second[::-1])).Edge())
    wire.Add(BRepBuilderAPI_MakeEdge(second[0], first[0]).Edge())
    return wire.Wire()


def _spline(points: list[Any]) -> Any:
    from OCP.collections import HArray1_gp_Pnt
    from OCP.GeomAPI import GeomAPI_Interpolate

    array = HArray1_gp_Pnt(1, len(points))
    for index, point in enumerate(points, 1):
        array.SetValue(index, point)
    interpolation = GeomAPI_Interpolate(array, False, 1e-7)
    interpolation.Perform()
    return interpolation.Curve()


def _edges(shape: Any) -> list[Any]:
    from OCP.collections import IndexedMap_TopoDS_Shape_TopTools_ShapeMapHasher as ShapeMap
    from OCP.TopAbs import TopAbs_EDGE
    from OCP.TopExp import TopExp
    from OCP.TopoDS import TopoDS

    found = ShapeMap()
    TopExp.MapShapes_s(shape, TopAbs_EDGE, found)
    return [TopoDS.Edge(found.FindKey(index)) for index in range(1, found.Size() + 1)]


def _ends(edge: Any) -> tuple[Any, Any]:
    from OCP.BRepAdaptor import BRepAdaptor_Curve

    curve = BRepAdaptor_Curve(edge)
    return curve.Value(curve.FirstParameter()), curve.Value(curve.LastParameter())


def _rounded_corners(plate: Any, radius: float, height: float) -> Any:
    """Fillet the upright edges of a box."""
    return _fillet(plate, radius, lambda a, b: abs(abs(a.Z() - b.Z()) - height) < 1e-6)


def _filleted_foot(body: Any) -> Any:
    """Fillet the edges where bosses stand on the plate, and the plate's upper rim."""
    level = PLATE[2]

    def foot(a: Any, b: Any) -> bool:
        on_plate = abs(a.Z() - level) < 1e-6 and abs(b.Z() - level) < 1e-6
        round_boss = any(abs(math.hypot(a.X() - x, a.Y() - y) - BOSS_RADIUS) < 1e-3 for x, y in BOSSES)
        return on_plate and round_boss

    def rim(a: Any, b: Any) -> bool:
        outside = (abs(p.X()) > PLATE[0] / 2 - 13 and abs(p.Y()) > PLATE[1] / 2 - 13 for p in (a, b))
        return abs(a.Z() - level) < 1e-6 and abs(b.Z() - level) < 1e-6 and all(outside)

    return _fillet(_fillet(body, 3.0, foot), 2.0, rim)


def _fillet(shape: Any, radius: float, wanted: Callable[[Any, Any], bool]) -> Any:
    from OCP.BRepFilletAPI import BRepFilletAPI_MakeFillet

    fillet = BRepFilletAPI_MakeFillet(shape)
    for edge in _edges(shape):
        if wanted(*_ends(edge)):
            fillet.Add(radius, edge)
    fillet.Build()
    return fillet.Shape()
