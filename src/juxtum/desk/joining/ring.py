"""The closure ring: scans as beads on their overlap graph."""

from __future__ import annotations

import math

from PyQt6.QtCore import QEvent, QPointF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QToolTip, QWidget

from juxtum.desk.style import THEME, colour, font
from juxtum.guide.joining import TieRow
from juxtum.look import SMALL

BEAD, TALL = 9, 168
NEAR = 7.0
"""Pixels from a tie at which the pointer is on it."""


class ClosureRing(QWidget):
    """Beads round a ring; a tie is as thick as its overlap is large and as dark as it fits badly; broken where it is not used."""

    picked_scan = pyqtSignal(str)
    picked_tie = pyqtSignal(str, str)

    def __init__(self) -> None:
        super().__init__()
        self.setAccessibleName("Closure ring")
        self.setAccessibleDescription("Arrow keys go from tie to tie")
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self._names: tuple[str, ...] = ()
        self._ties: tuple[TieRow, ...] = ()
        self._chosen = ""
        self._tie: tuple[str, str] | None = None

    def show_ring(self, names: tuple[str, ...], ties: tuple[TieRow, ...]) -> None:
        """Show other scans and ties."""
        self._names, self._ties = names, ties
        if self._tie not in [(t.first, t.second) for t in ties]:
            self._tie = None
        self.update()

    def choose(self, name: str) -> None:
        """Mark a bead."""
        self._chosen = name
        self.update()

    @property
    def tie(self) -> TieRow | None:
        """The tie that is chosen."""
        return next((t for t in self._ties if (t.first, t.second) == self._tie), None)

    def sizeHint(self) -> QSize:
        """Room for the ring and the names."""
        return QSize(280, THEME.px(TALL))

    def minimumSizeHint(self) -> QSize:
        """As high as its hint."""
        return QSize(160, THEME.px(TALL))

    def place_of(self, name: str) -> QPointF:
        """Where a bead is, in pixels of the widget."""
        angle = 2 * math.pi * self._names.index(name) / max(len(self._names), 1) - math.pi / 2
        radius = min(self.width(), self.height()) / 2 - THEME.px(22)
        return QPointF(self.width() / 2 + radius * math.cos(angle), self.height() / 2 + radius * math.sin(angle))

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Ties first, beads over them."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        for tie in reversed(self._ties):
            self._paint_tie(painter, tie)
        painter.setFont(font(SMALL))
        for index, name in enumerate(self._names, 1):
            place, radius = self.place_of(name), THEME.px(BEAD)
            chosen = name == self._chosen
            painter.setPen(QPen(colour("accent" if chosen else "ink"), 2.4 if chosen else 1.2))
            painter.setBrush(colour("accent_wash" if chosen else "panel"))
            painter.drawEllipse(place, radius, radius)
            painter.setPen(colour("ink"))
            painter.drawText(
                int(place.x() - radius), int(place.y() - radius), 2 * radius, 2 * radius,
                Qt.AlignmentFlag.AlignCenter, str(index),
            )  # fmt: skip
        if self.hasFocus():
            painter.setPen(QPen(colour("accent"), 1, Qt.PenStyle.DotLine))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(self.rect().adjusted(1, 1, -2, -2))

    def _paint_tie(self, painter: QPainter, tie: TieRow) -> None:
        ends = self.place_of(tie.first), self.place_of(tie.second)
        chosen = self._tie == (tie.first, tie.second)
        shade = colour("accent" if chosen else "ink")
        shade.setAlphaF(1.0 if chosen else 0.3 + 0.7 * tie.misfit)
        pen = QPen(shade, 1.2 + 9.0 * min(tie.share, 0.6))
        if not tie.is_used:
            pen = QPen(colour("accent" if chosen else "not_conforming"), 1.6, Qt.PenStyle.DashLine)
        painter.setPen(pen)
        painter.drawLine(*ends)

    def _under(self, here: QPointF) -> TieRow | str | None:
        for name in self._names:
            place = self.place_of(name)
            if math.hypot(place.x() - here.x(), place.y() - here.y()) <= THEME.px(BEAD) + 3:
                return name
        near = [(self._distance(tie, here), k) for k, tie in enumerate(self._ties)]
        if near and min(near)[0] < NEAR:
            return self._ties[min(near)[1]]
        return None

    def _distance(self, tie: TieRow, here: QPointF) -> float:
        a, b = self.place_of(tie.first), self.place_of(tie.second)
        along = QPointF(b.x() - a.x(), b.y() - a.y())
        length = along.x() ** 2 + along.y() ** 2 or 1.0
        t = ((here.x() - a.x()) * along.x() + (here.y() - a.y()) * along.y()) / length
        t = min(max(t, 0.0), 1.0)
        return math.hypot(a.x() + t * along.x() - here.x(), a.y() + t * along.y() - here.y())

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        """Say what lies under the pointer."""
        assert event is not None
        found = self._under(event.position())
        words = found.words if isinstance(found, TieRow) else found or ""
        QToolTip.showText(event.globalPosition().toPoint(), words, self)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Choose a scan or a tie."""
        assert event is not None
        found = self._under(event.position())
        if isinstance(found, TieRow):
            self._choose_tie(found)
        elif found:
            self.picked_scan.emit(found)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Step from tie to tie."""
        assert event is not None
        steps = {Qt.Key.Key_Right: 1, Qt.Key.Key_Down: 1, Qt.Key.Key_Left: -1, Qt.Key.Key_Up: -1}
        step = steps.get(Qt.Key(event.key()))
        if step is None or not self._ties:
            super().keyPressEvent(event)
            return
        self.step(step)

    def step(self, by: int) -> None:
        """Choose the next tie, or the one before."""
        if self._ties:
            now = next((k for k, t in enumerate(self._ties) if (t.first, t.second) == self._tie), -1 if by > 0 else 0)
            self._choose_tie(self._ties[(now + by) % len(self._ties)])

    def _choose_tie(self, tie: TieRow) -> None:
        self._tie = (tie.first, tie.second)
        self.picked_tie.emit(tie.first, tie.second)
        self.update()

    def changeEvent(self, event: QEvent | None) -> None:
        """Another look."""
        super().changeEvent(event)
        self.update()
