"""The stage: what is drawn and from where, rendered off screen into arrays."""

from __future__ import annotations

from dataclasses import dataclass
from enum import IntEnum, StrEnum
from typing import Any

import numpy as np
import numpy.typing as npt

from juxtum.geometry import Plane, RigidTransform
from juxtum.geometry.arrays import Bools, Floats
from juxtum.look import LIGHT, Look, rgb
from juxtum.scene.camera import Eye, View
from juxtum.scene.drawables import DENSE, Lines, Surface
from juxtum.scene.dress import STYLES, UNCUT, UNDRAWN, Style, hatching
from juxtum.scene.offscreen import make_window
from juxtum.scene.palette import MapScale, colours

TABLE_SIZE = 512
OVERLAID = {"marked": -3.0, "unseen": -0.5, "foreign": -1.5, "passed": -1.5}
"""How strongly layers come forward that lie in the same place as nominal or scan."""
NEAR = 0.45
"""When less of the part than this is seen, every triangle is drawn."""


class Shown(StrEnum):
    """How a layer is drawn."""

    SOLID = "solid"
    SEE_THROUGH = "see-through"
    HIDDEN = "hidden"


class Detail(IntEnum):
    """How much of a large surface is drawn."""

    FULL = 0
    MIDDLE = 1
    LIGHT = 2


@dataclass(frozen=True, eq=False)
class Hit:
    """Where a line of sight met a layer."""

    layer: str
    place: Floats
    triangle: int


class Stage:
    """Layers of surfaces and lines, a camera, and pictures of them.

    Parameters
    ----------
    look : Look
    """

    def __init__(self, look: Look = LIGHT) -> None:
        from vtkmodules.vtkCommonCore import vtkLookupTable, vtkUnsignedCharArray
        from vtkmodules.vtkRenderingCore import vtkRenderer

        self._window = make_window()
        self._renderer = vtkRenderer()
        self._renderer.GradientBackgroundOn()
        self._light()
        self._window.AddRenderer(self._renderer)
        self._buffer = vtkUnsignedCharArray()
        self._actors: dict[str, tuple[Any, Any, Any]] = {}
        self._surfaces: dict[str, Surface] = {}
        self._held: dict[str, Surface | Lines] = {}
        self._shown: dict[str, Shown] = {}
        self._placements: dict[str, RigidTransform] = {}
        self._table = vtkLookupTable()
        self._table.SetNumberOfTableValues(TABLE_SIZE)
        self._clip: Any = None
        self.look = look
        self.scale = MapScale(-0.2, 0.2)
        self.eye = Eye(self._renderer.GetActiveCamera())
        self.set_look(look)

    def _light(self) -> None:
        """A main light from upper left behind the eye and a weaker one from the right, both carried by the camera."""
        from vtkmodules.vtkRenderingCore import vtkLight

        self._renderer.AutomaticLightCreationOff()
        for place, strength in (((-0.5, 0.8, 1.0), 0.82), ((0.9, 0.1, 0.7), 0.34)):
            light = vtkLight()
            light.SetLightTypeToCameraLight()
            light.SetPosition(*place)
            light.SetFocalPoint(0, 0, 0)
            light.SetIntensity(strength)
            self._renderer.AddLight(light)

    def set_look(self, look: Look) -> None:
        """Use other tokens."""
        self.look = look
        self._renderer.SetBackground(*rgb(look.stage_bottom))
        self._renderer.SetBackground2(*rgb(look.stage_top))
        self.set_scale(self.scale)
        for name in self._actors:
            self._paint(name)

    def set_scale(self, scale: MapScale) -> None:
        """Recolour the maps for other limits."""
        self.scale = scale
        low, high = scale.ends
        self._table.SetRange(low, high)
        values = low + (np.arange(TABLE_SIZE) + 0.5) / TABLE_SIZE * (high - low)
        for index, colour in enumerate(colours(values, scale, self.look)):
            self._table.SetTableValue(index, (*(float(c) for c in colour), 1.0))
        self._table.SetNanColor(*rgb(self.look.hatch), 1.0)
        self._table.Modified()

    def put(self, name: str, what: Surface | Lines | None, placement: RigidTransform | None = None) -> None:
        """Put a layer on the stage, in place of an older one of the same name; None takes it off.

        Parameters
        ----------
        placement : RigidTransform, optional
            Where it is shown, without its points being moved.
        """
        if what is not None and self._held.get(name) is what and self._same_place(name, placement):
            return
        for actor in self._actors.pop(name, ()):
            self._renderer.RemoveActor(actor)
        self._surfaces.pop(name, None)
        self._placements.pop(name, None)
        self._held.pop(name, None)
        if what is None:
            return
        self._held[name] = what
        self._placements[name] = placement or RigidTransform.identity()
        if isinstance(what, Surface):
            self._surfaces[name] = what
            made = {id(data): self._surface_actor(name, data, what) for data in (what.full, what.middle, what.light)}
            pair = (made[id(what.full)], made[id(what.middle)], made[id(what.light)])
        else:
            line = self._line_actor(what.data)
            pair = (line, line, line)
        self._actors[name] = pair
        for actor in set(pair):
            if placement is not None:
                actor.SetUserMatrix(_vtk_matrix(placement))
            if self._clip is not None and name not in UNCUT:
                actor.GetMapper().AddClippingPlane(self._clip)
            self._renderer.AddActor(actor)
        self._paint(name)

    def _same_place(self, name: str, placement: RigidTransform | None) -> bool:
        wanted = placement or RigidTransform.identity()
        return bool(np.array_equal(self._placements[name].matrix, wanted.matrix))

    def layer(self, name: str) -> Surface | None:
        """The surface of a layer that is shown, or None."""
        return self._surfaces.get(name) if self.shown(name) is not Shown.HIDDEN else None

    def has(self, name: str) -> bool:
        """Whether a layer is there."""
        return name in self._actors

    def show(self, name: str, shown: Shown) -> None:
        """Draw a layer solid, see-through or not at all."""
        self._shown[name] = shown
        if name in self._actors:
            self._paint(name)

    def shown(self, name: str) -> Shown:
        """How a layer is drawn."""
        return self._shown.get(name, Shown.SOLID)

    def _surface_actor(self, name: str, data: Any, what: Surface) -> Any:
        from vtkmodules.vtkRenderingCore import vtkActor, vtkPolyDataMapper

        mapper = vtkPolyDataMapper()
        mapper.SetInputData(data)
        mapper.SetScalarVisibility(what.has_scalars)
        if what.has_scalars:
            mapper.SetLookupTable(self._table)
            mapper.UseLookupTableScalarRangeOn()
            mapper.InterpolateScalarsBeforeMappingOn()
        actor = vtkActor()
        actor.SetMapper(mapper)
        if data.GetPointData().GetTCoords() is not None:
            actor.SetTexture(hatching(self.look))
        if name in OVERLAID:
            # Lies in the same place as the nominal or the scan and has to win.
            mapper.SetResolveCoincidentTopologyToPolygonOffset()
            strength = OVERLAID[name]
            mapper.SetRelativeCoincidentTopologyPolygonOffsetParameters(strength, strength)
        return actor

    @staticmethod
    def _line_actor(data: Any) -> Any:
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

    def _paint(self, name: str) -> None:
        shown = self.shown(name)
        style = STYLES.get(name, Style("data"))
        for actor in self._actors[name]:
            actor.SetVisibility(shown is not Shown.HIDDEN)
            paint = actor.GetProperty()
            paint.SetColor(*rgb(getattr(self.look, style.colour)))
            paint.SetOpacity(style.opacity * (0.25 if shown is Shown.SEE_THROUGH else 1.0))
            paint.SetLineWidth(style.width)
            paint.SetPointSize(2.5)
            paint.SetAmbient(style.ambient)
            paint.SetDiffuse(1 - style.ambient)
            paint.SetSpecular(0.0)
            if actor.GetTexture() is not None:
                actor.SetTexture(hatching(self.look))
                paint.SetColor(1, 1, 1)

    def cut(self, plane: Plane | None) -> None:
        """Show only what lies behind a plane (against its normal), or everything."""
        from vtkmodules.vtkCommonDataModel import vtkPlane

        self._clip = None
        if plane is not None:
            self._clip = vtkPlane()
            self._clip.SetOrigin(*plane.point)
            self._clip.SetNormal(*(-plane.normal))
        for name, pair in self._actors.items():
            for actor in pair:
                mapper = actor.GetMapper()
                mapper.RemoveAllClippingPlanes()
                if self._clip is not None and name not in UNCUT:
                    mapper.AddClippingPlane(self._clip)

    @property
    def bounds(self) -> Floats:
        """Lowest and highest corner (2, 3) of the surfaces shown."""
        boxes = [self._box(name, s) for name, s in self._surfaces.items() if self.shown(name) is not Shown.HIDDEN]
        if not boxes:
            return np.array([[-50.0, -50, -50], [50, 50, 50]])
        stacked = np.array(boxes)
        return np.stack([stacked[:, 0].min(0), stacked[:, 1].max(0)])

    def _box(self, name: str, held: Surface) -> Floats:
        moved = self._placements[name].apply(held.some_points)
        if len(held.points) < DENSE:
            return np.stack([moved.min(0), moved.max(0)])
        return np.stack(list(np.quantile(moved, [0.002, 0.998], axis=0)))

    def look_from(self, view: View, aspect: float) -> None:
        """A preset view that shows everything."""
        self.eye.preset(view, self.bounds, aspect)

    def render(self, width: int, height: int, detail: Detail | None = None) -> npt.NDArray[np.uint8]:
        """A picture (height, width, 4) in RGBA.

        Parameters
        ----------
        detail : Detail, optional
            How much of large surfaces is drawn; by how near the eye is when not given.
        """
        from vtkmodules.util.numpy_support import vtk_to_numpy

        if tuple(self._window.GetSize()) != (width, height):
            self._window.SetSize(width, height)
        near = self.eye.height < NEAR * float(np.linalg.norm(np.ptp(self.bounds, axis=0)))
        detail = detail or (Detail.FULL if near else Detail.MIDDLE)
        self._renderer.SetUseFXAA(detail is not Detail.LIGHT)
        for name, actors in self._actors.items():
            visible = self.shown(name) is not Shown.HIDDEN and name not in UNDRAWN
            for actor in actors:
                actor.SetVisibility(visible and actor is actors[detail])
        self._renderer.ResetCameraClippingRange()
        self._window.Render()
        self._window.GetRGBACharPixelData(0, 0, width - 1, height - 1, 0, self._buffer)
        return np.ascontiguousarray(vtk_to_numpy(self._buffer).reshape(height, width, 4)[::-1])

    def matrix(self, aspect: float) -> Floats:
        """From part coordinates to the screen (4, 4): x and y from -1 to 1."""
        m = self.eye.camera.GetCompositeProjectionTransformMatrix(aspect, -1, 1)
        return np.array([[m.GetElement(i, j) for j in range(4)] for i in range(4)])

    def project(self, places: npt.ArrayLike, width: float, height: float) -> Floats:
        """Screen places (N, 2) in pixels from the top left corner."""
        points = np.atleast_2d(np.asarray(places, dtype=np.float64))
        q = np.column_stack([points, np.ones(len(points))]) @ self.matrix(width / max(height, 1)).T
        q = q[:, :2] / q[:, 3:]
        return np.column_stack([(q[:, 0] + 1) / 2 * width, (1 - q[:, 1]) / 2 * height])

    def ray(self, x: float, y: float, width: float, height: float) -> tuple[Floats, Floats]:
        """Two ends of the line of sight through a pixel."""
        inverse = np.linalg.inv(self.matrix(width / max(height, 1)))
        ends = [inverse @ np.array([2 * x / width - 1, 1 - 2 * y / height, z, 1.0]) for z in (-1.0, 1.0)]
        return ends[0][:3] / ends[0][3], ends[1][:3] / ends[1][3]

    def pick(self, x: float, y: float, width: float, height: float, layers: tuple[str, ...]) -> Hit | None:
        """The nearest of some layers under a pixel, as far as they are shown and not cut away."""
        start, end = self.ray(x, y, width, height)
        hits = [self._hit(name, start, end) for name in layers]
        found = [h for h in hits if h is not None]
        return min(found, key=lambda h: float(np.linalg.norm(h.place - start)), default=None)

    def _hit(self, name: str, start: Floats, end: Floats) -> Hit | None:
        held = self._surfaces.get(name)
        if held is None or held.caster is None or self.shown(name) is Shown.HIDDEN:
            return None
        placement = self._placements[name]
        start, end = placement.inverse.apply(np.stack([start, end]))
        reach = float(np.linalg.norm(end - start))
        direction = (end - start) / reach
        gone = 0.0
        for _ in range(16):
            found = held.caster.first_hit(start + gone * direction, direction)
            if found is None:
                return None
            gone = float((found[1] - start) @ direction)
            if gone > reach:
                return None
            spot = placement.apply(found[1][None])[0]
            if self._clip is None or self._clip.EvaluateFunction(*spot) >= 0:
                return Hit(name, spot, found[0])
            gone += 1e-3
        return None

    def visible(self, places: Floats, layers: tuple[str, ...], clearance: float = 1.5) -> Bools:
        """Which places (N, 3) no layer hides from the eye."""
        towards = self.eye.towards
        far = self.eye.camera.GetDistance()
        result = np.ones(len(places), dtype=bool)
        for index, place in enumerate(places):
            start, end = place + towards * clearance, place + towards * far
            result[index] = all(self._hit(name, start, end) is None for name in layers)
        return result

    def close(self) -> None:
        """Free the renderer."""
        self._window.Finalize()


def _vtk_matrix(transform: RigidTransform) -> Any:
    from vtkmodules.vtkCommonMath import vtkMatrix4x4

    matrix = vtkMatrix4x4()
    matrix.DeepCopy(tuple(float(v) for v in transform.matrix.ravel()))
    return matrix
