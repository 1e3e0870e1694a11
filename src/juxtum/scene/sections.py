"""Where a plane cuts surfaces: lines for the stage."""

from __future__ import annotations

from juxtum.geometry import Plane
from juxtum.scene.drawables import Lines, Surface


def section(what: Surface, plane: Plane) -> Lines | None:
    """The lines along which a plane cuts a surface, or None where it misses it."""
    from vtkmodules.vtkCommonDataModel import vtkPlane
    from vtkmodules.vtkFiltersCore import vtkPolyDataPlaneCutter

    cutter = vtkPolyDataPlaneCutter()
    knife = vtkPlane()
    knife.SetOrigin(*plane.point)
    knife.SetNormal(*plane.normal)
    cutter.SetInputData(what.full)
    cutter.SetPlane(knife)
    cutter.Update()
    lines = cutter.GetOutput()
    lines.GetPointData().SetScalars(None)
    return Lines(lines) if lines.GetNumberOfCells() else None
