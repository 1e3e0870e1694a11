"""What a capture shows on the part: hatched where nothing is yet, one colour for one pass, another for enough."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from juxtum.geometry.arrays import Floats, Ints, frozen, unit
from juxtum.nominal import Nominal
from juxtum.scene.drawables import Surface, polydata
from juxtum.scene.proxy import clustered

HATCH_PITCH = 3.0
LAYERS = ("cover none", "cover once", "cover enough", "cover other")
DIVISIONS = 84
"""Of the part's diagonal: how fine the skin is."""


@dataclass(frozen=True, eq=False)
class Skin:
    """The part in small triangles, each of which belongs to a cell of the coverage or to none (-1)."""

    corners: Floats
    normals: Floats
    owners: Ints


def make_skin(nominal: Nominal, places: Floats, normals: Floats, faces: Ints, size: float) -> Skin:
    """Few enough triangles to be drawn while points come, with the cell (C,) that each belongs to.

    Parameters
    ----------
    places, normals : array (C, 3)
        Of the cells.
    faces : array (C,)
        Numbers of their faces; a triangle of any other face belongs to none.
    size : float
        Of a cell, mm.
    """
    from scipy.spatial import cKDTree

    samples = nominal.samples
    own = np.repeat(samples.mesh.triangle_normals, 3, axis=0)
    points, triangles, facing, _ = clustered(
        samples.mesh.points, samples.mesh.triangles, own, np.zeros(len(own)), DIVISIONS
    )
    corners = points[triangles]
    directions = unit(facing[triangles].sum(1))
    # The normal counts as a direction of its own, so that both sides of a thin wall stay apart.
    tree = cKDTree(np.column_stack([places, 2 * size * normals]))
    owners = tree.query(np.column_stack([corners.mean(1), 2 * size * directions]))[1].astype(np.int64)
    every = cKDTree(np.column_stack([samples.centres, 2 * size * samples.mesh.triangle_normals]))
    face = samples.faces[every.query(np.column_stack([corners.mean(1), 2 * size * directions]))[1]] + 1
    owners[~np.isin(face, np.unique(faces))] = -1
    return Skin(frozen(corners), frozen(facing[triangles]), frozen(owners, np.int64))


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
    data = polydata(corners, triangles, skin.normals[rows].reshape(-1, 3), None)
    if hatched:
        along = corners @ np.array([1.0, 1.0, 1.0]) / (np.sqrt(3) * HATCH_PITCH)
        data.GetPointData().SetTCoords(
            numpy_to_vtk(np.column_stack([along, np.zeros(len(along))]).astype(np.float32), deep=True)
        )
    return Surface(corners, triangles, (data,), (data,), (data,), None, False)
