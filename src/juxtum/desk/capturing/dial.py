"""The stand-off dial: a ring with one needle, the distance in large digits and one word."""

from __future__ import annotations

import math

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QSizePolicy, QWidget

from juxtum.capture.live.dial import DialReading
from juxtum.capture.live.patch import State
from juxtum.capture.live.snapshot import Snapshot
from juxtum.desk.style import colour, font

SWEEP = 270.0
"""Degrees from too near to too far; the gap is at the bottom."""
LOUD = (State.LOST, State.GONE, State.FULL, State.JUMP, State.HIDDEN, State.MOVED, State.WEAK)
SAID = (*LOUD, State.PAUSED)
"""States that are said instead of the stand-off; a pause is no alarm."""
"""States whose word takes the place of the dial's."""


class StandOffDial(QWidget):
    """Draws a reading as large as there is room.

    Parameters
    ----------
    is_floor : bool
        In the floor view the ring lies on a dark ground.
    """

    def __init__(self, is_floor: bool = False) -> None:
        super().__init__()
        self._is_floor = is_floor
        self._reading: DialReading | None = None
        self._word, self._is_loud = "", False
        self.setAccessibleName("Stand-off dial")
        self.setSizePolicy(
            QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding if is_floor else QSizePolicy.Policy.Fixed
        )

    def sizeHint(self) -> QSize:
        """A square, nearly."""
        return QSize(420, 420) if self._is_floor else QSize(280, 262)

    @property
    def word(self) -> str:
        """The word that is shown."""
        return self._word

    def show_snapshot(self, snapshot: Snapshot) -> None:
        """Show a moment."""
        self._reading = snapshot.dial
        self._is_loud = snapshot.state in LOUD
        self._word = snapshot.state.value if snapshot.state in SAID else snapshot.dial.word.value
        self.setAccessibleDescription(
            f"{self._word}, {snapshot.dial.distance:.0f} mm" if snapshot.dial.distance > 0 else self._word
        )
        self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Ring, window, needle, digits, word."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        side = min(self.width() - 16, (self.height() - 8) / 0.98)
        centre = QPointF(self.width() / 2, 6 + side / 2)
        self._ring(painter, centre, side)
        ink, soft = ("floor_ink", "floor_soft") if self._is_floor else ("ink", "ink_soft")
        reading = self._reading
        shown = reading is not None and reading.distance > 0
        painter.setPen(colour(ink))
        painter.setFont(font(side * 0.24, bold=True, mono=True))
        box = QRectF(centre.x() - side / 2, centre.y() - side * 0.24, side, side * 0.28)
        assert self._reading is not None or not shown
        painter.drawText(
            box, Qt.AlignmentFlag.AlignCenter, f"{self._reading.distance:.0f}" if shown and self._reading else "\u2013"
        )
        painter.setPen(colour(soft))
        painter.setFont(font(max(side * 0.05, 10)))
        wanted = f"mm, wanted {reading.wanted:.0f}" if reading is not None else "mm"
        painter.drawText(
            QRectF(box.x(), centre.y() + side * 0.05, side, side * 0.08), Qt.AlignmentFlag.AlignCenter, wanted
        )
        loud = "floor_alert" if self._is_floor else "not_conforming"
        painter.setPen(colour(loud if self._is_loud else soft if self._word == State.PAUSED.value else ink))
        painter.setFont(font(side * 0.13, bold=True))
        painter.drawText(
            QRectF(centre.x() - side * 0.6, centre.y() + side * 0.14, side * 1.2, side * 0.18),
            Qt.AlignmentFlag.AlignCenter,
            self._word,
        )
        painter.setPen(colour(soft))
        painter.setFont(font(max(side * 0.045, 10)))
        for text, share in (("too near", 0.0), ("too far", 1.0)):
            spot = self._spot(centre, side * 0.5, share)
            painter.drawText(
                QRectF(spot.x() - 60, spot.y() + side * 0.03, 120, side * 0.08), Qt.AlignmentFlag.AlignCenter, text
            )
        painter.end()

    def _ring(self, painter: QPainter, centre: QPointF, side: float) -> None:
        width = side * 0.055
        rect = QRectF(centre.x() - side * 0.45, centre.y() - side * 0.45, side * 0.9, side * 0.9)
        pen = QPen(colour("floor_ring" if self._is_floor else "rule"), width)
        pen.setCapStyle(Qt.PenCapStyle.FlatCap)
        painter.setPen(pen)
        painter.drawArc(rect, self._angle(1.0), round(SWEEP * 16))
        low, high = self._reading.hold if self._reading is not None else (0.25, 0.75)
        pen.setColor(colour("in_tolerance" if self._is_floor else "band_good"))
        painter.setPen(pen)
        painter.drawArc(rect, self._angle(high), round(SWEEP * 16 * (high - low)))
        painter.setPen(QPen(colour("floor_soft" if self._is_floor else "ink_soft"), 1.4))
        for k in range(11):
            painter.drawLine(self._spot(centre, side * 0.395, k / 10), self._spot(centre, side * 0.375, k / 10))
        if self._reading is not None and self._reading.distance > 0:
            needle = QPen(colour("floor_alert" if self._is_floor else "accent"), side * 0.024)
            needle.setCapStyle(Qt.PenCapStyle.RoundCap)
            painter.setPen(needle)
            painter.drawLine(
                self._spot(centre, side * 0.475, self._reading.share),
                self._spot(centre, side * 0.33, self._reading.share),
            )

    @staticmethod
    def _angle(share: float) -> int:
        """Start angle for Qt, sixteenths of a degree; 0 is at the lower left."""
        return round((225 - SWEEP * share) * 16)

    @staticmethod
    def _spot(centre: QPointF, radius: float, share: float) -> QPointF:
        angle = math.radians(225 - SWEEP * share)
        return QPointF(centre.x() + radius * math.cos(angle), centre.y() - radius * math.sin(angle))
