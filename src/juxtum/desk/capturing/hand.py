"""The pointer as the hand that holds the scanner: over the surface at a stand-off; the wheel brings it nearer or away."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from PyQt6.QtCore import QEvent, QObject, QPointF, QRectF, Qt
from PyQt6.QtGui import QBrush, QMouseEvent, QPainter, QPen, QPolygonF, QWheelEvent

from juxtum.capture.live.snapshot import Snapshot
from juxtum.desk.stage_view import StageView
from juxtum.desk.style import THEME, colour, font
from juxtum.devices.body import Pose
from juxtum.geometry.arrays import Floats, orthonormal_frame, unit
from juxtum.instruments.models import Mode
from juxtum.look import BODY, SMALL
from juxtum.nominal import Nominal

LEAN = 0.35
"""Share of the eye's own direction in that of the scanner; the rest is the surface's normal."""
WHEEL_STEP = 0.12
"""mm for an eighth of a degree of the wheel."""


COVERED = (("band_good", "enough"), ("band_three", "one pass"), ("hatch", "not yet"))
AGAINST = (("band_good", "as promised"), ("band_three", "beyond the promise"), ("hatch", "promised, not captured"))
"""What the colours mean while the capture is shown, and while it is held against the plan."""


class HandDriver(QObject):
    """Watches the stage's mouse while the scanner is held.

    Parameters
    ----------
    moved : callable
        Told the pose of the scanner, or None when the pointer leaves the part.
    """

    def __init__(self, view: StageView, moved: Callable[[Pose | None], None]) -> None:
        super().__init__(view)
        self._view, self._moved = view, moved
        self.nominal: Nominal | None = None
        self.mode: Mode | None = None
        self.stand_off = 0.0
        self.is_holding = False
        self.legend = COVERED
        self.is_large = False
        """Whether words are to be read from far away."""
        self.snapshot: Snapshot | None = None
        self.place: Floats | None = None
        view.installEventFilter(self)

    def take_up(self, nominal: Nominal, mode: Mode) -> None:
        """Hold the scanner over the pointer."""
        self.nominal, self.mode = nominal, mode
        self.stand_off, self.is_holding = mode.stand_off[1], True
        self._view.setCursor(Qt.CursorShape.CrossCursor)

    def put_down(self) -> None:
        """Let it go."""
        self.is_holding, self.place = False, None
        self._view.setCursor(Qt.CursorShape.ArrowCursor)
        self._moved(None)

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:
        """Moves of the pointer and turns of the wheel."""
        if not self.is_holding or event is None:
            return False
        if isinstance(event, QMouseEvent) and event.type() is QEvent.Type.MouseMove and not event.buttons():
            self.point(event.position())
        elif isinstance(event, QWheelEvent):
            self.stand_off = float(np.clip(self.stand_off - WHEEL_STEP * event.angleDelta().y(), 20.0, 3000.0))
            self.point(event.position())
            return True
        return False

    def point(self, here: QPointF) -> None:
        """Hold the scanner over what is under a place of the stage."""
        assert self.nominal is not None
        start, end = self._view.stage.eye.ray(here.x(), here.y(), self._view.width(), self._view.height())
        along = unit(end - start)
        hit = self.nominal.mesh.tree.first_hit(start, along)
        if hit is None:
            return
        normal = self.nominal.mesh.triangle_normals[hit[0]]
        self.place = hit[1]
        direction = unit((1 - LEAN) * normal - LEAN * along)
        up = orthonormal_frame(direction)[0]
        self._moved(Pose.looking(hit[1] + self.stand_off * direction, -direction, up))

    # -- drawn over the stage ---------------------------------------------------------------------------------

    def grab(self, here: QPointF) -> bool:
        """Nothing of it is dragged."""
        return False

    def drag(self, here: QPointF) -> None:
        """Nothing of it is dragged."""

    def drop(self, here: QPointF) -> None:
        """Nothing of it is dragged."""

    def paint(self, painter: QPainter) -> None:
        """The last frame's points and the arrow to what is missing."""
        snapshot = self.snapshot
        if snapshot is None:
            return
        if len(snapshot.points):
            kept = np.ones(len(snapshot.points), dtype=bool) if snapshot.kept is None else snapshot.kept
            for token, mine in (("undecided", ~kept), ("accent", kept)):
                painter.setPen(QPen(colour(token), 2.2 * THEME.scale))
                for x, y in self._view.project(np.asarray(snapshot.points)[mine]):
                    painter.drawPoint(QPointF(x, y))
        if snapshot.cut is not None:
            self._paint_cut(painter, snapshot.cut)
        if snapshot.view is not None and snapshot.is_recognised:
            self._arrow(painter, snapshot)
        self._legend(painter)

    def _paint_cut(self, painter: QPainter, corners: Floats) -> None:
        """The plane below which nothing is kept, as a dashed frame with its name at the nearest corner."""
        flat = [QPointF(x, y) for x, y in self._view.project(np.asarray(corners))]
        painter.setPen(QPen(colour("undecided"), 1.4 * THEME.scale, Qt.PenStyle.DashLine))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawPolygon(QPolygonF(flat))
        painter.setFont(font(SMALL))
        lowest = max(flat, key=lambda point: point.y())
        painter.setPen(colour("ink"))
        painter.drawText(lowest + QPointF(10, 14), "nothing is kept below")

    def _legend(self, painter: QPainter) -> None:
        """What the colours of the coverage mean."""
        k = THEME.scale * (1.5 if self.is_large else 1.0)
        # From far away the stage has no bar at its top; on the desk the legend stands over the scale bar.
        left, top = 24.0, 22.0 if self.is_large else self._view.height() - 124 * k
        painter.setPen(QPen(colour("rule"), 1))
        painter.setBrush(colour("panel"))
        wide = 116 * k if self.legend is COVERED else 188 * k
        painter.drawRoundedRect(QRectF(left - 8, top - 8, wide, 70 * k), 5, 5)
        painter.setFont(font((BODY if self.is_large else SMALL) * (1.3 if self.is_large else 1.0)))
        for row, (token, words) in enumerate(self.legend):
            box = QRectF(left, top + 20 * k * row, 22 * k, 14 * k)
            painter.setPen(QPen(colour("rule"), 1))
            if row == 2:
                painter.setBrush(colour("panel"))
                painter.drawRect(box)
                painter.setBrush(QBrush(colour("hatch"), Qt.BrushStyle.BDiagPattern))
            else:
                painter.setBrush(colour(token))
            painter.drawRect(box)
            painter.setPen(colour("ink"))
            painter.drawText(
                QRectF(box.right() + 8, box.top() - 4 * k, 160 * k, 22 * k), Qt.AlignmentFlag.AlignVCenter, words
            )

    def _arrow(self, painter: QPainter, snapshot: Snapshot) -> None:
        view = snapshot.view
        assert view is not None
        tip, tail = self._view.project(np.array([view.aim, view.aim + 0.4 * (view.stop.eye - view.aim)]))
        away = tail - tip
        length = float(np.hypot(*away))
        away = away / length if length > 12 else np.array([0.5, -0.85])
        length = min(max(length, 70.0), 130.0) * THEME.scale
        tail = tip + away * length
        tail = np.clip(tail, [60, 110], [self._view.width() - 60, self._view.height() - 60])
        painter.setPen(QPen(colour("accent"), 7 * THEME.scale, Qt.PenStyle.SolidLine, Qt.PenCapStyle.RoundCap))
        point, side = tip + away * 16, np.array([-away[1], away[0]])
        painter.drawLine(QPointF(*tail), QPointF(*point))
        painter.setBrush(colour("accent"))
        painter.setPen(Qt.PenStyle.NoPen)
        head = [tip, point + 13 * side, point - 13 * side]
        painter.drawPolygon(*(QPointF(float(x), float(y)) for x, y in head))
        words = f"turn the part over for {view.name}" if view.turns_over else f"come in from here: {view.name}"
        painter.setFont(font(BODY + (9 if self.is_large else 0), bold=True))
        wide = painter.fontMetrics().horizontalAdvance(words) + 16
        left = float(np.clip(tail[0] - wide / 2, 8, self._view.width() - wide - 8))
        tall = painter.fontMetrics().height() + 6
        box = QRectF(left, tail[1] - tall - 6, wide, tall)
        painter.setBrush(colour("panel"))
        painter.setPen(QPen(colour("rule"), 1))
        painter.drawRoundedRect(box, 4, 4)
        painter.setPen(colour("accent"))
        painter.drawText(box, Qt.AlignmentFlag.AlignCenter, words)
