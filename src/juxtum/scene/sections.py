"""Where a plane cuts surfaces: lines for the stage."""

from __future__ import annotations

from juxtum.geometry import Plane
from juxtum.scene.drawables import Lines, Surface


def section(what: Surface, plane: Plane) -> Lines | None:
    """The lines along which a plane cuts a surface, or None where it misses it."""
    from vtkmodules.vtkCommonDataModel import vtkPlane
    from vtkmodules.vtkFiltersCore import vtkAppendPolyData, vtkPolyDataPlaneCutter

    knife = vtkPlane()
    knife.SetOrigin(*plane.point)
    knife.SetNormal(*plane.normal)
    together = vtkAppendPolyData()
    for piece in what.full:
        cutter = vtkPolyDataPlaneCutter()
        cutter.SetInputData(piece)
        cutter.SetPlane(knife)
        cutter.Update()
        together.AddInputData(cutter.GetOutput())
    together.Update()
    lines = together.GetOutput()
    lines.GetPointData().SetScalars(None)
    return Lines(lines) if lines.GetNumberOfCells() else None
