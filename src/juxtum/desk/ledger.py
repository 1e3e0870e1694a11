"""The ledger: the drawing's characteristics with their running verdicts."""

from __future__ import annotations

import math

from PyQt6.QtCore import QAbstractTableModel, QItemSelectionModel, QModelIndex, QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QGuiApplication, QKeyEvent, QKeySequence, QPainter, QPen, QResizeEvent
from PyQt6.QtWidgets import (
    QAbstractItemView,
    QHeaderView,
    QStyledItemDelegate,
    QStyleOptionViewItem,
    QTableView,
    QWidget,
)

from juxtum.desk.marks import paint_mark, paint_ruler, symbol_path, verdict_colour
from juxtum.desk.style import THEME, colour, font
from juxtum.evaluate import Line, LineResult
from juxtum.evaluate.kinds import Strokes, kind_of
from juxtum.guide.verdicts import limit_words, value_words
from juxtum.look import BODY
from juxtum.wording import DASH, signed, uncertainty

COLUMNS = ("No.", "Characteristic", "Nominal", "Limit", "Measured", "\u00b1 U", "Ruler", "Verdict", "Method")
WIDTHS = (38, 226, 60, 62, 80, 66, 106, 128, 84)
LIMIT, WIDE = 3, 124
"""The column of limits, and how wide it is where they stand about a nominal."""
RULER, VERDICT, METHOD = 6, 7, 8
LEAST_NAME = 140
SPARED = (2, 8, 6, 3, 5)
"""Columns in the order in which they give way."""
Row = tuple[Line, LineResult | None]


class LedgerModel(QAbstractTableModel):
    """Rows of characteristics, measured or not yet."""

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self.rows: list[Row] = []
        self.methods: dict[str, str] = {}

    def method(self, line: Line) -> str:
        """How the plan has a characteristic measured."""
        return self.methods.get(line.id, "")

    def set_rows(self, rows: list[Row]) -> None:
        """Show other rows."""
        self.beginResetModel()
        self.rows = rows
        self.endResetModel()

    def rowCount(self, parent: QModelIndex = QModelIndex()) -> int:
        """Number of characteristics."""
        return 0 if parent.isValid() else len(self.rows)

    def columnCount(self, parent: QModelIndex = QModelIndex()) -> int:
        """Number of columns."""
        return len(COLUMNS)

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = 0) -> object:
        """Column titles."""
        if orientation is Qt.Orientation.Horizontal and role == Qt.ItemDataRole.DisplayRole:
            return COLUMNS[section]
        if orientation is Qt.Orientation.Horizontal and role == Qt.ItemDataRole.TextAlignmentRole:
            return int(
                (Qt.AlignmentFlag.AlignRight if section in (2, 3, 4, 5) else Qt.AlignmentFlag.AlignLeft)
                | Qt.AlignmentFlag.AlignVCenter
            )
        return None

    def data(self, index: QModelIndex, role: int = 0) -> object:
        """Text, alignment, font and tooltip of a cell."""
        line, result = self.rows[index.row()]
        column = index.column()
        if role == Qt.ItemDataRole.DisplayRole:
            return self.method(line) if column == METHOD else cell_text(line, result, column)
        if role == Qt.ItemDataRole.TextAlignmentRole:
            side = Qt.AlignmentFlag.AlignRight if column in (2, 3, 4, 5) else Qt.AlignmentFlag.AlignLeft
            return int(side | Qt.AlignmentFlag.AlignVCenter)
        if role == Qt.ItemDataRole.FontRole:
            return font(BODY, bold=column in (1, 4), mono=column in (0, 2, 3, 4, 5))
        if role == Qt.ItemDataRole.ToolTipRole:
            return _tip(line, result)
        return None


def cell_text(line: Line, result: LineResult | None, column: int) -> str:
    """What a cell says."""
    value = result.value if result is not None else math.nan
    expanded = result.expanded if result is not None and result.points else math.nan
    texts = (
        line.id, line.title, f"{line.limits.nominal:g}", limit_words(line.limits), value_words(line.limits, value, expanded),
        uncertainty(expanded), "",
        "not measured" if result is None else str(result.verdict), "",
    )  # fmt: skip
    return texts[column]


def _tip(line: Line, result: LineResult | None) -> str:
    if result is None:
        return "Not measured yet"
    full = signed(result.value, 6) if math.isfinite(result.value) else DASH
    return f"{full} mm; {result.reason}"


class _Painted(QStyledItemDelegate):
    """Rulers, marks and the symbol of the tolerance, painted."""

    def paint(self, painter: QPainter | None, option: QStyleOptionViewItem, index: QModelIndex) -> None:
        """Background as usual, then the drawing."""
        assert painter is not None
        model = index.model()
        assert isinstance(model, LedgerModel)
        line, result = model.rows[index.row()]
        column = index.column()
        if column == 1:
            option.rect.adjust(22, 0, 0, 0)
            super().paint(painter, option, index)
            option.rect.adjust(-22, 0, 0, 0)
            self._symbol(painter, option, kind_of(line.tag).symbol)
            return
        if column not in (RULER, VERDICT):
            super().paint(painter, option, index)
            return
        painter.save()
        box = QRectF(option.rect)
        if option.state & option.state.State_Selected:
            painter.fillRect(option.rect, colour("accent_wash"))
        painter.setPen(QPen(colour("field"), 1))
        painter.drawLine(box.bottomLeft(), box.bottomRight())
        verdict = result.verdict if result is not None else None
        if column == RULER:
            value = result.value if result is not None else math.nan
            expanded = result.expanded if result is not None else math.nan
            paint_ruler(
                painter, box.adjusted(8, 0, -8, 0), (line.limits.lower, line.limits.upper), value, expanded, verdict
            )
        else:
            paint_mark(painter, QPointF(box.left() + 12, box.center().y()), verdict, 11)
            painter.setPen(verdict_colour(verdict))
            painter.setFont(font(BODY))
            word = "not yet" if verdict is None else str(verdict)
            painter.drawText(box.adjusted(24, 0, 0, 0), Qt.AlignmentFlag.AlignVCenter, word)
        painter.restore()

    @staticmethod
    def _symbol(painter: QPainter, option: QStyleOptionViewItem, strokes: Strokes) -> None:
        painter.save()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if option.state & option.state.State_Selected:
            painter.fillRect(option.rect.adjusted(0, 0, 22 - option.rect.width(), 0), colour("accent_wash"))
        painter.setPen(QPen(colour("ink"), 1.3))
        painter.drawPath(symbol_path(strokes, QPointF(option.rect.left() + 13, option.rect.center().y() + 1), 13))
        painter.restore()

    def sizeHint(self, option: QStyleOptionViewItem, index: QModelIndex) -> QSize:
        """Rows of one height."""
        return QSize(60, THEME.px(25))


class Ledger(QTableView):
    """The table under the stage."""

    chosen = pyqtSignal(str)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setAccessibleName("Ledger")
        self._model = LedgerModel(self)
        self.setModel(self._model)
        self.setItemDelegate(_Painted(self))
        self.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.setShowGrid(False)
        self.setVerticalScrollMode(QAbstractItemView.ScrollMode.ScrollPerPixel)
        rows, columns = self.verticalHeader(), self.horizontalHeader()
        assert rows is not None and columns is not None
        rows.hide()
        columns.setHighlightSections(False)
        columns.setMinimumSectionSize(40)
        columns.setSectionResizeMode(1, QHeaderView.ResizeMode.Stretch)
        self.restyle()
        selection = self.selectionModel()
        assert selection is not None
        selection.currentRowChanged.connect(lambda now, before: self._choose(now))

    def restyle(self) -> None:
        """Row height and column widths at the text scale."""
        rows = self.verticalHeader()
        assert rows is not None
        rows.setDefaultSectionSize(THEME.px(25))
        for index, width in enumerate(self._widths):
            self.setColumnWidth(index, THEME.px(width))
        self.resizeEvent(None)

    @property
    def _widths(self) -> tuple[int, ...]:
        has_sizes = any(line.limits.nominal for line, _ in self._model.rows)
        return tuple(WIDE if k == LIMIT and has_sizes else width for k, width in enumerate(WIDTHS))

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        """Where there is little room, columns that can be done without give way to the name."""
        if event is not None:
            super().resizeEvent(event)
        viewport = self.viewport()
        room = (viewport.width() if viewport is not None else self.width()) - THEME.px(LEAST_NAME)
        widths = {k: THEME.px(w) for k, w in enumerate(self._widths) if k != 1}
        for column in SPARED:
            hidden = sum(widths.values()) > room
            self.setColumnHidden(column, hidden)
            if hidden:
                widths.pop(column)

    def _choose(self, index: QModelIndex) -> None:
        if index.isValid():
            self.chosen.emit(self._model.rows[index.row()][0].id)

    def set_methods(self, methods: dict[str, str]) -> None:
        """How each characteristic is to be measured, by the number of its line."""
        self._model.methods = methods

    def set_rows(self, rows: list[Row], selected: str) -> None:
        """Show rows and keep the selection."""
        selection = self.selectionModel()
        assert selection is not None
        selection.blockSignals(True)
        before = self._widths
        self._model.set_rows(rows)
        if self._widths != before:
            self.restyle()
        for index, (line, _) in enumerate(rows):
            if line.id == selected:
                flags = QItemSelectionModel.SelectionFlag.ClearAndSelect | QItemSelectionModel.SelectionFlag.Rows
                selection.setCurrentIndex(self._model.index(index, 0), flags)
                self.scrollTo(self._model.index(index, 0))
        selection.blockSignals(False)
        viewport = self.viewport()
        if viewport is not None:
            viewport.update()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Copying gives rows that paste into a spreadsheet."""
        assert event is not None
        if event.matches(QKeySequence.StandardKey.Copy):
            clipboard = QGuiApplication.clipboard()
            if clipboard is not None:
                clipboard.setText(self.as_text())
        else:
            super().keyPressEvent(event)

    def as_text(self) -> str:
        """The ledger with tabs between columns."""
        columns = [c for c in range(len(COLUMNS)) if c != RULER]
        lines = ["\t".join(COLUMNS[c] for c in columns)]
        model = self._model
        lines += [
            "\t".join(model.method(x) if c == METHOD else cell_text(x, result, c) for c in columns)
            for x, result in model.rows
        ]
        return "\n".join(lines)
