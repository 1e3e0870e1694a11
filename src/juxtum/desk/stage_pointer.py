"""Mouse and keys over the stage: they turn the view, pick, draw outlines, and drag what can be dragged."""

from __future__ import annotations

from enum import Enum, auto
from typing import TYPE_CHECKING

import numpy as np
from PyQt6.QtCore import QEvent, QObject, QPointF, Qt
from PyQt6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPen, QPolygonF, QWheelEvent

from juxtum.desk.style import colour
from juxtum.desk.timers import timer

if TYPE_CHECKING:
    from juxtum.desk.stage_view import StageView


class Mode(Enum):
    """What a click or a stroke on the stage does."""

    LOOK = auto()
    PICK = auto()
    OUTLINE = auto()
    BOX = auto()
    BRUSH = auto()


DRAWING = (Mode.OUTLINE, Mode.BOX, Mode.BRUSH)
BRUSH_WIDTH = 28.0
"""Of a stroke, pixels."""


class StagePointer(QObject):
    """Listens to what happens over a stage.

    Parameters
    ----------
    view : StageView
        Whose mouse and keys they are.
    """

    def __init__(self, view: StageView) -> None:
        super().__init__(view)
        self._view = view
        self._press: QPointF | None = None
        self._last = QPointF()
        self._dragged_limit: str | None = None
        self._holding = False
        self._outline: list[QPointF] = []
        self._hover = timer(self, 40, self._look_under_pointer, once=True)
        view.installEventFilter(self)

    @property
    def is_down(self) -> bool:
        """Whether a button is held."""
        return self._press is not None

    def forget_outline(self) -> None:
        """Whatever was begun to be drawn goes."""
        self._outline = []

    def stop(self) -> None:
        """Nobody asks any more what is under the pointer."""
        self._hover.stop()

    def paint_outline(self, painter: QPainter) -> None:
        """The outline as far as it is drawn."""
        if not self._outline:
            return
        wash = colour("accent")
        if self._view.mode is Mode.BRUSH:
            wash.setAlpha(90)
            round_ = Qt.PenCapStyle.RoundCap, Qt.PenJoinStyle.RoundJoin
            painter.setPen(QPen(wash, BRUSH_WIDTH, Qt.PenStyle.SolidLine, *round_))
            painter.drawPolyline(QPolygonF(self._outline))
            return
        painter.setPen(QPen(colour("accent"), 1.6))
        wash.setAlpha(40)
        painter.setBrush(wash)
        painter.drawPolygon(QPolygonF(self._drawn))

    @property
    def _drawn(self) -> list[QPointF]:
        """What is drawn: of a box its four corners."""
        if self._view.mode is not Mode.BOX or not self._outline:
            return self._outline
        a, b = self._outline[0], self._outline[-1]
        return [a, QPointF(b.x(), a.y()), b, QPointF(a.x(), b.y())]

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:
        """Take what mouse and keys say; the rest goes its way."""
        if isinstance(event, QWheelEvent):
            self._wheeled(event)
        elif isinstance(event, QMouseEvent) and event.type() is QEvent.Type.MouseButtonPress:
            self._pressed(event)
        elif isinstance(event, QMouseEvent) and event.type() is QEvent.Type.MouseMove:
            self._moved(event)
        elif isinstance(event, QMouseEvent) and event.type() is QEvent.Type.MouseButtonRelease:
            self._released(event)
        elif isinstance(event, QMouseEvent) and event.type() is QEvent.Type.MouseButtonDblClick:
            self._double_clicked(event)
        elif isinstance(event, QKeyEvent) and event.type() is QEvent.Type.KeyPress:
            return self._key(event)
        else:
            return False
        return True

    def _pressed(self, event: QMouseEvent) -> None:
        """Take hold: of a legend handle, an outline or the view."""
        self._press = self._last = event.position()
        if event.button() is Qt.MouseButton.LeftButton:
            self._dragged_limit = self._view.legend.handle_at(event.position()) if self._view.legend else None
            self._holding = self._view.handles is not None and self._view.handles.grab(event.position())
            if self._dragged_limit is None and self._view.mode in DRAWING:
                self._outline = [event.position()]

    def _moved(self, event: QMouseEvent) -> None:
        """Drag what is held; otherwise see what the pointer is on."""
        here = event.position()
        step, self._last = here - self._last, here
        if self._press is None:
            over = self._view.legend is not None and self._view.legend.handle_at(here) is not None
            if self._view.mode is Mode.LOOK:
                self._view.setCursor(Qt.CursorShape.SplitVCursor if over else Qt.CursorShape.ArrowCursor)
            self._hover.start()
        elif self._dragged_limit is not None and self._view.legend is not None:
            scale = self._view.legend.dragged(self._dragged_limit, here.y())
            self._view.legend.scale = scale
            self._view.stage.set_scale(scale)
            self._view.limits_dragged.emit(scale.lower, scale.upper)
            self._view.redraw()
        elif self._holding and self._view.handles is not None:
            self._view.handles.drag(here)
            self._view.update()
        elif self._outline:
            self._outline.append(here)
            self._view.update()
        elif (here - self._press).manhattanLength() > 3:
            self._turn(event, step)

    def _turn(self, event: QMouseEvent, step: QPointF) -> None:
        x, y = step.x() / max(self._view.width(), 1), step.y() / max(self._view.height(), 1)
        panning = event.buttons() & (Qt.MouseButton.RightButton | Qt.MouseButton.MiddleButton)
        if panning or event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
            self._view.stage.eye.pan(x, -y, self._view.aspect)
        else:
            self._view.stage.eye.orbit(x, -y)
        self._view.start_moving()

    def _released(self, event: QMouseEvent) -> None:
        """Let go: a click picks, an outline closes, a limit is chosen."""
        press, self._press = self._press, None
        if self._holding and self._view.handles is not None:
            self._holding = False
            self._view.handles.drop(event.position())
            return
        if self._dragged_limit is not None:
            self._dragged_limit = None
            scale = self._view.stage.scale
            self._view.limits_chosen.emit(scale.lower, scale.upper)
        elif self._outline:
            self._finish_outline()
        elif press is not None and (event.position() - press).manhattanLength() <= 3:
            if event.button() is Qt.MouseButton.LeftButton:
                self._clicked(event.position())
        else:
            self._view.settle_soon()

    def _clicked(self, here: QPointF) -> None:
        label = self._view.cards.label_at(here.x(), here.y())
        if label:
            self._view.card_clicked.emit(label)
            return
        hit = self._view.hit(here)
        if hit is not None:
            self._view.picked.emit(hit)

    def _finish_outline(self) -> None:
        points, moves, self._outline = self._drawn, len(self._outline), []
        if len(points) >= 3 and moves > 1:
            corners = np.array(
                [[2 * p.x() / self._view.width() - 1, 1 - 2 * p.y() / self._view.height()] for p in points]
            )
            keep = np.linspace(0, len(corners) - 1, min(len(corners), 300)).astype(int)
            self._view.outlined.emit(corners[keep], self._view.stage.eye.matrix(self._view.aspect))
        self._view.update()

    def _look_under_pointer(self) -> None:
        if self._press is None and not self._view.is_moving:
            self._view.hovered.emit(self._view.hit(self._last))

    def _wheeled(self, event: QWheelEvent) -> None:
        """Zoom about the pointer."""
        self._zoom(1.0015 ** event.angleDelta().y(), event.position())

    def _zoom(self, factor: float, here: QPointF) -> None:
        right, up = here.x() / max(self._view.width(), 1) - 0.5, 0.5 - here.y() / max(self._view.height(), 1)
        self._view.stage.eye.zoom(factor, right, up, self._view.aspect)
        self._view.start_moving()

    def _double_clicked(self, event: QMouseEvent) -> None:
        """Turn about the place under the pointer from now on."""
        hit = self._view.hit(event.position())
        if hit is not None and self._view.mode is Mode.LOOK:
            eye = self._view.stage.eye
            eye.place(
                hit.place,
                eye.towards,
                eye.up,
                eye.height,
                float(np.linalg.norm(np.ptp(self._view.stage.bounds, axis=0))),
            )
            self._view.redraw()

    def _key(self, event: QKeyEvent) -> bool:
        """Arrows turn, plus and minus zoom, escape lets go."""
        turns = {
            Qt.Key.Key_Left: (-0.04, 0), Qt.Key.Key_Right: (0.04, 0), Qt.Key.Key_Up: (0, 0.04), Qt.Key.Key_Down: (0, -0.04)
        }  # fmt: skip
        key = Qt.Key(event.key())
        middle = QPointF(self._view.width() / 2, self._view.height() / 2)
        if key in turns:
            self._view.stage.eye.orbit(*turns[key])
            self._view.start_moving()
        elif key in (Qt.Key.Key_Plus, Qt.Key.Key_Equal):
            self._zoom(1.2, middle)
        elif key is Qt.Key.Key_Minus:
            self._zoom(1 / 1.2, middle)
        elif key is Qt.Key.Key_Escape and self._outline:
            self._outline = []
            self._view.update()
        else:
            return False
        return True
