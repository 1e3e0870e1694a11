"""One value in large digits, with its ruler, its reason, and what its uncertainty is made of."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF
from PyQt6.QtGui import QPainter, QPaintEvent
from PyQt6.QtWidgets import QWidget

from juxtum.desk.budget_bars import BudgetBars
from juxtum.desk.marks import paint_mark, paint_ruler, verdict_colour
from juxtum.desk.style import THEME, colour, font
from juxtum.desk.widgets import column, label
from juxtum.evaluate import LineResult, Reading
from juxtum.evaluate.uncertainty import Budget
from juxtum.guide.verdicts import value_words
from juxtum.look import LARGE, SMALL
from juxtum.wording import DASH, measured, percent, uncertainty


class Detail(QWidget):
    """One value in large digits, its ruler, its reason and what its uncertainty is made of."""

    def __init__(self) -> None:
        super().__init__()
        self.setAccessibleName("Selected value")
        layout = column(self, 4)
        self._title = label("", "heading", wrap=True)
        self._value = _ValueLine()
        self._reason = label("", "soft", wrap=True)
        self._reason.setAccessibleName("Reason")
        self._budget_title = label("Uncertainty budget", "heading")
        self._budget = BudgetBars()
        for widget in (self._title, self._value, self._reason, self._budget_title, self._budget):
            layout.addWidget(widget)

    def show_item(self, result: LineResult | None, reading: Reading | None) -> None:
        """Show a characteristic or a reading, or nothing."""
        self.setVisible(result is not None or reading is not None)
        if reading is not None:
            self._title.setText(f"Reading {reading.label}")
            self._value.show_reading(reading)
            place = ", ".join(f"{v:.2f}" for v in reading.place)
            self._reason.setText(f"at ({place}) on face {reading.face}; mean of {reading.count} points")
            self._show_budget(reading.budget if reading.is_seen else None)
        elif result is not None:
            line = result.line
            self._title.setText(f"{line.id}  {line.title}")
            self._value.show_result(result)
            words = result.reason[:1].upper() + result.reason[1:] + "."
            if result.points:
                words += f" {_both(result)}"
                words += f" Probability of conformity {percent(result.probability)}; {percent(result.area_seen, 0)} of its area seen."
            self._reason.setText(words)
            self._show_budget(result.budget if result.points else None)

    def _show_budget(self, budget: Budget | None) -> None:
        self._budget_title.setVisible(budget is not None)
        self._budget.setVisible(budget is not None)
        if budget is not None:
            self._budget.show_budget(budget)

    @property
    def texts(self) -> tuple[str, str, str]:
        """Title, value and reason, as read."""
        return self._title.text(), self._value.text, self._reason.text()


class _ValueLine(QWidget):
    """The one number that matters, with mark and ruler."""

    def __init__(self) -> None:
        super().__init__()
        self.text = ""
        self._result: LineResult | None = None
        self._expanded, self._k = "", 2.0

    def _resize(self) -> None:
        self.setFixedHeight(THEME.px(60) if self._result is not None else THEME.px(34))
        self.update()

    def show_result(self, result: LineResult) -> None:
        """A characteristic's value."""
        self._result = result
        self.text = value_words(result.line.limits, result.value, result.expanded)
        self._expanded, self._k = uncertainty(result.expanded) if result.points else DASH, result.k
        self._resize()

    def show_reading(self, reading: Reading) -> None:
        """A reading's value."""
        self._result = None
        self.text = measured(reading.deviation, reading.expanded) if reading.is_seen else "not seen"
        self._expanded, self._k = uncertainty(reading.expanded), reading.budget.k
        self._resize()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Digits, mark, ruler."""
        painter = QPainter(self)
        k = THEME.scale
        painter.setFont(font(LARGE + 4, bold=True, mono=True))
        painter.setPen(colour("ink"))
        painter.drawText(QPointF(0, 26 * k), self.text)
        offset = painter.fontMetrics().horizontalAdvance(self.text)
        painter.setFont(font(SMALL + 1))
        painter.setPen(colour("ink_soft"))
        words = "mm   U not known" if self._expanded == DASH else f"mm  \u00b1 {self._expanded}  (k = {self._k:.3g})"
        painter.drawText(QPointF(offset + 8 * k, 26 * k), words)
        r = self._result
        if r is not None:
            paint_mark(painter, QPointF(self.width() - 12, 17 * k), r.verdict, 13 * k)
            box = QRectF(2, 36 * k, self.width() * 0.55, 18 * k)
            paint_ruler(painter, box, (r.line.limits.lower, r.line.limits.upper), r.value, r.expanded, r.verdict)
            painter.setPen(verdict_colour(r.verdict))
            painter.setFont(font(SMALL + 2, bold=True))
            painter.drawText(QPointF(self.width() * 0.55 + 14, 50 * k), str(r.verdict))
        painter.end()


def _both(result: LineResult) -> str:
    """Both sides, since the large number is the worse one, and what it means."""
    sides = ", ".join(f"{s.words} {measured(s.value, s.expanded)}" for s in result.measured.sides if s.words)
    return " ".join(f"{words[:1].upper()}{words[1:]}." for words in (sides, result.measured.meaning) if words)
