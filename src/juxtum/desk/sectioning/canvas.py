"""The drawing of a section: zoomed with the wheel, moved by dragging, its lines and arcs chosen by a click."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF, QWheelEvent
from PyQt6.QtWidgets import QWidget

from juxtum.desk.style import THEME, colour, font
from juxtum.geometry.arrays import Floats
from juxtum.look import SMALL
from juxtum.scene.section_picture import Named, SectionPicture, Stroke

WIDTHS = {"drawn": 1.0, "measured": 1.5, "whisker": 1.0}
MARGIN, BAR = 26.0, 18.0
"""Left free round what is drawn, and below it for the bar of its scale; pixels."""
STEP = 1.25
SIDEWAYS = 0.5
"""Out of the material by so much to one side: words stand beside the curve, not over it."""
NEAR = 12.0
"""Pixels from a number within which a click chooses it."""
APART, MOST_MOVED = 17.0, 6
"""Pixels between numbers so that each can be read, and how often one gives way."""


class SectionCanvas(QWidget):
    """Paints a `SectionPicture`."""

    picked = pyqtSignal(str)
    """The number of a line or an arc that was clicked."""
    placed = pyqtSignal(object)
    """The place on the drawn curve (2,) that was clicked while places are wanted."""

    def __init__(self) -> None:
        super().__init__()
        self.setAccessibleName("Drawing of the section")
        self.setAccessibleDescription("Plus and minus zoom, arrow keys move, Home shows all of it")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.picture: SectionPicture | None = None
        self.chosen: tuple[str, ...] = ()
        self._zoom, self._shift = 1.0, np.zeros(2)
        self._held: QPointF | None = None
        self._moved = False
        self.wants_places = False

    def sizeHint(self) -> QSize:
        """Room for a drawing."""
        return QSize(420, THEME.px(230))

    def minimumSizeHint(self) -> QSize:
        """What the least of it takes."""
        return QSize(240, THEME.px(150))

    def show_picture(self, picture: SectionPicture | None, is_another: bool) -> None:
        """Show a picture; all of it where it is of another section."""
        self.picture = picture
        if is_another:
            self._home()
        self.update()

    def choose(self, numbers: tuple[str, ...]) -> None:
        """Mark lines and arcs by their numbers."""
        self.chosen = numbers
        self.update()

    def _home(self) -> None:
        self._zoom, self._shift = 1.0, np.zeros(2)
        self.update()

    @property
    def _factor(self) -> float:
        """Pixels a millimetre."""
        assert self.picture is not None
        size = np.maximum(np.ptp(self.picture.bounds, axis=0), 1e-6)
        room = np.array([self.width(), self.height() - BAR]) - 2 * MARGIN
        return self._zoom * max(float((room / size).min()), 1e-6)

    def place_of(self, flat: Floats) -> Floats:
        """Pixels (N, 2) of places of the section (N, 2)."""
        assert self.picture is not None
        away = (np.asarray(flat) - self.picture.bounds.mean(0) - self._shift) * self._factor
        return np.asarray(away * [1, -1] + self._middle)

    @property
    def _middle(self) -> Floats:
        """Of what is drawn, above the bar of the scale; pixels."""
        return np.array([self.width() / 2, (self.height() - BAR) / 2])

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Strokes, numbers and a bar of the scale."""
        painter = QPainter(self)
        painter.fillRect(self.rect(), colour("panel"))
        if self.picture is None:
            return
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        for stroke in self.picture.strokes:
            self._paint_stroke(painter, stroke)
        painter.setFont(font(SMALL, mono=True))
        for named, (x, y) in zip(self.picture.names, self.name_places(), strict=True):
            if named.is_reading:
                self._paint_reading(painter, named)
                continue
            if named.text in self.chosen:
                painter.setPen(Qt.PenStyle.NoPen)
                painter.setBrush(colour("accent_wash"))
                painter.drawEllipse(QPointF(x, y), 10, 10)
            painter.setPen(colour("accent"))
            painter.drawText(QRectF(x - 60, y - 9, 120, 18), Qt.AlignmentFlag.AlignCenter, named.text)
        self._paint_bar(painter)
        if self.hasFocus():
            painter.setPen(QPen(colour("accent"), 1, Qt.PenStyle.DotLine))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(self.rect().adjusted(1, 1, -2, -2))

    def name_places(self) -> Floats:
        """Where names stand (N, 2), pixels: beside what they name, moved along it where another one stands there already, as in a narrow slot."""
        places: list[Floats] = []
        for named in self.picture.names if self.picture is not None else ():
            aside = named.aside * [1, -1]
            along = np.array([-aside[1], aside[0]]) if aside.any() else np.array([1.0, 0.0])
            here = self.place_of(named.place[None])[0] + 10 * aside
            for _ in range(MOST_MOVED):
                if all((np.abs(here - other) >= APART).any() for other in places):
                    break
                here = here + APART * along
            places.append(here)
        return np.array(places).reshape(-1, 2)

    def _paint_reading(self, painter: QPainter, named: Named) -> None:
        """A ring on the curve, and its words beside it, clear of the numbers."""
        x, y = self.place_of(named.place[None])[0]
        painter.setPen(QPen(colour("ink"), 1.5))
        painter.setBrush(colour("panel"))
        painter.drawEllipse(QPointF(x, y), 3.5, 3.5)
        across, up = named.aside
        left = x - 60 if abs(across) < SIDEWAYS else x + 24 if across > 0 else x - 144
        align = Qt.AlignmentFlag.AlignHCenter if abs(across) < SIDEWAYS else Qt.AlignmentFlag.AlignLeft
        if across <= -SIDEWAYS:
            align = Qt.AlignmentFlag.AlignRight
        painter.drawText(QRectF(left, y - 9 - 24 * up, 120, 18), align | Qt.AlignmentFlag.AlignVCenter, named.text)

    def _paint_stroke(self, painter: QPainter, stroke: Stroke) -> None:
        painter.setPen(QPen(QColor(stroke.colour), WIDTHS[stroke.role]))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        line = QPolygonF([QPointF(x, y) for x, y in self.place_of(stroke.points)])
        if stroke.is_closed:
            painter.drawPolygon(line)
        else:
            painter.drawPolyline(line)

    def _paint_bar(self, painter: QPainter) -> None:
        assert self.picture is not None
        power = 10.0 ** np.floor(np.log10(90 / self._factor))
        length = float(max(n for n in (1, 2, 5) if n * power * self._factor <= 90.001) * power)
        left, base = 14.0, self.height() - 12.0
        painter.setPen(QPen(colour("ink"), 2))
        painter.drawLine(QPointF(left, base), QPointF(left + length * self._factor, base))
        painter.setPen(colour("ink_soft"))
        words = f"{length:g} mm, deviations \u00d7 {self.picture.enlarged}"
        painter.drawText(QPointF(left, base - 5), words)

    def _zoom_by(self, factor: float, about: QPointF) -> None:
        if self.picture is None:
            return
        off = (np.array([about.x(), about.y()]) - self._middle) * [1, -1]
        before = off / self._factor
        self._zoom = float(np.clip(self._zoom * factor, 0.5, 500.0))
        self._shift = self._shift + before - off / self._factor
        self.update()

    def wheelEvent(self, event: QWheelEvent | None) -> None:
        """Zoom about the pointer."""
        assert event is not None
        self._zoom_by(STEP ** (event.angleDelta().y() / 120), event.position())
        event.accept()

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Begin to drag."""
        assert event is not None
        self._held, self._moved = event.position(), False

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        """Move what is shown."""
        assert event is not None
        if self._held is None or self.picture is None:
            return
        way = event.position() - self._held
        if self._moved or way.manhattanLength() > 4:
            self._moved = True
            self._shift = self._shift + np.array([-way.x(), way.y()]) / self._factor
            self._held = event.position()
            self.update()

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        """A click chooses the number under it, or gives the place on the curve under it."""
        assert event is not None
        here, self._held = event.position(), None
        if self._moved or self.picture is None:
            return
        if self.wants_places:
            self._place(here)
            return
        if not self.picture.names:
            return
        far = np.linalg.norm(self.name_places() - [here.x(), here.y()], axis=1)
        if far.min() < NEAR:
            self.picked.emit(self.picture.names[int(np.argmin(far))].text)

    def _place(self, here: QPointF) -> None:
        """Hand on the foot of the measured point that is drawn under a click."""
        assert self.picture is not None
        if len(self.picture.shown) == 0:
            return
        far = np.linalg.norm(self.place_of(self.picture.shown) - [here.x(), here.y()], axis=1)
        far = np.minimum(far, np.linalg.norm(self.place_of(self.picture.feet) - [here.x(), here.y()], axis=1))
        if far.min() < NEAR:
            self.placed.emit(self.picture.feet[int(np.argmin(far))])

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Zoom and move by keys."""
        assert event is not None
        middle, step = QPointF(self.width() / 2, self.height() / 2), 40.0
        moves = {Qt.Key.Key_Left: (-1, 0), Qt.Key.Key_Right: (1, 0), Qt.Key.Key_Up: (0, 1), Qt.Key.Key_Down: (0, -1)}
        key = Qt.Key(event.key())
        if key in (Qt.Key.Key_Plus, Qt.Key.Key_Equal):
            self._zoom_by(STEP, middle)
        elif key == Qt.Key.Key_Minus:
            self._zoom_by(1 / STEP, middle)
        elif key == Qt.Key.Key_Home:
            self._home()
        elif key in moves and self.picture is not None:
            self._shift = self._shift + step / self._factor * np.array(moves[key], dtype=np.float64)
            self.update()
        else:
            super().keyPressEvent(event)
