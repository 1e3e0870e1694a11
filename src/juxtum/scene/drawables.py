"""From value objects to what the renderer draws; built off the interface thread, without any rendering."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np

from juxtum.evaluate import Deviation, Histogram
from juxtum.geometry.arrays import Floats, Ints
from juxtum.geometry.mesh import Scan, TriangleMesh
from juxtum.geometry.nearest import NearestTree
from juxtum.nominal import Nominal
from juxtum.scene.contours import Field, smoothed
from juxtum.scene.palette import MapScale
from juxtum.scene.proxy import clustered

LIGHT_ENOUGH, MIDDLE_ENOUGH = 60_000, 300_000
LIGHT_DIVISIONS, MIDDLE_DIVISIONS = 90, 330
PAGE_DIVISIONS = 280
PIECE = 120_000
"""Triangles that are drawn at a stroke: between two strokes the window answers."""
MANY = 2_000_000
"""A surface of fewer triangles is drawn as it is while the view moves."""
HATCH_PITCH = 3.0
DENSE = 100_000
"""From so many points on, the outermost ones say nothing about where the part is."""


Pieces = tuple[Any, ...]
"""A mesh of the renderer in pieces, none of which takes long to draw."""


@dataclass(frozen=True, eq=False)
class Surface:
    """A surface or cloud ready to be drawn: all of it for close looks, less from afar, little while moving; rays for picking.

    Parameters
    ----------
    points, triangles : array
        As they are picked.
    """

    points: Floats
    triangles: Ints
    full: Pieces
    middle: Pieces
    light: Pieces
    caster: NearestTree | None
    has_scalars: bool

    @cached_property
    def some_points(self) -> Floats:
        """Enough of the points to tell where it is."""
        return self.points[:: max(1, len(self.points) // 20_000)] if len(self.points) >= DENSE else self.points


@dataclass(frozen=True, eq=False)
class Lines:
    """Line segments ready to be drawn."""

    data: Any


def polydata(points: Floats, triangles: Ints, normals: Floats | None, scalars: Floats | None) -> Any:
    """Arrays as VTK's mesh; a cloud becomes single vertices."""
    from vtkmodules.util.numpy_support import numpy_to_vtk, numpy_to_vtkIdTypeArray
    from vtkmodules.vtkCommonCore import vtkPoints
    from vtkmodules.vtkCommonDataModel import vtkCellArray, vtkPolyData

    data = vtkPolyData()
    places = vtkPoints()
    places.SetData(numpy_to_vtk(np.ascontiguousarray(points, dtype=np.float32), deep=True))
    data.SetPoints(places)
    cells = vtkCellArray()
    rows = triangles if len(triangles) else np.arange(len(points))[:, None]
    width = rows.shape[1]
    offsets = np.arange(0, width * len(rows) + 1, width, dtype=np.int64)
    cells.SetData(
        numpy_to_vtkIdTypeArray(offsets, deep=True), numpy_to_vtkIdTypeArray(rows.astype(np.int64).ravel(), deep=True)
    )
    if len(triangles):
        data.SetPolys(cells)
    else:
        data.SetVerts(cells)
    if normals is not None:
        data.GetPointData().SetNormals(numpy_to_vtk(np.ascontiguousarray(normals, dtype=np.float32), deep=True))
    if scalars is not None:
        data.GetPointData().SetScalars(numpy_to_vtk(np.ascontiguousarray(scalars, dtype=np.float32), deep=True))
    return data


def in_pieces(points: Floats, triangles: Ints, normals: Floats | None, scalars: Floats | None) -> Pieces:
    """Arrays as meshes of at most so many triangles as are drawn at a stroke, each with the points that it needs."""
    if len(triangles) <= PIECE:
        return (polydata(points, triangles, normals, scalars),)
    made = []
    for some in np.array_split(triangles, -(-len(triangles) // PIECE)):
        needed = np.zeros(len(points), dtype=bool)
        needed[some] = True
        rows = np.flatnonzero(needed)
        numbers = np.cumsum(needed) - 1
        parts = (None if values is None else values[rows] for values in (normals, scalars))
        made.append(polydata(points[rows], numbers[some], *parts))
    return tuple(made)


def surface(
    points: Floats,
    triangles: Ints,
    normals: Floats | None,
    scalars: Floats | None = None,
    caster: NearestTree | None = None,
) -> Surface:
    """A surface or cloud with optional scalars per point (NaN where there are none).

    Parameters
    ----------
    caster : NearestTree, optional
        Of the same triangles, where there is one already.
    """
    full = in_pieces(points, triangles, normals, scalars)
    middle = light = full
    if normals is not None and len(triangles) > MIDDLE_ENOUGH:
        middle = _thinner(points, triangles, normals, scalars, MIDDLE_DIVISIONS)
    if normals is not None and len(triangles) > LIGHT_ENOUGH:
        light = _thinner(points, triangles, normals, scalars, LIGHT_DIVISIONS)
    elif len(triangles) == 0 and len(points) > 2 * LIGHT_ENOUGH:
        step = len(points) // LIGHT_ENOUGH
        light = (polydata(points[::step], triangles, None, None if scalars is None else scalars[::step]),)
    if caster is None and len(triangles):
        caster = NearestTree(points, triangles)
    return Surface(points, triangles, full, middle, light, caster, scalars is not None)


def _thinner(points: Floats, triangles: Ints, normals: Floats, scalars: Floats | None, divisions: int) -> Pieces:
    values = np.zeros(len(points)) if scalars is None else scalars
    p, t, n, s = clustered(points, triangles, normals, values, divisions)
    return in_pieces(p, t, n, None if scalars is None else s)


def nominal_surface(nominal: Nominal) -> Surface:
    """The nominal's tessellation, smooth within faces."""
    mesh = nominal.mesh
    return surface(mesh.points, mesh.triangles, mesh.normals)


def nominal_edges(nominal: Nominal) -> Lines:
    """The borders between the nominal's faces."""
    return segments(nominal.sharp_segments)


def segments(ends: Floats) -> Lines:
    """Separate line segments (K, 2, 3)."""
    return Lines(_line_data(ends))


def _line_data(ends: Floats) -> Any:
    data = polydata(ends.reshape(-1, 3), np.arange(2 * len(ends)).reshape(-1, 2), None, None)
    cells = data.GetPolys()
    data.SetPolys(None)
    data.SetLines(cells)
    return data


def scan_surface(scan: Scan) -> Surface:
    """A scan without a map."""
    return surface(
        scan.points, scan.triangles, scan.normals, caster=scan.tree if isinstance(scan, TriangleMesh) else None
    )


def map_surface(deviation: Deviation, triangles: Ints, normals: Floats | None) -> Surface:
    """A scan in part coordinates with its deviations as scalars."""
    return surface(deviation.points, triangles, normals, deviation.distances)


def moved_surface(mesh: TriangleMesh, moved: Floats) -> Surface:
    """A surface with how far each place (N,) of it was moved as scalars; only looked at."""
    data = in_pieces(mesh.points, mesh.triangles, mesh.normals, moved)
    return Surface(mesh.points, mesh.triangles, data, data, data, None, True)


def spread_of(mesh: TriangleMesh, values: Floats, scale: MapScale, bins: int = 120) -> Histogram:
    """How much area of a surface has which value (N,)."""
    low, high = scale.ends
    edges = np.linspace(low, high, bins + 1)
    areas = mesh.point_areas
    counts = np.histogram(values, edges, weights=areas)[0]
    return Histogram(edges, counts / max(float(areas.sum()), 1e-12))


def page_map(
    deviation: Deviation, triangles: Ints, normals: Floats | None, limits: tuple[float, float]
) -> tuple[Surface, Lines | None]:
    """Map and limit lines for a page, with no more triangles than a page can show."""
    points, values = deviation.points, deviation.distances
    if normals is not None and len(triangles) > MIDDLE_ENOUGH:
        points, triangles, normals, values = clustered(points, triangles, normals, values, PAGE_DIVISIONS)
    data = in_pieces(points, triangles, normals, values)
    lines = limit_lines(Field(points, triangles, smoothed(values, triangles)), limits) if len(triangles) else None
    caster = NearestTree(points, triangles) if len(triangles) else None
    return Surface(points, triangles, data, data, data, caster, True), lines


def plain_surface(mesh: TriangleMesh) -> Surface:
    """A mesh that is only looked at, not picked, such as a selection."""
    data = in_pieces(mesh.points, mesh.triangles, mesh.normals, None)
    return Surface(mesh.points, mesh.triangles, data, data, data, None, False)


def plain_cloud(points: Floats, normals: Floats) -> Surface:
    """Points (N, 3) that are only looked at, lit by their normals (N, 3)."""
    data = (polydata(points, np.empty((0, 3), dtype=np.int64), normals, None),)
    return Surface(points, np.empty((0, 3), dtype=np.int64), data, data, data, None, False)


def limit_field(deviation: Deviation, triangles: Ints) -> Field:
    """The scan with its smoothed deviations, on which lines along limits are found."""
    points, values = deviation.points, deviation.distances
    if len(triangles) > MANY:
        # Lines are a screen's affair: on a very large scan they are drawn on a thinner one.
        points, triangles, _, values = clustered(points, triangles, deviation.normals, values, MIDDLE_DIVISIONS)
    return Field(points, triangles, smoothed(values, triangles))


def limit_lines(field: Field, limits: Sequence[float]) -> Lines:
    """Thin lines on the scan along the tolerance limits, or along other values."""
    return segments(np.concatenate([field.along(limit) for limit in limits]))


def unseen_surface(deviation: Deviation) -> Surface | None:
    """The pieces of the nominal without data, with texture coordinates for the hatching."""
    samples = deviation.nominal.samples
    if deviation.seen.all():
        return None
    mesh = samples.mesh.kept_triangles(~deviation.seen)
    normals = np.repeat(samples.mesh.triangle_normals[~deviation.seen], 3, axis=0)
    full: Pieces = (_hatched(mesh.points, mesh.triangles, normals if len(normals) == len(mesh.points) else None),)
    middle = light = full
    if len(normals) == len(mesh.points) and len(mesh.triangles) > LIGHT_ENOUGH // 6:
        middle, light = (
            (_hatched(*_merged(mesh.points, mesh.triangles, normals, n)),) for n in (MIDDLE_DIVISIONS, LIGHT_DIVISIONS)
        )
    return Surface(mesh.points, mesh.triangles, full, middle, light, None, False)


def _merged(points: Floats, triangles: Ints, normals: Floats, divisions: int) -> tuple[Floats, Ints, Floats]:
    p, t, n, _ = clustered(points, triangles, normals, np.zeros(len(points)), divisions)
    return p, t, n


def _hatched(points: Floats, triangles: Ints, normals: Floats | None) -> Any:
    from vtkmodules.util.numpy_support import numpy_to_vtk

    data = polydata(points, triangles, normals, None)
    along = points @ np.array([1.0, 1.0, 1.0]) / (np.sqrt(3) * HATCH_PITCH)
    places = np.column_stack([along, np.zeros(len(along))]).astype(np.float32)
    data.GetPointData().SetTCoords(numpy_to_vtk(places, deep=True))
    return data


def foreign_surface(deviation: Deviation, triangles: Ints, normals: Floats | None) -> Surface | None:
    """The scan's surface that has no nominal, to be shown in one tone."""
    rows = np.concatenate([p.rows for p in deviation.foreign] or [np.empty(0, np.int64)])
    if len(rows) == 0:
        return None
    mine = np.zeros(len(deviation.points), dtype=bool)
    mine[rows] = True
    used = triangles[mine[triangles].all(1)] if len(triangles) else triangles
    if len(triangles) and len(used) == 0:
        return None
    points = deviation.points if len(triangles) else deviation.points[rows]
    data = in_pieces(points, used, normals if len(triangles) else None, None)
    return Surface(points, used, data, data, data, None, False)


def passed_surface(deviation: Deviation) -> Surface | None:
    """The nominal's surface that the scan passes by, to be shown in one tone."""
    if not deviation.passed:
        return None
    samples = deviation.nominal.samples
    mine = np.zeros(len(samples.faces), dtype=bool)
    mine[np.concatenate([p.samples for p in deviation.passed])] = True
    return plain_surface(samples.mesh.kept_triangles(mine))


def face_surface(nominal: Nominal, numbers: tuple[int, ...]) -> Surface:
    """Some faces of the nominal, to be shown marked."""
    return plain_surface(nominal.face_mesh(numbers))
