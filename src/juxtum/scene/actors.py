"""What the renderer draws for a layer, and how it is dressed."""

from __future__ import annotations

from enum import StrEnum
from typing import Any

from juxtum.look import Look, rgb
from juxtum.scene.dress import Style, hatching

OVERLAID = {
    "marked": -3.0,
    "going": -2.0,
    "invented": -1.0,
    "feature": -2.0,
    "strays": -2.5,
    "unseen": -0.5,
    "foreign": -1.5,
    "passed": -1.5,
}


class Shown(StrEnum):
    """How a layer is drawn."""

    SOLID = "solid"
    SEE_THROUGH = "see-through"
    HIDDEN = "hidden"


def surface_actor(name: str, data: Any, table: Any, look: Look) -> Any:
    """An actor for a surface; `table` colours its scalars, None where it has none."""
    from vtkmodules.vtkRenderingCore import vtkActor, vtkPolyDataMapper

    mapper = vtkPolyDataMapper()
    mapper.SetInputData(data)
    mapper.SetScalarVisibility(table is not None)
    if table is not None:
        mapper.SetLookupTable(table)
        mapper.UseLookupTableScalarRangeOn()
        mapper.InterpolateScalarsBeforeMappingOn()
    actor = vtkActor()
    actor.SetMapper(mapper)
    if data.GetPointData().GetTCoords() is not None:
        actor.SetTexture(hatching(look))
    if name in OVERLAID:
        # Lies in the same place as the nominal or the scan and has to win.
        mapper.SetResolveCoincidentTopologyToPolygonOffset()
        strength = OVERLAID[name]
        mapper.SetRelativeCoincidentTopologyPolygonOffsetParameters(strength, strength)
    return actor


def line_actor(data: Any) -> Any:
    """An actor for lines, always before the surface that they lie on."""
    from vtkmodules.vtkRenderingCore import vtkActor, vtkPolyDataMapper

    mapper = vtkPolyDataMapper()
    mapper.SetInputData(data)
    mapper.ScalarVisibilityOff()
    mapper.SetRelativeCoincidentTopologyLineOffsetParameters(0, -4)
    mapper.SetResolveCoincidentTopologyToPolygonOffset()
    actor = vtkActor()
    actor.SetMapper(mapper)
    actor.GetProperty().LightingOff()
    return actor


def paint(actor: Any, style: Style, shown: Shown, look: Look) -> None:
    """Dress an actor."""
    actor.SetVisibility(shown is not Shown.HIDDEN)
    surface = actor.GetProperty()
    surface.SetColor(*rgb(getattr(look, style.colour)))
    surface.SetOpacity(style.opacity * (0.25 if shown is Shown.SEE_THROUGH else 1.0))
    surface.SetLineWidth(style.width)
    surface.SetPointSize(2.5)
    surface.SetAmbient(style.ambient)
    surface.SetDiffuse(1 - style.ambient)
    surface.SetSpecular(0.0)
    if actor.GetTexture() is not None:
        actor.SetTexture(hatching(look))
        surface.SetColor(1, 1, 1)


def light(renderer: Any) -> None:
    """A main light from upper left behind the eye and a weaker one from the right, both carried by the camera."""
    from vtkmodules.vtkRenderingCore import vtkLight

    renderer.AutomaticLightCreationOff()
    for place, strength in (((-0.5, 0.8, 1.0), 0.82), ((0.9, 0.1, 0.7), 0.34)):
        lamp = vtkLight()
        lamp.SetLightTypeToCameraLight()
        lamp.SetPosition(*place)
        lamp.SetFocalPoint(0, 0, 0)
        lamp.SetIntensity(strength)
        renderer.AddLight(lamp)
