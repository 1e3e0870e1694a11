"""The stage as a widget: it paints the off-screen picture, draws over it and turns mouse and keys into views."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QImage, QPainter, QPaintEvent, QPen, QResizeEvent
from PyQt6.QtWidgets import QWidget

from juxtum.desk import overlays
from juxtum.desk.cards import Cards
from juxtum.desk.handles import Handles
from juxtum.desk.legend import TOP, Legend
from juxtum.desk.overlays import Pin
from juxtum.desk.stage_fit import FittingView
from juxtum.desk.stage_pointer import Mode, StagePointer
from juxtum.desk.style import THEME, colour
from juxtum.desk.timers import timer
from juxtum.evaluate import Histogram, Reading
from juxtum.geometry import Plane, RigidTransform
from juxtum.geometry.arrays import Floats
from juxtum.scene.actors import Shown
from juxtum.scene.drawables import Lines, Surface
from juxtum.scene.palette import MapScale
from juxtum.scene.picking import Hit
from juxtum.scene.sections import section
from juxtum.scene.stage import Detail, Stage

SETTLE_MS = 160
SOFT_MS = 1200
MOVING_SCALE = 0.5
FIRST_SCALE = 0.65
"""Of a picture that answers at once, before the sharp one."""
PICKED_FROM = ("map", "scan", "nominal", "unseen", "ghost")


class StageView(FittingView):
    """Shows layers, lets the user look round and pick."""

    picked = pyqtSignal(object)
    hovered = pyqtSignal(object)
    outlined = pyqtSignal(object, object)
    limits_dragged = pyqtSignal(float, float)
    limits_chosen = pyqtSignal(float, float)
    card_clicked = pyqtSignal(str)
    resized = pyqtSignal()

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self.setMinimumSize(280, 200)
        self.setAccessibleName("Stage")
        self.stage = Stage(THEME.look)
        self.mode = Mode.LOOK
        self.legend: Legend | None = None
        self.cards = Cards()
        self.legend_top = TOP
        self.pieces: tuple[str, ...] = ()
        """Layers of several scans beside each other."""
        self.pins: list[Pin] = []
        self.handles: Handles | None = None
        self.caption = ""
        self._image: QImage | None = None
        self._pixels: np.ndarray | None = None
        self._dirty = True
        self._moving, self._is_sharp = False, False
        self._strokes: Iterator[np.ndarray | None] | None = None
        """The sharp picture that is being drawn."""
        self._next_stroke = timer(self, 0, self._draw_on, once=True)
        self._plane: Plane | None = None
        self._reading_visible = np.zeros(0, dtype=bool)
        self._settle = timer(self, SETTLE_MS, self._settled, once=True)
        self.pointer = StagePointer(self)

    # -- layers -----------------------------------------------------------------------------------------------

    def put(self, name: str, what: Surface | Lines | None, placement: RigidTransform | None = None) -> None:
        """Put a layer on the stage; see `Stage.put`."""
        if name.startswith("piece "):
            others = tuple(piece for piece in self.pieces if piece != name)
            self.pieces = others if what is None else (*others, name)
        self.stage.put(name, what, placement)
        self.redraw()

    def show_layer(self, name: str, shown: Shown) -> None:
        """Draw a layer solid, see-through or not at all."""
        self.stage.show(name, shown)
        self.redraw()

    def set_legend(
        self,
        scale: MapScale | None,
        area: Histogram | None,
        note: str = "",
        unit: str = "mm",
        *,
        is_fixed: bool = False,
    ) -> None:
        """Show the legend for a map, or none; of a fixed one the limits cannot be dragged."""
        self.legend = None if scale is None or area is None else Legend(scale, area, note, unit, is_fixed=is_fixed)
        if scale is not None:
            self.stage.set_scale(scale)
        self.redraw()

    def set_readings(self, readings: tuple[Reading, ...], selected: str = "") -> None:
        """Show readings as cards on leader lines."""
        self.cards.readings, self.cards.selected = readings, selected
        held = self.stage.layer("map")
        self.cards.part = np.empty((0, 3)) if held is None else held.some_points[::4]
        self.redraw()

    def set_pins(self, pins: list[Pin]) -> None:
        """Show picked places."""
        self.pins = pins
        self.update()

    def set_mode(self, mode: Mode, caption: str = "") -> None:
        """What clicking does now, and a line that says so."""
        self.mode, self.caption = mode, caption
        self.setCursor(Qt.CursorShape.ArrowCursor if mode is Mode.LOOK else Qt.CursorShape.CrossCursor)
        self.pointer.forget_outline()
        self.update()

    def set_section(self, plane: Plane | None) -> None:
        """Cut the part open and draw where the plane cuts nominal and scan."""
        self._plane = plane
        self.stage.cut(plane)
        for name in ("nominal", "map", "scan"):
            held = self.stage.layer(name)
            lines = section(held, plane) if plane is not None and held is not None and len(held.triangles) else None
            target = "section nominal" if name == "nominal" else "section scan"
            if name != "scan" or not self.stage.has("map"):
                self.stage.put(target, lines)
        self.redraw()

    @property
    def section_plane(self) -> Plane | None:
        """The plane that cuts the part open, if any."""
        return self._plane

    # -- views ------------------------------------------------------------------------------------------------

    def redraw(self) -> None:
        """Draw again at the next chance, lightly; sharp once nothing has changed for a moment."""
        self._is_sharp, self._strokes = False, None
        self._settle.start(max(self._settle.remainingTime(), SETTLE_MS))
        self._dirty = True
        self.update()

    def _device_size(self) -> tuple[int, int]:
        ratio = self.devicePixelRatioF() * (MOVING_SCALE if self._moving else 1.0 if self._is_sharp else FIRST_SCALE)
        return max(1, round(self.width() * ratio)), max(1, round(self.height() * ratio))

    def _render(self) -> None:
        width, height = self._device_size()
        self._show_picture(self.stage.render(width, height, Detail.LIGHT if self.is_moving else None))

    def _show_picture(self, pixels: np.ndarray) -> None:
        # The image shares the array's memory, so the array has to live as long as the image.
        self._pixels = pixels
        height, width = pixels.shape[:2]
        self._image = QImage(pixels.data, width, height, 4 * width, QImage.Format.Format_RGBX8888)  # type: ignore[call-overload]
        self._dirty = False
        if not self.is_moving:
            self._reading_visible = self.stage.visible(self.cards.places, PICKED_FROM)

    def _draw_on(self) -> None:
        """The next stroke of the sharp picture; in between the window answers."""
        pixels = None if self._strokes is None else next(self._strokes, None)
        if pixels is not None:
            self._strokes, self._is_sharp = None, True
            self._show_picture(pixels)
            self.update()
        elif self._strokes is not None:
            self._next_stroke.start()

    def start_moving(self) -> None:
        """The view turns: draw lightly until it rests."""
        self._moving = True
        self._settle.start(SETTLE_MS)
        self.redraw()

    def soften(self) -> None:
        """Draw again, lightly, since what is shown goes on changing; sharp once that has ended."""
        self.stay_soft()
        self.redraw()

    def stay_soft(self) -> None:
        """What is shown will change soon: no sharp picture yet."""
        self._moving, self._is_sharp, self._strokes = self._moving and self.pointer.is_down, False, None
        self._settle.start(SOFT_MS)

    def settle_soon(self) -> None:
        """Sharp again in a moment, unless it goes on moving."""
        self._settle.start()

    @property
    def is_moving(self) -> bool:
        """Whether what is drawn now is only a light picture."""
        return self._moving or not self._is_sharp

    def _settled(self) -> None:
        if self.pointer.is_down:
            self._settle.start()
            return
        self._moving = False
        if not self.isVisible():
            self._is_sharp = self._dirty = True
            return
        ratio = self.devicePixelRatioF()
        self._strokes = self.stage.strokes(max(1, round(self.width() * ratio)), max(1, round(self.height() * ratio)))
        self._next_stroke.start()

    def hit(self, here: QPointF) -> Hit | None:
        """What lies under a place of the widget."""
        return self.stage.pick(here.x(), here.y(), self.width(), self.height(), (*PICKED_FROM, *self.pieces))

    def project(self, places: Floats) -> Floats:
        """Places (N, 3) in widget coordinates (N, 2)."""
        return self.stage.project(places, self.width(), self.height())

    # -- painting ---------------------------------------------------------------------------------------------

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Picture, then everything that lies over it."""
        if self._dirty:
            self._render()
        painter = QPainter(self)
        painter.setRenderHints(QPainter.RenderHint.SmoothPixmapTransform | QPainter.RenderHint.Antialiasing)
        assert self._image is not None
        painter.drawImage(QRectF(self.rect()), self._image)
        self._paint_cards(painter)
        self._paint_pins(painter)
        if self.handles is not None:
            self.handles.paint(painter)
        overlays.paint_scale_bar(painter, self.height(), self.stage.eye.height / max(self.height(), 1))
        overlays.paint_axes(painter, self.stage.eye, round(self.width() - self._covered), self.height())
        if self.legend is not None:
            self.legend.place(self.width(), self.height(), self.legend_top)
            self.legend.paint(painter)
        if self.mode is not Mode.LOOK and self.caption:
            overlays.paint_caption(painter, self.caption, self.width(), self.height())
        self.pointer.paint_outline(painter)
        if self.hasFocus():
            painter.setPen(QPen(colour("accent"), 2))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(QRectF(self.rect()).adjusted(1, 1, -1, -1))
        painter.end()

    def _paint_cards(self, painter: QPainter) -> None:
        self.cards.paint(
            painter,
            self._reading_visible,
            (round(self.width() - self._covered), self.height()),
            self.project,
            self.stage.scale,
        )

    def _paint_pins(self, painter: QPainter) -> None:
        for pin in self.pins:
            x, y = self.project(pin.place[None])[0]
            overlays.paint_pin(painter, x, y, pin.text, pin.token)

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        """Draw at the new size."""
        self.redraw()
        self.resized.emit()

    def restyle(self) -> None:
        """Use the tokens in force."""
        self.stage.set_look(THEME.look)
        self.redraw()

    def release(self) -> None:
        """Free the renderer and stop the timers."""
        self._settle.stop()
        self._next_stroke.stop()
        self._strokes = None
        self.pointer.stop()
        self.stage.close()
