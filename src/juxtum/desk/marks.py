"""Verdict marks, rulers and drawn symbols, for every place that paints them."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QBrush, QColor, QPainter, QPainterPath, QPen, QPolygonF

from juxtum.desk.style import colour
from juxtum.evaluate import Verdict
from juxtum.evaluate.kinds import Strokes
from juxtum.evaluate.ruler import lay_out

VERDICT_TOKENS = {
    Verdict.CONFORMS: "conforms",
    Verdict.DOES_NOT_CONFORM: "not_conforming",
    Verdict.NOT_DECIDED: "undecided",
}


def verdict_colour(verdict: Verdict | None) -> QColor:
    """The colour of a verdict's mark and word."""
    return colour("ink_soft") if verdict is None else colour(VERDICT_TOKENS[verdict])


def paint_mark(painter: QPainter, centre: QPointF, verdict: Verdict | None, size: float = 10) -> None:
    """Disc, square, half-filled diamond, or an open ring when nothing was measured."""
    painter.save()
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    used, half = verdict_colour(verdict), size / 2
    painter.setPen(QPen(used, 1.4))
    painter.setBrush(QBrush(used))
    if verdict is None:
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawEllipse(centre, half * 0.8, half * 0.8)
    elif verdict is Verdict.CONFORMS:
        painter.drawEllipse(centre, half * 0.85, half * 0.85)
    elif verdict is Verdict.DOES_NOT_CONFORM:
        painter.drawRect(QRectF(centre.x() - half * 0.75, centre.y() - half * 0.75, size * 0.75, size * 0.75))
    else:
        x, y, r = centre.x(), centre.y(), half
        painter.drawPolygon(QPolygonF([QPointF(x, y - r), QPointF(x - r, y), QPointF(x, y + r)]))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawPolygon(QPolygonF([QPointF(x, y - r), QPointF(x + r, y), QPointF(x, y + r)]))
    painter.restore()


def paint_ruler(
    painter: QPainter,
    box: QRectF,
    limits: tuple[float | None, float | None],
    value: float,
    expanded: float,
    verdict: Verdict | None,
) -> None:
    """A tolerance ruler: zone, guard bands, limits as ticks, value as mark, uncertainty as whisker."""
    r = lay_out(limits[0], limits[1], value, expanded)
    painter.save()
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    y, left, width = box.center().y(), box.left(), box.width()
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(colour("field"))
    painter.drawRect(QRectF(left + r.zone[0] * width, y - 3, (r.zone[1] - r.zone[0]) * width, 6))
    painter.setBrush(colour("rule"))
    painter.drawRect(QRectF(left + r.safe[0] * width, y - 3, max(r.safe[1] - r.safe[0], 0) * width, 6))
    painter.setPen(QPen(colour("ink"), 1.2))
    for tick in r.ticks:
        painter.drawLine(QPointF(left + tick * width, y - 7), QPointF(left + tick * width, y + 7))
    if r.dot is not None and r.whisker is not None:
        painter.setPen(QPen(verdict_colour(verdict), 1.6))
        painter.drawLine(QPointF(left + r.whisker[0] * width, y), QPointF(left + r.whisker[1] * width, y))
        paint_mark(painter, QPointF(left + r.dot * width, y), verdict, 8)
    painter.restore()


def symbol_path(strokes: Strokes, middle: QPointF, size: float) -> QPainterPath:
    """The symbol of a kind of characteristic about a middle."""
    path = QPainterPath()
    for stroke in strokes:
        places = [QPointF(middle.x() + (x - 0.5) * size, middle.y() + (y - 0.5) * size) for x, y in stroke]
        path.moveTo(places[0])
        for place in places[1:]:
            path.lineTo(place)
    return path
