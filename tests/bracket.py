"""A drilled block with a step, as CAD and as a scan with defects: the plain part that tests of verdicts are made of."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
import trimesh

GRID = 1.0


@dataclass(frozen=True)
class Bracket:
    """What is wrong with the made part: a round bump (or dent) on top, a hole of 12 mm that is missing.

    Parameters
    ----------
    bump : float
        Height, mm.
    plain : bool
        Only the block, without step and holes.
    """

    bump: float = 0.0
    is_drilled: bool = True
    plain: bool = False
    noise: float = 0.01
    seed: int = 1


def bracket_nominal(path: Path, length: float = 60.0) -> Path:
    """Write the drawing as STEP."""
    from OCP.BRepPrimAPI import BRepPrimAPI_MakeCylinder
    from OCP.gp import gp_Ax2, gp_Dir, gp_Pnt
    from OCP.STEPControl import STEPControl_AsIs, STEPControl_Writer

    from juxtum.demo import solids

    def drill(x: float, y: float, radius: float) -> Any:
        return BRepPrimAPI_MakeCylinder(gp_Ax2(gp_Pnt(x, y, -5), gp_Dir(0, 0, 1)), radius, 40).Shape()

    block = solids.fused(solids.box((0, 0, 0), (length, 40, 12)), [solids.box((4, 3, 6), (14, 10, 16))])
    writer = STEPControl_Writer()
    writer.Transfer(solids.cut(block, [drill(44, 24, 6), drill(30, 8, 2.5)]), STEPControl_AsIs)
    writer.Write(str(path))
    return path


def _box(p: np.ndarray, low: tuple[float, ...], high: tuple[float, ...]) -> np.ndarray:
    q = np.abs(p - (np.array(low) + high) / 2) - (np.array(high) - low) / 2
    return np.linalg.norm(np.maximum(q, 0), axis=-1) + np.minimum(q.max(-1), 0)


def _field(p: np.ndarray, part: Bracket) -> np.ndarray:
    """Signed distance from the made part, near its surface."""
    if part.plain:
        return _box(p + np.array([30.0, 20.0, 12.5]), (0, 0, 0), (60, 40, 25))
    d = np.minimum(_box(p, (0, 0, 0), (60, 40, 12)), _box(p, (4, 3, 6), (18, 13, 22)))
    d = np.maximum(d, 2.5 - np.hypot(p[..., 0] - 30, p[..., 1] - 8))
    if part.is_drilled:
        d = np.maximum(d, 6 - np.hypot(p[..., 0] - 44, p[..., 1] - 24))
    away = np.hypot(p[..., 0] - 24, p[..., 1] - 28)
    if part.bump > 0:
        d = np.minimum(d, np.maximum(away - 4, np.maximum(p[..., 2] - 12 - part.bump, 6 - p[..., 2])))
    if part.bump < 0:
        d = np.maximum(d, -np.maximum(away - 4, 12 + part.bump - p[..., 2]))
    return d


def bracket_scan(part: Bracket) -> trimesh.Trimesh:
    """The whole made part as a scanner would mesh it: off a grid, edges rounded, with noise."""
    from vtkmodules.util.numpy_support import numpy_to_vtk, vtk_to_numpy
    from vtkmodules.vtkCommonDataModel import vtkImageData
    from vtkmodules.vtkFiltersCore import vtkFlyingEdges3D

    low, high = np.array([-33.3, -23.3, -15.3]), np.array([63.7, 43.7, 25.7])
    shape = np.ceil((high - low) / GRID).astype(int)
    grid = np.stack(np.meshgrid(*(low[k] + GRID * np.arange(shape[k]) for k in range(3)), indexing="ij"), -1)
    image = vtkImageData()
    image.SetDimensions(*(int(n) for n in shape))
    image.SetSpacing(GRID, GRID, GRID)
    image.SetOrigin(*low)
    image.GetPointData().SetScalars(
        numpy_to_vtk(np.ascontiguousarray(_field(grid, part).transpose(2, 1, 0)).ravel().astype(np.float32))
    )
    edges = vtkFlyingEdges3D()
    edges.SetInputData(image)
    edges.SetValue(0, 0.0)
    edges.ComputeNormalsOff()
    edges.Update()
    output = edges.GetOutput()
    points = vtk_to_numpy(output.GetPoints().GetData()).astype(float)
    mesh = trimesh.Trimesh(points, vtk_to_numpy(output.GetPolys().GetConnectivityArray()).reshape(-1, 3))
    if mesh.volume < 0:
        mesh.invert()
    mesh.vertices = mesh.vertices + np.random.default_rng(part.seed).normal(0, part.noise, mesh.vertices.shape)
    return mesh
