"""The chain chart: length error over length, the characteristics as ticks, crossings marked."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QPainter, QPaintEvent, QPen, QPolygonF
from PyQt6.QtWidgets import QSizePolicy, QWidget

from juxtum.desk.style import THEME, colour, font
from juxtum.look import SMALL
from juxtum.plan.suitability import ChainChart

LEFT, TOP, RIGHT = 38, 10, 8
AXIS, LINE = 24, 15
"""Height of the axis below the plot, and of one line of the key, pixels."""
DASHES: tuple[list[float], ...] = ([], [6, 3], [2, 3], [8, 3, 2, 3])


class ChainChartView(QWidget):
    """Lines of one instrument's chains strong, all others faint; ticks where each characteristic needs to be."""

    def __init__(self) -> None:
        super().__init__()
        self.setAccessibleName("Method chart")
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self._chart: ChainChart | None = None
        self._instrument = self._chain = ""

    def show_chart(self, chart: ChainChart, instrument: str, chain: str) -> None:
        """Show the chains of an instrument, one of them chosen."""
        self._chart, self._instrument, self._chain = chart, instrument, chain
        self.setToolTip("\n".join(f"{n}: {c.words}" for n, c in zip(chart.names, chart.chains, strict=True)))
        self.update()

    def sizeHint(self) -> QSize:
        """As high as it is readable."""
        return QSize(300, THEME.px(150 + AXIS + LINE * 3))

    def _strong(self) -> list[int]:
        assert self._chart is not None
        return [k for k, name in enumerate(self._chart.names) if name.startswith(f"{self._instrument}, ")]

    @property
    def _top(self) -> float:
        assert self._chart is not None
        strong = [self._chart.chains[k].error(self._chart.longest) for k in self._strong()] or [0.1]
        return 1.12 * max(*strong, 0.02)

    @property
    def _bottom(self) -> float:
        """Height under the plot: axis and key."""
        return AXIS + LINE * THEME.scale * max(len(self._strong()), 1)

    def _at(self, length: float, error: float) -> QPointF:
        assert self._chart is not None
        wide, tall = self.width() - LEFT - RIGHT, self.height() - self._bottom - TOP
        return QPointF(LEFT + length / self._chart.longest * wide, TOP + (1 - error / self._top) * tall)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Grid, lines, names, ticks, crossings."""
        if self._chart is None:
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        self._grid(painter)
        painter.setClipRect(QRectF(LEFT, TOP - 2, self.width() - LEFT - RIGHT, self.height() - TOP - self._bottom + 2))
        strong = self._strong()
        for k in range(len(self._chart.chains)):
            if k not in strong:
                self._line(painter, k, QPen(colour("rule"), 1))
        for number, k in enumerate(strong):
            chosen = self._chart.names[k] == f"{self._instrument}, {self._chain}"
            self._line(painter, k, self._pen(number, chosen))
        self._crossings(painter, strong)
        self._ticks(painter)
        painter.setClipping(False)
        self._names(painter, strong)
        painter.end()

    def _grid(self, painter: QPainter) -> None:
        assert self._chart is not None
        painter.setFont(font(SMALL - 1, mono=True))
        for error in _steps(self._top, 4):
            y = self._at(0, error).y()
            painter.setPen(QPen(colour("field"), 1))
            painter.drawLine(QPointF(LEFT, y), QPointF(self.width() - RIGHT, y))
            painter.setPen(colour("ink_soft"))
            painter.drawText(
                QRectF(0, y - 8, LEFT - 4, 16),
                Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter,
                f"{error:.2f}",
            )
        metres = self._chart.longest > 1500
        for length in _steps(self._chart.longest, 5):
            x = self._at(length, 0).x()
            text = f"{length / 1000:g}" if metres else f"{length:g}"
            painter.drawText(
                QRectF(x - 24, self.height() - self._bottom + 4, 48, 14), Qt.AlignmentFlag.AlignHCenter, text
            )
        painter.setFont(font(SMALL - 1))
        unit = "m" if metres else "mm"
        painter.drawText(
            QRectF(self.width() - 44, self.height() - self._bottom - 16, 36, 13), Qt.AlignmentFlag.AlignRight, unit
        )
        painter.setPen(QPen(colour("ink_soft"), 1))
        painter.drawLine(QPointF(LEFT, TOP), QPointF(LEFT, self.height() - self._bottom))
        painter.drawLine(
            QPointF(LEFT, self.height() - self._bottom), QPointF(self.width() - RIGHT, self.height() - self._bottom)
        )

    def _line(self, painter: QPainter, k: int, pen: QPen) -> None:
        assert self._chart is not None
        chain = self._chart.chains[k]
        end = min(self._chart.longest, chain.longest)
        painter.setPen(pen)
        painter.drawPolyline(QPolygonF([self._at(0, chain.a), self._at(end, chain.error(end))]))

    def _crossings(self, painter: QPainter, strong: list[int]) -> None:
        assert self._chart is not None
        names = {self._chart.names[k] for k in strong}
        painter.setPen(QPen(colour("ink"), 1.2))
        painter.setBrush(colour("panel"))
        for crossing in self._chart.crossings:
            if crossing.first in names and crossing.second in names:
                painter.drawEllipse(self._at(crossing.length, crossing.error), 3, 3)

    def _ticks(self, painter: QPainter) -> None:
        """Each characteristic where its length and the error that is just good for it meet; beyond the top as arrows."""
        assert self._chart is not None
        painter.setFont(font(SMALL - 1, bold=True))
        told: list[QPointF] = []
        for name, length, error in self._chart.ticks:
            spot = self._at(length, min(error, self._top * 0.985))
            painter.setPen(QPen(colour("undecided"), 1.6))
            painter.drawLine(spot - QPointF(6, 0), spot + QPointF(6, 0))
            painter.drawLine(spot, spot + QPointF(0, 4 if error <= self._top else -5))
            step = QPointF(0, 14)
            place = spot + step
            while any(abs(place.x() - t.x()) < 12 and abs(place.y() - t.y()) < 11 for t in told):
                place += QPointF(0, 11)
            told.append(place)
            painter.setPen(colour("ink"))
            painter.drawText(QRectF(place.x() - 12, place.y() - 8, 24, 14), Qt.AlignmentFlag.AlignCenter, name)

    def _names(self, painter: QPainter, strong: list[int]) -> None:
        """A key under the plot: line and name of each chain of the instrument."""
        assert self._chart is not None
        painter.setFont(font(SMALL))
        for number, k in enumerate(strong):
            y = self.height() - self._bottom + AXIS + (number + 0.5) * LINE * THEME.scale
            chosen = self._chart.names[k] == f"{self._instrument}, {self._chain}"
            painter.setPen(self._pen(number, chosen))
            painter.drawLine(QPointF(LEFT, y), QPointF(LEFT + 30, y))
            painter.setPen(colour("accent" if chosen else "ink_soft"))
            painter.drawText(QPointF(LEFT + 38, y + 4), self._chart.chains[k].name)

    @staticmethod
    def _pen(number: int, chosen: bool) -> QPen:
        pen = QPen(colour("accent" if chosen else "ink_soft"), 2.2 if chosen else 1.4)
        if not chosen and DASHES[number % 4]:
            pen.setDashPattern(DASHES[number % 4])
        return pen


def _steps(top: float, count: int) -> list[float]:
    """Round numbers from 0 up to a top."""
    raw = top / count
    power = 10 ** np.floor(np.log10(raw))
    step = next(float(f * power) for f in (1, 2, 5, 10) if f * power >= raw)
    return [float(v) for v in np.arange(0, top + 1e-9, step)]
