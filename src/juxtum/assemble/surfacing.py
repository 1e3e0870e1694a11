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
ROUGH = 4.0
"""A point farther from the plane of its neighbours than so many times the usual is left out."""


def make_surface(
    points: Floats, normals: Floats, spacing: float, progress: Progress | None = None, *, overhang: float = 1.8
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


def _steady(points: Floats, normals: Floats, spacing: float) -> tuple[Bools, Floats]:
    """Points (N,) that lie on a surface with their neighbours, no specks, no veils at edges; and calmer normals (N, 3)."""
    from scipy.spatial import cKDTree

    tree = cKDTree(points)
    distances, rows = tree.query(points, k=8, distance_upper_bound=3 * spacing, workers=-1)
    found = np.isfinite(distances[:, 1:])
    others = np.where(found, rows[:, 1:], np.arange(len(points))[:, None])
    heights = np.abs(np.einsum("nkd,nd->nk", points[others] - points[:, None], normals))
    agree = np.einsum("nkd,nd->nk", normals[others], normals) > 0.5
    usable = found & agree
    count = usable.sum(1)
    height = np.median(np.where(usable, heights, np.nan), axis=1)
    there = height[np.isfinite(height)]
    usual = float(np.median(there)) if len(there) else 0.0
    calm = unit(normals + np.einsum("nk,nkd->nd", usable, normals[others]))
    return np.asarray((count >= 4) & (np.nan_to_num(height, nan=np.inf) < max(ROUGH * usual, 0.02 * spacing))), calm


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
    on a curved surface, too, they do not lean to the inside, as heights over a plane would.
    """
    from scipy.spatial import cKDTree

    tree = cKDTree(points)
    distances, rows = tree.query(mesh.points, k=NEIGHBOURS, distance_upper_bound=1.8 * spacing, workers=-1)
    found = np.isfinite(distances)
    rows = np.where(found, rows, 0)
    own = mesh.normals
    agree = np.einsum("vkd,vd->vk", normals[rows], own) > 0.6
    weights = np.where(found & agree, np.exp(-((distances / spacing) ** 2)), 0.0)
    facing = unit(np.einsum("vk,vkd->vd", weights, normals[rows]))
    both = normals[rows] + facing[:, None]
    reach = np.einsum("vk,vkd,vd->v", weights, both, facing)
    offset = np.einsum("vk,vkd,vkd->v", weights, points[rows] - mesh.points[:, None], both) / np.maximum(reach, 1e-12)
    offset = np.where(np.abs(offset) < spacing, offset, 0.0)
    near = (weights > 0).sum(1) >= 3
    settled = mesh.points + facing * np.where(near, offset, 0.0)[:, None]
    beside = tree.query(settled, distance_upper_bound=overhang * spacing, workers=-1)[0]
    return settled, np.asarray(near & np.isfinite(beside))
