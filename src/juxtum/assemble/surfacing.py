"""An open mesh from captured points: the zero level of their signed distances, put back onto the points."""

from __future__ import annotations

import numpy as np

from juxtum.errors import InputError
from juxtum.geometry import TriangleMesh
from juxtum.geometry.arrays import Bools, Floats, Ints, unit
from juxtum.progress import Progress, silent

REACH = 2.0
"""Points reach so many spacings into the field."""
MOST_CELLS = 260_000_000
NEIGHBOURS = 14
AT_ONCE = 400_000
"""Points whose neighbours are looked at together: that bounds the memory."""
DENSE, VERY_MANY = 0.5, 2_000_000
"""Of so many points those closer than this share of the spacing of the surface become one; of fewer all are used."""
ROUGH = 4.0
"""A point farther from the plane of its neighbours than so many times the usual is left out."""


ASIDE, ASIDE_SHARE = 0.65, 0.7
"""How far a vertex may lie from the middle of its neighbours, in spacings and as a share of the overhang: farther out a bore of 8 mm
was 0.1 to 0.17 mm too narrow."""
ALIKE, AGREES = 0.5, 0.6
"""Cosines: how much neighbours look the same way at least, of a point and of a vertex."""
STIFF, MOST_TURNED = 0.01, 0.4
"""How little directions bend where few neighbours say how, as a share of the square of the spacing, and how far they go on bending."""


def make_surface(
    points: Floats, normals: Floats, spacing: float, progress: Progress | None = None, *, overhang: float = 0.9
) -> TriangleMesh:
    """Mesh points (N, 3) with outward normals (N, 3) at a spacing in mm; holes stay open.

    The field of signed distances and its surface come from VTK; each vertex is then moved along its normal onto the
    plane that its neighbouring points make, so that the grid leaves no trace.

    Parameters
    ----------
    overhang : float
        How far, in spacings, the surface may reach beyond the points at its borders.

    Raises
    ------
    InputError
        When there are too few points, or the spacing is too fine for their extent.
    """
    progress = progress or silent()
    if len(points) < 500:
        raise InputError(f"{len(points)} points are too few for a surface", "surface", "Capture more")
    progress.phase("sorting out stray points", 0.05)
    if len(points) > VERY_MANY:
        points, normals = _averaged(points, normals, DENSE * spacing)
    good, normals = _steady(points, normals, spacing)
    points, normals = points[good], normals[good]
    if len(points) == 0:
        raise InputError("the points make no surface", "surface", "Capture more, or choose a wider spacing")
    progress.phase("making the surface", 0.25)
    raw_points, triangles = _zero_level(points, normals, spacing)
    if len(triangles) == 0:
        raise InputError("the points make no surface", "surface", "Capture more, or choose a wider spacing")
    progress.phase("putting the surface onto the points", 0.6)
    mesh = TriangleMesh(raw_points, triangles)
    settled, near = _settled(mesh, points, normals, spacing, overhang)
    progress.phase("dropping what has no points", 0.95)
    return TriangleMesh(settled, triangles).kept(near)


def finest_spacing(extent: Floats) -> float:
    """The finest spacing, mm, at which a surface of an extent (3,) can be made."""
    return float(1.02 * (np.prod(np.asarray(extent) + 12.0) / MOST_CELLS) ** (1 / 3))


def _averaged(points: Floats, normals: Floats, size: float) -> tuple[Floats, Floats]:
    """Points (N, 3) with directions, those in one cube that look about the same way made into their mean.

    Where scans overlap, or are finer than the surface will be, this is what averages their noise; the two sides of a
    thin wall look different ways and stay two.
    """
    cells = np.floor((points - points.min(0)) / size).astype(np.int64)
    span = cells.max(0) + 1
    main = np.abs(normals).argmax(1)
    side = 2 * main + (np.take_along_axis(normals, main[:, None], 1)[:, 0] > 0)
    keys = ((cells[:, 0] * span[1] + cells[:, 1]) * span[2] + cells[:, 2]) * 6 + side
    del cells, main, side
    order = np.argsort(keys, kind="stable")
    starts = np.flatnonzero(np.concatenate([[True], np.diff(keys[order]) != 0]))
    if len(starts) > 0.8 * len(points):
        return points, normals
    counts = np.diff(np.append(starts, len(order)))
    return np.add.reduceat(points[order], starts) / counts[:, None], unit(np.add.reduceat(normals[order], starts))


def _steady(points: Floats, normals: Floats, spacing: float) -> tuple[Bools, Floats]:
    """Points (N,) that lie on a surface with their neighbours, no specks, no veils at edges; and calmer normals (N, 3)."""
    from scipy.spatial import cKDTree

    from juxtum.assemble import _surfacing_kernels as kernels

    tree = cKDTree(points)
    height, calm = np.empty(len(points)), np.empty_like(normals)
    for start in range(0, len(points), AT_ONCE):
        rows = slice(start, min(start + AT_ONCE, len(points)))
        near = tree.query(points[rows], k=8, distance_upper_bound=3 * spacing, workers=-1)[1]
        height[rows], calm[rows] = kernels.steadiness(points, normals, near, start, ALIKE)
    there = height[np.isfinite(height)]
    usual = float(np.median(there)) if len(there) else 0.0
    # Where a neighbour looks another way there is an edge: what lies on neither side of it for sure makes veils.
    return np.asarray(np.nan_to_num(height, nan=np.inf) < max(ROUGH * usual, 0.02 * spacing)), calm


def _zero_level(points: Floats, normals: Floats, spacing: float) -> tuple[Floats, Ints]:
    from vtkmodules.util.numpy_support import numpy_to_vtk, vtk_to_numpy
    from vtkmodules.vtkCommonCore import vtkPoints
    from vtkmodules.vtkCommonDataModel import vtkPolyData
    from vtkmodules.vtkFiltersPoints import vtkExtractSurface, vtkSignedDistance

    low, high = points.min(0) - 3 * spacing, points.max(0) + 3 * spacing
    shape = np.ceil((high - low) / spacing).astype(int) + 1
    if int(np.prod(shape, dtype=np.int64)) > MOST_CELLS:
        finest = float((np.prod(high - low) / MOST_CELLS) ** (1 / 3))
        raise InputError(
            f"a spacing of {spacing:g} mm is too fine for so large a capture",
            "surface",
            f"Choose {finest:.1f} mm or more",
        )
    cloud, places = vtkPolyData(), vtkPoints()
    places.SetData(numpy_to_vtk(np.ascontiguousarray(points, dtype=np.float32), deep=True))
    cloud.SetPoints(places)
    cloud.GetPointData().SetNormals(numpy_to_vtk(np.ascontiguousarray(normals, dtype=np.float32), deep=True))
    distance = vtkSignedDistance()
    distance.SetInputData(cloud)
    distance.SetRadius(REACH * spacing)
    distance.SetDimensions(*map(int, shape))
    distance.SetBounds(*np.column_stack([low, low + (shape - 1) * spacing]).ravel())
    surface = vtkExtractSurface()
    surface.SetInputConnection(distance.GetOutputPort())
    surface.SetRadius(0.99 * REACH * spacing)
    surface.HoleFillingOff()
    surface.ComputeNormalsOff()
    surface.Update()
    found = surface.GetOutput()
    if found.GetNumberOfPoints() == 0:
        return np.empty((0, 3)), np.empty((0, 3), dtype=np.int32)
    vertices = vtk_to_numpy(found.GetPoints().GetData()).astype(np.float64)
    triangles = vtk_to_numpy(found.GetPolys().GetConnectivityArray()).reshape(-1, 3).astype(np.int32)
    return vertices, triangles


def _settled(
    mesh: TriangleMesh, points: Floats, normals: Floats, spacing: float, overhang: float
) -> tuple[Floats, Bools]:
    """Vertices put onto the surface of their neighbours, and which of them have neighbours at all.

    A chord of a circle is perpendicular to the sum of the normals at its ends, so heights are taken along that sum:
    on a curved surface, too, they do not lean to the inside, as heights over a plane would. A vertex whose neighbours lie
    to one side of it lies beyond what was seen, and is none.
    """
    from scipy.spatial import cKDTree

    from juxtum.assemble import _surfacing_kernels as kernels

    tree, own = cKDTree(points), mesh.normals
    settled, near = np.array(mesh.points), np.zeros(len(mesh.points), dtype=bool)
    aside = max(ASIDE, ASIDE_SHARE * overhang) * spacing
    for start in range(0, len(settled), AT_ONCE):
        part = slice(start, min(start + AT_ONCE, len(settled)))
        here = mesh.points[part]
        distances, rows = tree.query(here, k=NEIGHBOURS, distance_upper_bound=1.8 * spacing, workers=-1)
        numbers = (spacing, AGREES, STIFF, MOST_TURNED, aside)
        settled[part], near[part] = kernels.settled(here, own[part], points, normals, rows, distances, numbers)
    beside = tree.query(settled, distance_upper_bound=overhang * spacing, workers=-1)[0]
    return settled, np.asarray(near & np.isfinite(beside))
