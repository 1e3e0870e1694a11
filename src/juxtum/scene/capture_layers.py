"""What a capture shows on the part: hatched where nothing is yet, one colour for one pass, another for enough."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from juxtum.geometry import TriangleMesh
from juxtum.geometry.arrays import Floats, Ints, frozen
from juxtum.nominal import Nominal
from juxtum.nominal.model import sample_surface
from juxtum.scene.drawables import Surface, plain_surface, polydata

HATCH_PITCH = 3.0
LAYERS = ("cover none", "cover once", "cover enough", "cover other")
FINENESS = 90.0


@dataclass(frozen=True, eq=False)
class Skin:
    """The part in small triangles, each of which belongs to a cell of the coverage or to none (-1)."""

    corners: Floats
    owners: Ints


def make_skin(nominal: Nominal, places: Floats, normals: Floats, faces: Ints, size: float) -> Skin:
    """Triangles fine enough to show cells (C, 3), on faces (C,) by number, of a size in mm."""
    from scipy.spatial import cKDTree

    samples = sample_surface(nominal.mesh, nominal.triangle_faces, max(1.5 * size, nominal.diagonal / FINENESS))
    owners = np.full(len(samples.faces), -1, dtype=np.int64)
    facing = samples.mesh.triangle_normals
    for face in np.unique(faces):
        mine, there = np.flatnonzero(faces == face), np.flatnonzero(samples.faces == face - 1)
        if len(there):
            # The normal counts as a direction of its own, so that both sides of a thin wall stay apart.
            tree = cKDTree(np.column_stack([places[mine], size * normals[mine]]))
            owners[there] = mine[tree.query(np.column_stack([samples.centres[there], size * facing[there]]))[1]]
    return Skin(frozen(samples.mesh.corners), frozen(owners, np.int64))


def coverage_surfaces(skin: Skin, seen: Ints) -> dict[str, Surface | None]:
    """Layers of the stage for what there is of each cell (C,)."""
    state = np.where(skin.owners < 0, 3, seen[np.maximum(skin.owners, 0)])
    return {name: _part(skin, state == k, hatched=k == 0) for k, name in enumerate(LAYERS)}


def _part(skin: Skin, rows: Ints, *, hatched: bool) -> Surface | None:
    from vtkmodules.util.numpy_support import numpy_to_vtk

    if not rows.any():
        return None
    corners = skin.corners[rows].reshape(-1, 3)
    triangles = np.arange(len(corners)).reshape(-1, 3)
    if not hatched:
        return plain_surface(TriangleMesh(corners, triangles))
    mesh = TriangleMesh(corners, triangles)
    data = polydata(corners, triangles, np.repeat(mesh.triangle_normals, 3, axis=0), None)
    along = corners @ np.array([1.0, 1.0, 1.0]) / (np.sqrt(3) * HATCH_PITCH)
    data.GetPointData().SetTCoords(numpy_to_vtk(np.column_stack([along, np.zeros(len(along))]).astype(np.float32), deep=True))
    return Surface(corners, triangles, data, data, data, None, False)
