"""The exact surface of a CAD face, as the numbers that the projection kernels read."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

import numpy as np

from juxtum.geometry.arrays import Floats, Ints, unit
from juxtum.nominal._foot_kernels import CONE, CYLINDER, PLANE, SPHERE, SPLINE, TORUS


@dataclass(frozen=True, eq=False)
class SurfaceRow:
    """One exact surface: its kind and the numbers of `elementary_foot`, or its row in the spline table."""

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
        self.shapes.append([surface.UDegree(), surface.VDegree(), nu, nv, first_u, first_v, len(self.poles)])
        du, dv = surface.UDegree(), surface.VDegree()
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


def describe_surface(
    face: Any, points: Floats, uv: Floats, triangles: Ints, splines: SplineTable
) -> tuple[SurfaceRow, Floats]:
    """Numbers of the face's surface and the node parameters that fit them.

    The sense of the normal is taken from the winding of the triangles, which already follows the face's orientation.
    """
    from OCP.BRepAdaptor import BRepAdaptor_Surface

    adaptor = BRepAdaptor_Surface(face)
    row = _elementary(adaptor)
    if row is None:
        surface, uv = _as_spline(face, points, uv)
        row = SurfaceRow(SPLINE, np.zeros(9), splines.add(surface))
    row.numbers[8] = 1.0
    sense = _sense(row, splines, points, uv, triangles)
    row.numbers[8] = sense
    return row, uv


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
    """The face's surface as a B-spline, and the node parameters on it."""
    from OCP.BRep import BRep_Tool
    from OCP.BRepTools import BRepTools
    from OCP.Geom import Geom_BSplineSurface, Geom_RectangularTrimmedSurface
    from OCP.GeomConvert import GeomConvert

    surface = BRep_Tool.Surface_s(face)
    native = isinstance(surface, Geom_BSplineSurface) and not surface.IsUPeriodic() and not surface.IsVPeriodic()
    if not native:
        # A little beyond the face, so that feet near its border are not held back by the end of the patch.
        low_u, high_u, low_v, high_v = BRepTools.UVBounds_s(face)
        surface = Geom_RectangularTrimmedSurface(surface, low_u, high_u, low_v, high_v)
        surface = GeomConvert.SurfaceToBSplineSurface_s(surface)
        uv = _parameters_on(surface, points, uv)
    return surface, uv


def _parameters_on(surface: Any, points: Floats, uv: Floats) -> Floats:
    """Parameters of points that lie on a surface; the first guess is tried before the general search."""
    from OCP.GeomAPI import GeomAPI_ProjectPointOnSurf
    from OCP.gp import gp_Pnt

    result = uv.copy()
    for i, place in enumerate(points):
        point = gp_Pnt(*place)
        if surface.Value(*uv[i]).Distance(point) > 1e-5:
            search = GeomAPI_ProjectPointOnSurf(point, surface)
            if search.NbPoints() > 0:
                result[i] = search.LowerDistanceParameters()
    return result


def _sense(row: SurfaceRow, splines: SplineTable, points: Floats, uv: Floats, triangles: Ints) -> float:
    from juxtum.nominal._foot_kernels import face_foot
    from juxtum.nominal._spline_kernels import ORDER

    shapes = np.array(splines.shapes[row.spline : row.spline + 1] or [[0] * 7], dtype=np.int64)
    boxes = np.array(splines.boxes[row.spline : row.spline + 1] or [[0.0] * 4])
    knots = np.array(splines.knots or [0.0])
    poles = np.array(splines.poles or [[0.0] * 4])
    work, out = np.empty((4, 6, ORDER)), np.empty((6, 3))
    corners = points[triangles]
    crosses = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    order = np.argsort(-np.linalg.norm(crosses, axis=1))[:9]
    vote = 0.0
    for t in order:
        q, n = np.empty(3), np.empty(3)
        seed = uv[triangles[t]].mean(0)
        kinds, rows = np.array([row.kind]), row.numbers[None]
        if face_foot(0, kinds, rows, shapes, boxes, knots, poles, corners[t].mean(0), seed, work, out, q, n):
            vote += float(n @ unit(crosses[t]))
    return 1.0 if vote >= 0 else -1.0
