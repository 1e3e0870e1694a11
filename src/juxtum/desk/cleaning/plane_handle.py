"""A plane on the stage with a grip: dragging it moves the plane along its normal."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QPainter, QPen, QPolygonF

from juxtum.desk.stage_view import StageView
from juxtum.desk.style import THEME, colour, font
from juxtum.geometry import Plane
from juxtum.geometry.arrays import Floats, orthonormal_frame
from juxtum.look import SMALL
from juxtum.wording import signed

GRIP = 8.0
NEAR = 14.0
"""Pixels round the grip that take hold of it."""
STEM = 70.0
"""Pixels from plane to grip, where the normal is seen from the side."""
FLATTEST = 0.15
"""Of a millimetre across the screen: a normal that points more to the eye than this is dragged up and down."""


class PlaneHandle:
    """Draws the plane that cuts and lets its offset be dragged.

    Parameters
    ----------
    dropped : callable
        Told the offset, mm, at which the grip was let go.
    """

    def __init__(self, view: StageView, dropped: Callable[[float], None]) -> None:
        self._view, self._dropped = view, dropped
        self.plane: Plane | None = None
        """In stage coordinates, before the offset."""
        self.reach = 1.0
        """Half the width of what is drawn of it, mm."""
        self.offset = 0.0
        self._from: tuple[QPointF, float] | None = None

    def show(self, plane: Plane | None, reach: float, offset: float) -> None:
        """Show another plane, or none."""
        self.plane, self.reach, self.offset = plane, reach, offset
        self._from = None
        self._view.update()

    @property
    def _middle(self) -> Floats:
        assert self.plane is not None
        return np.asarray(self.plane.point + self.offset * self.plane.normal)

    def _along(self) -> Floats:
        """Pixels (2,) across the screen for a millimetre along the normal; up the screen where the normal is seen end on."""
        assert self.plane is not None
        places = np.stack([self._middle, self._middle + self.plane.normal, self._middle + self._view.stage.eye.right])
        here, ahead, right = self._view.project(places)
        width = float(np.hypot(*(right - here)))
        along = np.asarray(ahead - here)
        return along if float(np.hypot(*along)) > FLATTEST * width else np.array([0.0, -width])

    def grip(self) -> QPointF:
        """Where the grip is on the stage."""
        along, (x, y) = self._along(), self._view.project(self._middle[None])[0]
        way = along / max(float(np.hypot(*along)), 1e-12)
        return QPointF(x + STEM * way[0], y + STEM * way[1])

    def grab(self, here: QPointF) -> bool:
        """Take hold of the grip."""
        if self.plane is None:
            return False
        apart = here - self.grip()
        self._from = (here, self.offset) if np.hypot(apart.x(), apart.y()) <= NEAR else None
        return self._from is not None

    def drag(self, here: QPointF) -> None:
        """Move the plane along its normal."""
        if self._from is not None:
            begun, offset = self._from
            along, apart = self._along(), here - begun
            self.offset = offset + float(apart.x() * along[0] + apart.y() * along[1]) / max(float(along @ along), 1e-12)
            self._view.update()

    def drop(self, here: QPointF) -> None:
        """Let it go."""
        if self._from is not None and self.offset != self._from[1]:
            self._dropped(self.offset)
        self._from = None

    def paint(self, painter: QPainter) -> None:
        """The plane as a frame, its normal with the grip, and how far it is moved."""
        if self.plane is None:
            return
        u, v = self.reach * orthonormal_frame(self.plane.normal)[:2]
        corners = self._middle + np.stack([-u - v, u - v, u + v, -u + v])
        frame = QPolygonF([QPointF(x, y) for x, y in self._view.project(corners)])
        fill = QColor(colour("accent"))
        fill.setAlpha(36)
        painter.setPen(QPen(colour("accent"), 1.6 * THEME.scale, Qt.PenStyle.DashLine))
        painter.setBrush(fill)
        painter.drawPolygon(frame)
        grip, (x, y) = self.grip(), self._view.project(self._middle[None])[0]
        painter.setPen(QPen(colour("accent"), 2.2 * THEME.scale))
        painter.drawLine(QPointF(x, y), grip)
        painter.setBrush(colour("panel"))
        painter.drawEllipse(grip, GRIP, GRIP)
        painter.setFont(font(SMALL))
        words = f"{signed(self.offset, 2)} mm"
        wide = painter.fontMetrics().horizontalAdvance(words) + 10.0
        box = QRectF(grip.x() + GRIP + 6, grip.y() - 10, wide, 20)
        painter.setPen(QPen(colour("rule"), 1))
        painter.setBrush(colour("panel"))
        painter.drawRoundedRect(box, 3, 3)
        painter.setPen(colour("ink"))
        painter.drawText(box, Qt.AlignmentFlag.AlignCenter, words)
