"""The stage as a widget: it paints the off-screen picture, draws over it and turns mouse and keys into views."""

from __future__ import annotations

from enum import Enum, auto

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QImage, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF, QResizeEvent, QWheelEvent
from PyQt6.QtWidgets import QWidget

from juxtum.desk import overlays
from juxtum.desk.cards import Cards
from juxtum.desk.handles import Handles
from juxtum.desk.legend import TOP, Legend
from juxtum.desk.overlays import Pin
from juxtum.desk.stage_fit import FittingView
from juxtum.desk.style import THEME, colour
from juxtum.desk.timers import timer
from juxtum.evaluate import Histogram, Reading
from juxtum.geometry import Plane, RigidTransform
from juxtum.geometry.arrays import Floats
from juxtum.scene.drawables import Lines, Surface
from juxtum.scene.palette import MapScale
from juxtum.scene.sections import section
from juxtum.scene.stage import Detail, Hit, Shown, Stage

SETTLE_MS = 160
SOFT_MS = 1200
MOVING_SCALE = 0.6
PICKED_FROM = ("map", "scan", "nominal", "unseen", "ghost")


class Mode(Enum):
    """What a click or a stroke on the stage does."""

    LOOK = auto()
    PICK = auto()
    OUTLINE = auto()


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
        self.pins: list[Pin] = []
        self.handles: Handles | None = None
        self._holding = False
        self.caption = ""
        self._outline: list[QPointF] = []
        self._image: QImage | None = None
        self._pixels: np.ndarray | None = None
        self._dirty = True
        self._moving = False
        self._press: QPointF | None = None
        self._last = QPointF()
        self._dragged_limit: str | None = None
        self._plane: Plane | None = None
        self._reading_visible = np.zeros(0, dtype=bool)
        self._settle = timer(self, SETTLE_MS, self._settled, once=True)
        self._hover = timer(self, 40, self._look_under_pointer, once=True)

    # -- layers -----------------------------------------------------------------------------------------------

    def put(self, name: str, what: Surface | Lines | None, placement: RigidTransform | None = None) -> None:
        """Put a layer on the stage; see `Stage.put`."""
        self.stage.put(name, what, placement)
        self.redraw()

    def show_layer(self, name: str, shown: Shown) -> None:
        """Draw a layer solid, see-through or not at all."""
        self.stage.show(name, shown)
        self.redraw()

    def set_legend(self, scale: MapScale | None, area: Histogram | None, note: str = "") -> None:
        """Show the legend for a map, or none."""
        self.legend = None if scale is None or area is None else Legend(scale, area, note)
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
        shapes = {Mode.LOOK: Qt.CursorShape.ArrowCursor, Mode.PICK: Qt.CursorShape.CrossCursor, Mode.OUTLINE: Qt.CursorShape.CrossCursor}
        self.setCursor(shapes[mode])
        self._outline = []
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
        """Draw again at the next chance."""
        self._dirty = True
        self.update()

    def _device_size(self) -> tuple[int, int]:
        ratio = self.devicePixelRatioF() * (MOVING_SCALE if self._moving else 1.0)
        return max(1, round(self.width() * ratio)), max(1, round(self.height() * ratio))

    def _render(self) -> None:
        width, height = self._device_size()
        # The image shares the array's memory, so the array has to live as long as the image.
        self._pixels = self.stage.render(width, height, Detail.LIGHT if self._moving else None)
        self._image = QImage(self._pixels.data, width, height, 4 * width, QImage.Format.Format_RGBX8888)  # type: ignore[call-overload]
        self._dirty = False
        if not self._moving:
            self._reading_visible = self.stage.visible(self.cards.places, PICKED_FROM)

    def _start_moving(self) -> None:
        self._moving = True
        self._settle.start(SETTLE_MS)
        self.redraw()

    def soften(self) -> None:
        """Draw again, lightly, since what is shown goes on changing; sharp once that has ended."""
        self.stay_soft()
        self.redraw()

    def stay_soft(self) -> None:
        """What is shown will change soon: no sharp picture yet."""
        self._moving = True
        self._settle.start(SOFT_MS)

    def _settled(self) -> None:
        if self._press is not None:
            self._settle.start()
            return
        self._moving = False
        self.redraw()

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
        if self._outline:
            painter.setPen(QPen(colour("accent"), 1.6))
            wash = colour("accent")
            wash.setAlpha(40)
            painter.setBrush(wash)
            painter.drawPolygon(QPolygonF(self._outline))
        if self.hasFocus():
            painter.setPen(QPen(colour("accent"), 2))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(QRectF(self.rect()).adjusted(1, 1, -1, -1))
        painter.end()

    def _paint_cards(self, painter: QPainter) -> None:
        self.cards.paint(painter, self._reading_visible, (round(self.width() - self._covered), self.height()), self.project, self.stage.scale)

    def _paint_pins(self, painter: QPainter) -> None:
        for pin in self.pins:
            x, y = self.project(pin.place[None])[0]
            overlays.paint_pin(painter, x, y, pin.text, pin.token)

    # -- mouse and keys ---------------------------------------------------------------------------------------

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Take hold: of a legend handle, an outline or the view."""
        assert event is not None
        self._press = self._last = event.position()
        if event.button() is Qt.MouseButton.LeftButton:
            self._dragged_limit = self.legend.handle_at(event.position()) if self.legend else None
            self._holding = self.handles is not None and self.handles.grab(event.position())
            if self._dragged_limit is None and self.mode is Mode.OUTLINE:
                self._outline = [event.position()]

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        """Drag what is held; otherwise see what the pointer is on."""
        assert event is not None
        here = event.position()
        step, self._last = here - self._last, here
        if self._press is None:
            over = self.legend is not None and self.legend.handle_at(here) is not None
            if self.mode is Mode.LOOK:
                self.setCursor(Qt.CursorShape.SplitVCursor if over else Qt.CursorShape.ArrowCursor)
            self._hover.start()
        elif self._dragged_limit is not None and self.legend is not None:
            scale = self.legend.dragged(self._dragged_limit, here.y())
            self.legend.scale = scale
            self.stage.set_scale(scale)
            self.limits_dragged.emit(scale.lower, scale.upper)
            self.redraw()
        elif self._holding and self.handles is not None:
            self.handles.drag(here)
            self.update()
        elif self._outline:
            self._outline.append(here)
            self.update()
        elif (here - self._press).manhattanLength() > 3:
            self._turn(event, step)

    def _turn(self, event: QMouseEvent, step: QPointF) -> None:
        x, y = step.x() / max(self.width(), 1), step.y() / max(self.height(), 1)
        panning = event.buttons() & (Qt.MouseButton.RightButton | Qt.MouseButton.MiddleButton)
        if panning or event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
            self.stage.eye.pan(x, -y, self.aspect)
        else:
            self.stage.eye.orbit(x, -y)
        self._start_moving()

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        """Let go: a click picks, an outline closes, a limit is chosen."""
        assert event is not None
        press, self._press = self._press, None
        if self._holding and self.handles is not None:
            self._holding = False
            self.handles.drop(event.position())
            return
        if self._dragged_limit is not None:
            self._dragged_limit = None
            scale = self.stage.scale
            self.limits_chosen.emit(scale.lower, scale.upper)
        elif self._outline:
            self._finish_outline()
        elif press is not None and (event.position() - press).manhattanLength() <= 3:
            if event.button() is Qt.MouseButton.LeftButton:
                self._clicked(event.position())
        else:
            self._settle.start()

    def _clicked(self, here: QPointF) -> None:
        label = self.cards.label_at(here.x(), here.y())
        if label:
            self.card_clicked.emit(label)
            return
        hit = self.hit(here)
        if hit is not None:
            self.picked.emit(hit)

    def hit(self, here: QPointF) -> Hit | None:
        """What lies under a place of the widget."""
        return self.stage.pick(here.x(), here.y(), self.width(), self.height(), PICKED_FROM)

    def _finish_outline(self) -> None:
        points, self._outline = self._outline, []
        if len(points) >= 3:
            corners = np.array([[2 * p.x() / self.width() - 1, 1 - 2 * p.y() / self.height()] for p in points])
            keep = np.linspace(0, len(corners) - 1, min(len(corners), 300)).astype(int)
            self.outlined.emit(corners[keep], self.stage.matrix(self.aspect))
        self.update()

    def _look_under_pointer(self) -> None:
        if self._press is None and not self._moving:
            self.hovered.emit(self.hit(self._last))

    def wheelEvent(self, event: QWheelEvent | None) -> None:
        """Zoom about the pointer."""
        assert event is not None
        self._zoom(1.0015 ** event.angleDelta().y(), event.position())

    def _zoom(self, factor: float, here: QPointF) -> None:
        right, up = here.x() / max(self.width(), 1) - 0.5, 0.5 - here.y() / max(self.height(), 1)
        self.stage.eye.zoom(factor, right, up, self.aspect)
        self._start_moving()

    def mouseDoubleClickEvent(self, event: QMouseEvent | None) -> None:
        """Turn about the place under the pointer from now on."""
        assert event is not None
        hit = self.hit(event.position())
        if hit is not None and self.mode is Mode.LOOK:
            eye = self.stage.eye
            eye.place(hit.place, eye.towards, eye.up, eye.height, float(np.linalg.norm(np.ptp(self.stage.bounds, axis=0))))
            self.redraw()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Arrows turn, plus and minus zoom, escape lets go."""
        assert event is not None
        turns = {
            Qt.Key.Key_Left: (-0.04, 0), Qt.Key.Key_Right: (0.04, 0), Qt.Key.Key_Up: (0, 0.04), Qt.Key.Key_Down: (0, -0.04)
        }  # fmt: skip
        key = Qt.Key(event.key())
        middle = QPointF(self.width() / 2, self.height() / 2)
        if key in turns:
            self.stage.eye.orbit(*turns[key])
            self._start_moving()
        elif key in (Qt.Key.Key_Plus, Qt.Key.Key_Equal):
            self._zoom(1.2, middle)
        elif key is Qt.Key.Key_Minus:
            self._zoom(1 / 1.2, middle)
        elif key is Qt.Key.Key_Escape and self._outline:
            self._outline = []
            self.update()
        else:
            super().keyPressEvent(event)

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
        self._hover.stop()
        self.stage.close()
