"""The legend: the area-weighted histogram turned on its side, with limits that can be dragged."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QPainter, QPen, QPolygonF

from juxtum.desk.style import THEME, colour, font
from juxtum.evaluate import Histogram
from juxtum.look import SMALL
from juxtum.scene.palette import MapScale, colours
from juxtum.wording import signed_short

WIDTH, TOP, BOTTOM = 116.0, 12.0, 64.0


def legend_width() -> float:
    """How much of the stage's width a legend covers."""
    return WIDTH * (1 + (THEME.scale - 1) * 0.8) + 12


class Legend:
    """Where the legend lies, what it shows and what of it can be taken hold of."""

    def __init__(
        self, scale: MapScale, area: Histogram, note: str, unit: str = "mm", *, is_fixed: bool = False
    ) -> None:
        self._is_fixed = is_fixed
        self.scale = scale
        self.area = area
        self.note, self.unit = note, unit
        self.box = QRectF()
        self._held_ends = scale.ends

    def place(self, width: int, height: int, top: float) -> None:
        """Along the right edge of the stage, from some height down."""
        tall = min(height - top - BOTTOM, 430.0 * THEME.scale)
        wide = legend_width() - 12
        self.box = QRectF(width - wide - 10, top, wide, max(tall, 80.0))

    @property
    def _bar(self) -> QRectF:
        return QRectF(self.box.left() + 54 * THEME.scale, self.box.top() + 30, 12, self.box.height() - 62)

    def _y(self, value: float) -> float:
        low, high = self._held_ends
        return self._bar.bottom() - (value - low) / (high - low) * self._bar.height()

    def handle_at(self, here: QPointF) -> str | None:
        """Which limit's handle is under the pointer."""
        if self._is_fixed or not self.box.contains(here):
            return None
        near = {
            name: abs(here.y() - self._y(v)) for name, v in (("lower", self.scale.lower), ("upper", self.scale.upper))
        }
        name = min(near, key=lambda n: near[n])
        return name if near[name] < 9 else None

    def dragged(self, which: str, y: float) -> MapScale:
        """The scale with one limit moved to a height; limits never cross, and snap to hundredths."""
        low, high = self._held_ends
        value = low + (self._bar.bottom() - y) / self._bar.height() * (high - low)
        step = 10 ** np.floor(np.log10(max(high - low, 1e-6)) - 2)
        value = round(float(np.clip(round(value / step) * step, low, high)), 6)
        if which == "upper":
            return replace(self.scale, upper=max(value, self.scale.lower + step))
        return replace(self.scale, lower=min(value, self.scale.upper - step))

    def paint(self, painter: QPainter) -> None:
        """Panel, colours, histogram, limits, what was not seen."""
        painter.setPen(QPen(colour("rule"), 1))
        panel = colour("panel")
        panel.setAlpha(235)
        painter.setBrush(panel)
        painter.drawRoundedRect(self.box, 6, 6)
        painter.setFont(font(SMALL))
        painter.setPen(colour("ink_soft"))
        painter.drawText(QPointF(self.box.left() + 14, self.box.top() + 18), self.unit)
        painter.drawText(QPointF(self._bar.right() + 6, self.box.top() + 18), "area")
        self._paint_bars(painter)
        low, high = self._held_ends
        if self.scale.span is None:
            self._number(painter, 0.0 if low < 0 < high else (low + high) / 2, "ink_soft")
        for end in (low, high):
            self._number(painter, end, "ink_soft")
        self._limit(painter, self.scale.lower)
        self._limit(painter, self.scale.upper)
        painter.setFont(font(SMALL))
        painter.setPen(colour("ink_soft"))
        painter.drawText(QPointF(self.box.left() + 10, self.box.bottom() - 10), self.note)

    def _paint_bars(self, painter: QPainter) -> None:
        bar = self._bar
        edges, shares = self.area.edges, self.area.shares
        middles = (edges[1:] + edges[:-1]) / 2
        # The square root lets small shares far out be seen beside the large one in the middle.
        lengths = np.sqrt(shares / max(float(shares.max()), 1e-12)) * (self.box.right() - bar.right() - 8)
        painter.setPen(Qt.PenStyle.NoPen)
        for low, high, length, shade in zip(
            edges, edges[1:], lengths, colours(middles, self.scale, THEME.look), strict=False
        ):
            top, bottom = self._y(float(high)), self._y(float(low))
            if bottom < bar.top() - 1 or top > bar.bottom() + 1:
                continue
            painter.setBrush(QColor.fromRgbF(*(float(c) for c in shade)))
            painter.drawRect(QRectF(bar.left(), top, bar.width(), bottom - top + 0.6))
            painter.drawRect(QRectF(bar.right() + 3, top, float(length), bottom - top + 0.6))

    def _number(self, painter: QPainter, value: float, token: str, bold: bool = False) -> None:
        face = font(SMALL, bold=bold, mono=True)
        painter.setFont(face)
        painter.setPen(colour(token))
        box = QRectF(self.box.left() + 2, self._y(value) - 10, 40 * THEME.scale, 20)
        text = self._told(value)
        wide = painter.fontMetrics().horizontalAdvance(text)
        if wide > box.width():
            # A number of many digits is drawn smaller, not without its sign.
            face.setPixelSize(max(7, int(face.pixelSize() * box.width() / wide)))
            painter.setFont(face)
        painter.drawText(box, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, text)

    def _told(self, value: float) -> str:
        if self.scale.span is not None:
            return f"{value:.3g}"
        return signed_short(round(value, 4)) if value else "0"

    def _limit(self, painter: QPainter, value: float) -> None:
        y, left = self._y(value), self._bar.left()
        painter.setPen(QPen(colour("ink"), 1.3))
        painter.drawLine(QPointF(left - 3, y), QPointF(self.box.right() - 6, y))
        painter.setBrush(colour("ink"))
        painter.drawPolygon(QPolygonF([QPointF(left - 3, y), QPointF(left - 10, y - 5), QPointF(left - 10, y + 5)]))
        self._number(painter, value, "ink", bold=True)
