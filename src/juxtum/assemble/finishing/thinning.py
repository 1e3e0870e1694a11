"""Thinning: fewer triangles, held against the surface before, both ways, and refused beyond a bound."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from juxtum.assemble.finishing.worked import Worked
from juxtum.errors import InputError
from juxtum.geometry import TriangleMesh
from juxtum.geometry.arrays import Floats, Ints
from juxtum.geometry.topology import sound_triangles
from juxtum.progress import Progress, silent

FEWEST = 20
TRIES = 7
NO_GAIN = 0.97
"""Leaving more than this share of the triangles is no thinning."""


@dataclass(frozen=True, eq=False)
class _Try:
    mesh: TriangleMesh
    moved: Floats
    largest: float


def thin(mesh: TriangleMesh, bound: float, triangles: int | None = None, progress: Progress | None = None) -> Worked:
    """Thin a surface to a number of triangles, or as far as a bound lets it.

    Edges are drawn together where that costs least (quadric errors, Garland and Heckbert 1997); then the distance of
    every old point from the new surface and of every new point from the old one is measured.

    Parameters
    ----------
    bound : float
        The largest displacement allowed, mm.
    triangles : int, optional
        How many are wanted; as few as the bound lets there be when not given.

    Raises
    ------
    InputError
        When the number wanted cannot be had within the bound.
    """
    progress = progress or silent()
    if not bound > 0:
        raise InputError("thinning needs a bound over 0 mm", "thinning", "Choose another")
    total = len(mesh.triangles)
    if triangles is not None:
        return _to_number(mesh, bound, triangles, progress)
    if total <= 2 * FEWEST:
        return Worked(mesh, (f"nothing was thinned: there are only {total} triangles",))
    best = _as_far_as(mesh, bound, progress)
    if best is None or len(best.mesh.triangles) > NO_GAIN * total:
        return Worked(mesh, (f"nothing was thinned: fewer triangles would move the surface by more than {bound:g} mm",))
    return _told(best, total)


def _as_far_as(mesh: TriangleMesh, bound: float, progress: Progress) -> _Try | None:
    """The fewest triangles that a bound allows, by halving their number again and again; None where none are allowed."""
    total = len(mesh.triangles)
    best: _Try | None = None
    few, many = max(FEWEST, total // 400), total
    for number in range(TRIES):
        progress.phase("thinning", number / TRIES)
        wanted = int(np.sqrt(few * many))
        made = _thinned(mesh, wanted)
        if made.largest <= bound:
            best, many = made, min(wanted, len(made.mesh.triangles))
        else:
            few = wanted
        if many <= FEWEST or few >= NO_GAIN * many:
            break
    return best


def _to_number(mesh: TriangleMesh, bound: float, wanted: int, progress: Progress) -> Worked:
    total = len(mesh.triangles)
    if wanted < FEWEST:
        raise InputError(f"{wanted} triangles are too few", "thinning", f"Choose {FEWEST} or more")
    if wanted >= total:
        return Worked(mesh, (f"nothing was thinned: there are only {total} triangles",))
    progress.phase("thinning", 0.2)
    made = _thinned(mesh, wanted)
    if made.largest > bound:
        what = f"{wanted} triangles would move the surface by up to {made.largest:.4f} mm, more than {bound:g} mm"
        raise InputError(what, "thinning", "Leave more triangles, or allow a larger displacement")
    return _told(made, total)


def _told(made: _Try, total: int) -> Worked:
    left = len(made.mesh.triangles)
    words = f"the surface was thinned from {total} to {left} triangles: no place of it moved by more than {made.largest:.4f} mm"
    return Worked(made.mesh, (words,), made.moved, made.largest)


def _thinned(mesh: TriangleMesh, wanted: int) -> _Try:
    made = _decimated(mesh, wanted)
    if mesh.invented is not None:
        near = mesh.tree.query(made.corners.mean(1)).triangles
        made = TriangleMesh(made.points, made.triangles, mesh.invented[near])
    there, back = mesh.tree.query(made.points), made.tree.query(mesh.points)
    signed = _signed(mesh, made.points, there.triangles, there.distances)
    return _Try(made, signed, float(max(there.distances.max(), back.distances.max())))


def _decimated(mesh: TriangleMesh, wanted: int) -> TriangleMesh:
    """VTK's quadric decimation: of those at hand the one that keeps open borders where they are."""
    from vtkmodules.util.numpy_support import numpy_to_vtk, numpy_to_vtkIdTypeArray, vtk_to_numpy
    from vtkmodules.vtkCommonCore import vtkPoints
    from vtkmodules.vtkCommonDataModel import vtkCellArray, vtkPolyData
    from vtkmodules.vtkFiltersCore import vtkQuadricDecimation

    middle, count = mesh.bounds.mean(0), len(mesh.triangles)
    places, cells, data = vtkPoints(), vtkCellArray(), vtkPolyData()
    places.SetDataTypeToDouble()
    places.SetData(numpy_to_vtk(np.ascontiguousarray(mesh.points - middle), deep=True))
    offsets = numpy_to_vtkIdTypeArray(np.arange(0, 3 * count + 1, 3, dtype=np.int64), deep=True)
    cells.SetData(offsets, numpy_to_vtkIdTypeArray(mesh.triangles.astype(np.int64).ravel(), deep=True))
    data.SetPoints(places)
    data.SetPolys(cells)
    thinner = vtkQuadricDecimation()
    thinner.SetInputData(data)
    thinner.SetTargetReduction(1 - wanted / count)
    thinner.VolumePreservationOn()
    thinner.Update()
    found = thinner.GetOutput()
    points = vtk_to_numpy(found.GetPoints().GetData()).astype(np.float64)
    triangles = vtk_to_numpy(found.GetPolys().GetConnectivityArray()).reshape(-1, 3)
    sound = sound_triangles(points, triangles)
    return TriangleMesh(points + middle, triangles[sound])


def _signed(mesh: TriangleMesh, places: Floats, nearest: Ints, distances: Floats) -> Floats:
    rows = nearest.astype(np.int64)
    off = places - mesh.points[mesh.triangles[rows, 0]]
    outside = np.einsum("nd,nd->n", off, mesh.triangle_normals[rows]) >= 0
    return np.where(outside, distances, -distances)
