"""The stage: what is drawn and from where, rendered off screen into arrays."""

from __future__ import annotations

from collections.abc import Iterator
from enum import IntEnum
from typing import Any, cast

import numpy as np
import numpy.typing as npt

from juxtum.geometry import Plane, RigidTransform
from juxtum.geometry.arrays import Bools, Floats
from juxtum.look import LIGHT, Look, rgb
from juxtum.scene.actors import Shown, light, line_actor, paint, surface_actor
from juxtum.scene.camera import Eye, View
from juxtum.scene.drawables import DENSE, Lines, Surface
from juxtum.scene.dress import UNCUT, UNDRAWN, style_of
from juxtum.scene.offscreen import make_window
from juxtum.scene.palette import MapScale, colours
from juxtum.scene.picking import Hit, first_seen

TABLE_SIZE = 512
"""How strongly layers come forward that lie in the same place as nominal or scan."""
NEAR = 0.45
"""When less of the part than this is seen, every triangle is drawn."""


class Detail(IntEnum):
    """How much of a large surface is drawn."""

    FULL = 0
    MIDDLE = 1
    LIGHT = 2


Actors = tuple[Any, ...]


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
        light(self._renderer)
        self._window.AddRenderer(self._renderer)
        self._buffer = vtkUnsignedCharArray()
        self._actors: dict[str, tuple[Actors, Actors, Actors]] = {}
        self._surfaces: dict[str, Surface] = {}
        self._held: dict[str, Surface | Lines] = {}
        self._shown: dict[str, Shown] = {}
        self._placements: dict[str, RigidTransform] = {}
        self._boxes: dict[str, Floats] = {}
        self._table = vtkLookupTable()
        self._table.SetNumberOfTableValues(TABLE_SIZE)
        self._clip: Any = None
        self.look = look
        self.scale = MapScale(-0.2, 0.2)
        self.eye = Eye(self._renderer.GetActiveCamera())
        self.set_look(look)

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
        for actor in self._all_of(name):
            self._renderer.RemoveActor(actor)
        for known in cast(
            list[dict[str, Any]], [self._actors, self._surfaces, self._placements, self._boxes, self._held]
        ):
            known.pop(name, None)
        if what is None:
            return
        self._held[name] = what
        self._placements[name] = placement or RigidTransform.identity()
        if isinstance(what, Surface):
            self._surfaces[name] = what
            table = self._table if what.has_scalars else None
            made = {
                id(pieces): tuple(surface_actor(name, data, table, self.look) for data in pieces)
                for pieces in (what.full, what.middle, what.light)
            }
            self._actors[name] = (made[id(what.full)], made[id(what.middle)], made[id(what.light)])
        else:
            line = (line_actor(what.data),)
            self._actors[name] = (line, line, line)
        for actor in self._all_of(name):
            if placement is not None:
                actor.SetUserMatrix(_vtk_matrix(placement))
            if self._clip is not None and name not in UNCUT:
                actor.GetMapper().AddClippingPlane(self._clip)
            self._renderer.AddActor(actor)
        self._paint(name)

    def _all_of(self, name: str) -> list[Any]:
        """The actors of a layer in every detail, each once."""
        return list({id(actor): actor for actors in self._actors.get(name, ()) for actor in actors}.values())

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

    def _paint(self, name: str) -> None:
        for actor in self._all_of(name):
            paint(actor, style_of(name), self.shown(name), self.look)

    def cut(self, plane: Plane | None) -> None:
        """Show only what lies behind a plane (against its normal), or everything."""
        from vtkmodules.vtkCommonDataModel import vtkPlane

        self._clip = None
        if plane is not None:
            self._clip = vtkPlane()
            self._clip.SetOrigin(*plane.point)
            self._clip.SetNormal(*(-plane.normal))
        for name, actor in ((n, a) for n in self._actors for a in self._all_of(n)):
            actor.GetMapper().RemoveAllClippingPlanes()
            if self._clip is not None and name not in UNCUT:
                actor.GetMapper().AddClippingPlane(self._clip)

    @property
    def bounds(self) -> Floats:
        """Lowest and highest corner (2, 3) of the surfaces shown."""
        boxes = [self._box_of(name) for name in self._surfaces if self.shown(name) is not Shown.HIDDEN]
        if not boxes:
            return np.array([[-50.0, -50, -50], [50, 50, 50]])
        return np.stack([np.min(boxes, axis=0)[0], np.max(boxes, axis=0)[1]])

    def _box_of(self, name: str) -> Floats:
        if name not in self._boxes:
            self._boxes[name] = _box(self._surfaces[name], self._placements[name])
        return self._boxes[name]

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
        actors = self._begin(width, height, detail)
        for actor in actors:
            actor.SetVisibility(True)
        self._window.Render()
        return self._read(width, height)

    def strokes(self, width: int, height: int) -> Iterator[npt.NDArray[np.uint8] | None]:
        """The same picture in strokes: None after each of them, at last the picture.

        Whoever draws something else in between has to let it go.
        """
        actors = self._begin(width, height, None)
        # What lies over the rest and lets it shine through comes last; edges are smoothed with it, once something is drawn.
        opaque = [actor for actor in actors if actor.GetProperty().GetOpacity() >= 1]
        rest = [actor for actor in actors if actor.GetProperty().GetOpacity() < 1]
        strokes = [*([actor] for actor in opaque[:-1]), [*opaque[-1:], *rest]]
        for number, stroke in enumerate(strokes):
            for actor in actors:
                actor.SetVisibility(actor in stroke)
            is_last = number == len(strokes) - 1
            self._renderer.SetPreserveColorBuffer(number > 0)
            self._renderer.SetPreserveDepthBuffer(number > 0)
            self._renderer.SetUseFXAA(is_last)
            self._window.Render()
            if not is_last:
                yield None
        self._renderer.SetPreserveColorBuffer(False)
        self._renderer.SetPreserveDepthBuffer(False)
        yield self._read(width, height)

    def _begin(self, width: int, height: int, detail: Detail | None) -> list[Any]:
        """Make ready for a picture: nothing is visible yet; what is to be drawn."""
        if tuple(self._window.GetSize()) != (width, height):
            self._window.SetSize(width, height)
        near = self.eye.height < NEAR * float(np.linalg.norm(np.ptp(self.bounds, axis=0)))
        detail = detail or (Detail.FULL if near else Detail.MIDDLE)
        self._renderer.SetUseFXAA(detail is not Detail.LIGHT)
        self._renderer.SetPreserveColorBuffer(False)
        self._renderer.SetPreserveDepthBuffer(False)
        drawn: list[Any] = []
        for name, actors in self._actors.items():
            visible = self.shown(name) is not Shown.HIDDEN and name not in UNDRAWN
            for actor in self._all_of(name):
                actor.SetVisibility(visible)
            drawn += actors[detail] if visible else ()
        self._renderer.ResetCameraClippingRange()
        for actor in (actor for name in self._actors for actor in self._all_of(name)):
            actor.SetVisibility(False)
        return drawn

    def _read(self, width: int, height: int) -> npt.NDArray[np.uint8]:
        from vtkmodules.util.numpy_support import vtk_to_numpy

        self._window.GetRGBACharPixelData(0, 0, width - 1, height - 1, 0, self._buffer)
        return np.ascontiguousarray(vtk_to_numpy(self._buffer).reshape(height, width, 4)[::-1])

    def project(self, places: npt.ArrayLike, width: float, height: float) -> Floats:
        """Screen places (N, 2) in pixels from the top left corner."""
        return self.eye.project(places, width, height)

    def pick(self, x: float, y: float, width: float, height: float, layers: tuple[str, ...]) -> Hit | None:
        """The nearest of some layers under a pixel, as far as they are shown and not cut away."""
        start, end = self.eye.ray(x, y, width, height)
        hits = [self._hit(name, start, end) for name in layers]
        found = [h for h in hits if h is not None]
        return min(found, key=lambda h: float(np.linalg.norm(h.place - start)), default=None)

    def _hit(self, name: str, start: Floats, end: Floats) -> Hit | None:
        held = self._surfaces.get(name)
        if held is None or held.caster is None or self.shown(name) is Shown.HIDDEN:
            return None
        placement, clip = self._placements[name], self._clip
        seen = first_seen(
            held.caster, placement, (start, end), lambda spot: clip is None or clip.EvaluateFunction(*spot) >= 0
        )
        return None if seen is None else Hit(name, *seen)

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


def _box(held: Surface, placement: RigidTransform) -> Floats:
    """Lowest and highest corner (2, 3) of a surface as it is shown; of a dense one without its outermost points."""
    moved = placement.apply(held.some_points)
    if len(held.points) < DENSE:
        return np.stack([moved.min(0), moved.max(0)])
    return np.stack(list(np.quantile(moved, [0.002, 0.998], axis=0)))
