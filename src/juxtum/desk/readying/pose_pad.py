"""Guided poses: a pad on which the pointer tilts the scanner before the board, and the wheel brings it nearer or away."""

from __future__ import annotations

import time
from math import cos, radians, sin

from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF, QWheelEvent
from PyQt6.QtWidgets import QWidget

from juxtum.capture.calibration.calibrating import HandPose
from juxtum.desk.notice import Notice
from juxtum.desk.style import THEME, colour, font
from juxtum.desk.timers import timer
from juxtum.look import BODY, SMALL

WIDEST = 35.0
"""Degrees at the pad's edge, where no pose asks for more."""
HOLD_FOR = 0.5
"""Seconds that the hand must hold still at a pose."""
STEP = 0.25
WIDTH, HEIGHT = 240.0, 180.0
"""Of the board, mm."""
FILLED = 0.6
"""Of the picture's width, by the board at the wanted distance."""
BOARD = ((-WIDTH / 2, -HEIGHT / 2), (WIDTH / 2, -HEIGHT / 2), (WIDTH / 2, HEIGHT / 2), (-WIDTH / 2, HEIGHT / 2))
DOTS = tuple((30.0 * (k - 3.5), 30.0 * (n - 2.5)) for k in range(8) for n in range(6) if (3 * k + 5 * n) % 7 != 0)
"""Not all of a grid: a board that is turned round looks otherwise."""


class PosePad(QWidget):
    """Where the hand is, where it should be, and one word."""

    reached = pyqtSignal()

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self.setAccessibleName("Calibration poses")
        self.setMouseTracking(True)
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        self.pose = HandPose(400.0, 0.0, 0.0)
        self.wanted: HandPose | None = None
        self.widest = WIDEST
        self._title, self._count = "", ""
        self._since: float | None = None
        self._watch = timer(self, 100, self._look)
        self.resize(THEME.px(380), THEME.px(440))
        self.hide()

    @property
    def word(self) -> str:
        """What the hand is told."""
        return self.pose.towards(self.wanted) if self.wanted is not None else ""

    def ask(self, title: str, wanted: HandPose, number: int, of: int) -> None:
        """Ask for another pose."""
        self.wanted, self._title, self._count, self._since = wanted, title, f"pose {number} of {of}", None
        self.setAccessibleDescription(f"{title}, pose {number} of {of}: {self.word}")
        self.show()
        self.raise_()
        parent = self.parentWidget()
        for notice in parent.findChildren(Notice) if parent is not None else ():
            # What is being said stays readable.
            notice.raise_()
        self._watch.start()
        self.update()

    def end(self) -> None:
        """No pose is wanted any more."""
        self.wanted = None
        self._watch.stop()
        self.hide()

    def _look(self) -> None:
        if self.wanted is None:
            return
        if not self.pose.is_at(self.wanted):
            self._since = None
        elif self._since is None:
            self._since = time.monotonic()
        elif time.monotonic() - self._since >= HOLD_FOR:
            self._since = None
            self.reached.emit()
        self.update()

    @property
    def _field(self) -> QRectF:
        side = min(self.width() - 96.0, self.height() - 140.0)
        return QRectF(20, 64, side, side)

    def hold(self, pose: HandPose) -> None:
        """The hand is somewhere else."""
        self.pose = pose
        self.setAccessibleDescription(f"{self._title}, {self._count}: {self.word}")
        self.update()

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        """Tilt and lean follow the pointer."""
        assert event is not None
        f, here = self._field, event.position()
        lean = ((here.x() - f.center().x()) / (f.width() / 2)) * self.widest
        tilt = -((here.y() - f.center().y()) / (f.height() / 2)) * self.widest
        self.hold(
            HandPose(
                self.pose.distance, max(-self.widest, min(self.widest, tilt)), max(-self.widest, min(self.widest, lean))
            )
        )

    def wheelEvent(self, event: QWheelEvent | None) -> None:
        """Nearer or away."""
        assert event is not None
        self.hold(
            HandPose(max(50.0, self.pose.distance - 0.1 * event.angleDelta().y()), self.pose.tilt, self.pose.lean)
        )

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """The pad, the distance beside it, the word below."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(colour("rule"), 1))
        painter.setBrush(colour("panel"))
        painter.drawRoundedRect(QRectF(self.rect()).adjusted(0.5, 0.5, -0.5, -0.5), 8, 8)
        if self.wanted is None:
            painter.end()
            return
        painter.setPen(colour("ink"))
        painter.setFont(font(BODY + 2, bold=True))
        painter.drawText(QPointF(20, 30), self._title)
        painter.setPen(colour("ink_soft"))
        painter.setFont(font(SMALL))
        painter.drawText(QPointF(20, 50), f"{self._count}; the pointer tilts, the wheel moves")
        self._pad(painter)
        self._distance(painter)
        good = self.word == "hold"
        painter.setPen(colour("conforms" if good else "accent"))
        painter.setFont(font(26, bold=True))
        painter.drawText(
            QRectF(10, self._field.bottom() + 12, self.width() - 20, 48), Qt.AlignmentFlag.AlignCenter, self.word
        )
        painter.end()

    def _pad(self, painter: QPainter) -> None:
        """The board as the scanner sees it, and the outline into which it is to be brought."""
        f, wanted = self._field, self.wanted
        assert wanted is not None
        painter.setPen(QPen(colour("rule"), 1))
        painter.setBrush(colour("field"))
        painter.drawRect(f)
        painter.save()
        painter.setClipRect(f)
        painter.setPen(QPen(colour("ink"), 1.2))
        painter.setBrush(colour("panel"))
        painter.drawPolygon(QPolygonF(self._seen(self.pose, BOARD)))
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(colour("ink"))
        size = 0.011 * f.width() * wanted.distance / self.pose.distance
        for spot in self._seen(self.pose, DOTS):
            painter.drawEllipse(spot, size, size)
        pen = QPen(colour("accent"), 2.5)
        pen.setDashPattern([4, 2])
        painter.setPen(pen)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawPolygon(QPolygonF(self._seen(wanted, BOARD)))
        painter.restore()

    def _seen(self, pose: HandPose, places: tuple[tuple[float, float], ...]) -> list[QPointF]:
        """Where places on the board, mm from its middle, appear to a scanner held so."""
        f, wanted = self._field, self.wanted
        assert wanted is not None
        scale = FILLED * f.width() / WIDTH * wanted.distance
        lean, tilt = radians(pose.lean), radians(pose.tilt)
        spots = []
        for x, y in places:
            across, away = x * cos(lean), x * sin(lean)
            up, away = y * cos(tilt) - away * sin(tilt), y * sin(tilt) + away * cos(tilt)
            depth = max(pose.distance + away, 1.0)
            spots.append(f.center() + QPointF(across, -up) * (scale / depth))
        return spots

    def _distance(self, painter: QPainter) -> None:
        f, wanted = self._field, self.wanted
        assert wanted is not None
        x = f.right() + 34
        low, high = 0.6 * wanted.distance, 1.4 * wanted.distance
        painter.setPen(QPen(colour("rule"), 8))
        painter.drawLine(QPointF(x, f.top()), QPointF(x, f.bottom()))

        def height(value: float) -> float:
            share = (min(max(value, low), high) - low) / (high - low)
            return f.top() + share * f.height()

        painter.setPen(QPen(colour("accent"), 8))
        painter.drawLine(QPointF(x, height(wanted.distance - 12)), QPointF(x, height(wanted.distance + 12)))
        painter.setPen(QPen(colour("ink"), 4))
        painter.drawLine(QPointF(x - 12, height(self.pose.distance)), QPointF(x + 12, height(self.pose.distance)))
        painter.setFont(font(BODY, mono=True))
        painter.setPen(colour("ink"))
        painter.drawText(
            QRectF(x - 34, f.top() - 22, 68, 18), Qt.AlignmentFlag.AlignCenter, f"{self.pose.distance:.0f} mm"
        )
