"""The exact surface of a CAD face, as the numbers that the projection kernels read."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

import numpy as np

from juxtum.exchange.solid import CONE, CYLINDER, PLANE, SPHERE, SPLINE, TORUS
from juxtum.geometry.arrays import Floats


@dataclass(frozen=True, eq=False)
class SurfaceRow:
    """One exact surface: its kind and the numbers of an elementary one, or its row in the spline table."""

    kind: int
    numbers: Floats
    spline: int = -1


@dataclass
class SplineTable:
    """Knots and poles of all free-form faces, one after another."""

    shapes: list[list[int]] = field(default_factory=list)
    boxes: list[list[float]] = field(default_factory=list)
    knots: list[float] = field(default_factory=list)
    poles: list[list[float]] = field(default_factory=list)

    def add(self, surface: Any) -> int:
        """Append a Geom_BSplineSurface that is not periodic; returns its row."""
        nu, nv = surface.NbUPoles(), surface.NbVPoles()
        first_u = len(self.knots)
        u_knots = _knot_sequence(surface.UKnots(), surface.UMultiplicities())
        self.knots += u_knots
        first_v = len(self.knots)
        v_knots = _knot_sequence(surface.VKnots(), surface.VMultiplicities())
        self.knots += v_knots
        du, dv = surface.UDegree(), surface.VDegree()
        closed = [int(surface.IsUClosed()), int(surface.IsVClosed())]
        self.shapes.append([du, dv, nu, nv, first_u, first_v, len(self.poles), *closed])
        self.boxes.append([u_knots[du], u_knots[nu], v_knots[dv], v_knots[nv]])
        for i in range(1, nu + 1):
            for j in range(1, nv + 1):
                pole, weight = surface.Pole(i, j), surface.Weight(i, j)
                self.poles.append([pole.X() * weight, pole.Y() * weight, pole.Z() * weight, weight])
        return len(self.shapes) - 1


def _knot_sequence(knots: Any, multiplicities: Any) -> list[float]:
    sequence: list[float] = []
    for i in range(knots.Lower(), knots.Upper() + 1):
        sequence += [knots.Value(i)] * multiplicities.Value(i)
    return sequence


def describe_surface(face: Any, points: Floats, uv: Floats, splines: SplineTable) -> tuple[SurfaceRow, Floats]:
    """Numbers of the face's surface, and the parameters of its nodes that fit them.

    The sense of the normal is left open (1): only the winding of the triangles tells it.
    """
    from OCP.BRepAdaptor import BRepAdaptor_Surface

    row = _elementary(BRepAdaptor_Surface(face))
    if row is None:
        surface, uv = _as_spline(face, points, uv)
        row = SurfaceRow(SPLINE, _ones(), splines.add(surface))
    return row, uv


def _ones() -> Floats:
    numbers = np.zeros(9)
    numbers[8] = 1.0
    return numbers


def _elementary(adaptor: Any) -> SurfaceRow | None:
    name = adaptor.GetType().name
    if name == "GeomAbs_Plane":
        plane = adaptor.Plane()
        return _row(PLANE, plane.Location(), plane.Axis().Direction(), 0, 0)
    if name == "GeomAbs_Cylinder":
        cylinder = adaptor.Cylinder()
        return _row(CYLINDER, cylinder.Location(), cylinder.Axis().Direction(), cylinder.Radius(), 0)
    if name == "GeomAbs_Cone":
        cone = adaptor.Cone()
        return _row(CONE, cone.Location(), cone.Axis().Direction(), cone.RefRadius(), cone.SemiAngle())
    if name == "GeomAbs_Sphere":
        sphere = adaptor.Sphere()
        return _row(SPHERE, sphere.Location(), sphere.Position().Direction(), sphere.Radius(), 0)
    if name == "GeomAbs_Torus":
        torus = adaptor.Torus()
        if torus.MajorRadius() > torus.MinorRadius():
            return _row(TORUS, torus.Location(), torus.Axis().Direction(), torus.MajorRadius(), torus.MinorRadius())
    return None


def _row(kind: int, origin: Any, axis: Any, first: float, second: float) -> SurfaceRow:
    place = [origin.X(), origin.Y(), origin.Z(), axis.X(), axis.Y(), axis.Z()]
    return SurfaceRow(kind, np.array([*place, first, second, 1.0]))


def _as_spline(face: Any, points: Floats, uv: Floats) -> tuple[Any, Floats]:
    """The face's surface as a B-spline that is not periodic, and the node parameters on it."""
    from OCP.BRep import BRep_Tool
    from OCP.BRepTools import BRepTools
    from OCP.Geom import Geom_BSplineSurface, Geom_RectangularTrimmedSurface
    from OCP.GeomConvert import GeomConvert

    surface = BRep_Tool.Surface_s(face)
    if isinstance(surface, Geom_BSplineSurface):
        return _unrolled(surface, uv)
    low_u, high_u, low_v, high_v = BRepTools.UVBounds_s(face)
    trimmed = Geom_RectangularTrimmedSurface(surface, low_u, high_u, low_v, high_v)
    surface, uv = _unrolled(GeomConvert.SurfaceToBSplineSurface_s(trimmed), uv)
    return surface, _parameters_on(surface, points, uv)


def _unrolled(surface: Any, uv: Floats) -> tuple[Any, Floats]:
    """A periodic B-spline opened where the face's parameters begin, with the same shape and parametrisation."""
    if not (surface.IsUPeriodic() or surface.IsVPeriodic()):
        return surface, uv
    surface = surface.Copy()
    low_u, high_u, low_v, high_v = surface.Bounds()
    uv = uv.copy()
    if surface.IsUPeriodic():
        start = uv[:, 0].min()
        shift = np.floor((start - low_u) / (high_u - low_u) + 1e-9) * (high_u - low_u)
        _open_at(surface.InsertUKnot, surface.UKnot, surface.NbUKnots, surface.SetUOrigin, start - shift)
        surface.SetUNotPeriodic()
        uv[:, 0] -= shift
    if surface.IsVPeriodic():
        start = uv[:, 1].min()
        shift = np.floor((start - low_v) / (high_v - low_v) + 1e-9) * (high_v - low_v)
        _open_at(surface.InsertVKnot, surface.VKnot, surface.NbVKnots, surface.SetVOrigin, start - shift)
        surface.SetVNotPeriodic()
        uv[:, 1] -= shift
    return surface, uv


def _open_at(insert: Any, knot: Any, count: Any, set_origin: Any, start: float) -> None:
    """Let a periodic direction begin at a parameter within its period."""
    if abs(start - knot(1)) < 1e-9 * max(1.0, abs(start)):
        return
    insert(start, 1, 1e-9, True)
    nearest = min(range(1, count() + 1), key=lambda index: abs(knot(index) - start))
    if nearest < count():
        set_origin(nearest)


def _parameters_on(surface: Any, points: Floats, uv: Floats) -> Floats:
    """Parameters of points that lie on a surface: the first guess, then steps from it, then the general search."""
    from OCP.GeomAPI import GeomAPI_ProjectPointOnSurf
    from OCP.gp import gp_Pnt, gp_Pnt2d
    from OCP.ShapeAnalysis import ShapeAnalysis_Surface

    walker = ShapeAnalysis_Surface(surface)
    result = uv.copy()
    for i, place in enumerate(points):
        point = gp_Pnt(*place)
        if surface.Value(*uv[i]).Distance(point) <= 1e-6:
            continue
        near = walker.NextValueOfUV(gp_Pnt2d(*uv[i]), point, 1e-7)
        found = near.X(), near.Y()
        if surface.Value(*found).Distance(point) > 1e-6:
            search = GeomAPI_ProjectPointOnSurf(point, surface)
            if search.NbPoints() > 0:
                found = search.LowerDistanceParameters()
        result[i] = _same_turn(surface, found, uv[i])
    return result


def _same_turn(surface: Any, found: tuple[float, float], near: Floats) -> tuple[float, float]:
    """On a closed surface both ends of a parameter are one place: the end that belongs to the guess."""
    low_u, high_u, low_v, high_v = surface.Bounds()
    result = list(found)
    ends = ((low_u, high_u, surface.IsUClosed()), (low_v, high_v, surface.IsVClosed()))
    for axis, (low, high, is_closed) in enumerate(ends):
        if is_closed and min(found[axis] - low, high - found[axis]) < 1e-6 * (high - low):
            result[axis] = low if near[axis] < (low + high) / 2 else high
    return result[0], result[1]
