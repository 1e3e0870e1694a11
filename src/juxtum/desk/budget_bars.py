"""Lines of a budget with bars."""

from __future__ import annotations

import math

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QFontMetricsF, QPainter, QPaintEvent, QResizeEvent
from PyQt6.QtWidgets import QWidget

from juxtum.desk.style import THEME, colour, font
from juxtum.evaluate import Budget, Contribution
from juxtum.look import SMALL

WORDS = 0.58
"""Share of the width that is for words beside a bar; longer ones have a row to themselves above it."""


class BudgetBars(QWidget):
    """Lines of a budget: source, bar and number."""

    def __init__(self) -> None:
        super().__init__()
        self.setAccessibleName("Budget")
        self._budget: Budget | None = None

    def show_budget(self, budget: Budget) -> None:
        """Show a budget."""
        self._budget = budget
        self.setToolTip("\n".join(f"{c.source}: {standard_words(c.standard, 5)} mm" for c in budget.contributions))
        self._fit()
        self.update()

    def sizeHint(self) -> QSize:
        """As high as its lines."""
        return QSize(280, self._height())

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        """Words that no longer fit beside their bar go above it."""
        self._fit()

    def _fit(self) -> None:
        if self._budget is not None and self.height() != self._height():
            self.setFixedHeight(self._height())

    def _height(self) -> int:
        lines = self._budget.contributions if self._budget else ()
        return sum(2 if self._is_long(c) else 1 for c in lines) * THEME.px(20) + 4

    def _is_long(self, line: Contribution) -> bool:
        return QFontMetricsF(font(SMALL)).horizontalAdvance(line.source) > WORDS * self.width()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Source, bar, number."""
        if self._budget is None:
            return
        painter = QPainter(self)
        largest = max((c.standard for c in self._budget.contributions if math.isfinite(c.standard)), default=0.0) or 1.0
        tall, width, middle = THEME.px(20), self.width(), THEME.px(20) / 2
        for c in self._budget.contributions:
            painter.setFont(font(SMALL))
            painter.setPen(colour("ink_soft"))
            painter.drawText(QPointF(0, middle + 4), c.source)
            middle += tall if self._is_long(c) else 0
            if math.isfinite(c.standard):
                painter.fillRect(QRectF(width * 0.6, middle - 3, width * 0.2, 6), colour("field"))
                painter.fillRect(
                    QRectF(width * 0.6, middle - 3, width * 0.2 * c.standard / largest, 6), colour("ink_soft")
                )
            painter.setFont(font(SMALL, mono=True))
            painter.setPen(colour("ink"))
            number = standard_words(c.standard, 4)
            painter.drawText(QRectF(width * 0.7, middle - 8, width * 0.3, 16), Qt.AlignmentFlag.AlignRight, number)
            middle += tall
        painter.end()


def standard_words(value: float, decimals: int) -> str:
    """A standard uncertainty in figures, or that it is not known."""
    return f"{value:.{decimals}f}" if math.isfinite(value) else "not known"
