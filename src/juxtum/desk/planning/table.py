"""The table under the stage while a plan is looked at."""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QGuiApplication, QKeyEvent, QKeySequence
from PyQt6.QtWidgets import QAbstractItemView, QHeaderView, QTableWidget, QTableWidgetItem

from juxtum.desk.planning.rows import Cell
from juxtum.desk.style import THEME, colour, font
from juxtum.look import BODY


class PlanTable(QTableWidget):
    """Rows of the topic at hand."""

    chosen = pyqtSignal(int)

    def __init__(self) -> None:
        super().__init__()
        self.setAccessibleName("Plan table")
        self._shown: object = None
        self.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.setShowGrid(False)
        rows, columns = self.verticalHeader(), self.horizontalHeader()
        assert rows is not None and columns is not None
        rows.hide()
        columns.setHighlightSections(False)
        self.currentCellChanged.connect(
            lambda row, column, before, _: self.chosen.emit(row) if row >= 0 and row != before else None
        )
        self.hide()

    def show_rows(self, titles: Sequence[str], rows: Sequence[Sequence[Cell]], wide: int, selected: int = -1) -> None:
        """Show other rows; the column `wide` takes what room there is."""
        shown = (tuple(titles), tuple(tuple(row) for row in rows), THEME.scale, THEME.look.name)
        if shown == self._shown:
            self.select(selected)
            return
        self._shown = shown
        self.blockSignals(True)
        self.clear()
        self.setColumnCount(len(titles))
        self.setRowCount(len(rows))
        self.setHorizontalHeaderLabels(list(titles))
        for r, row in enumerate(rows):
            self.setRowHeight(r, THEME.px(24))
            for c, cell in enumerate(row):
                item = QTableWidgetItem(cell.text)
                item.setFont(font(BODY, mono=cell.is_number))
                item.setForeground(colour(cell.token))
                item.setToolTip(cell.tip or cell.text)
                side = Qt.AlignmentFlag.AlignRight if cell.is_number else Qt.AlignmentFlag.AlignLeft
                item.setTextAlignment(side | Qt.AlignmentFlag.AlignVCenter)
                self.setItem(r, c, item)
        self.resizeColumnsToContents()
        header = self.horizontalHeader()
        assert header is not None
        for c in range(len(titles)):
            numbers = bool(rows) and rows[0][c].is_number
            title = self.horizontalHeaderItem(c)
            if title is not None:
                title.setTextAlignment(
                    (Qt.AlignmentFlag.AlignRight if numbers else Qt.AlignmentFlag.AlignLeft)
                    | Qt.AlignmentFlag.AlignVCenter
                )
            header.setSectionResizeMode(
                c, QHeaderView.ResizeMode.Stretch if c == wide else QHeaderView.ResizeMode.Interactive
            )
        if 0 <= selected < len(rows):
            self.selectRow(selected)
        self.blockSignals(False)

    def select(self, row: int) -> None:
        """Select a row without telling anybody."""
        self.blockSignals(True)
        if row < 0:
            self.clearSelection()
            self.setCurrentCell(-1, -1)
        else:
            self.selectRow(row)
            self.scrollToItem(self.item(row, 0))
        self.blockSignals(False)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Copying gives rows that paste into a spreadsheet."""
        assert event is not None
        clipboard = QGuiApplication.clipboard()
        if event.matches(QKeySequence.StandardKey.Copy) and clipboard is not None:
            clipboard.setText(self.as_text())
        else:
            super().keyPressEvent(event)

    def as_text(self) -> str:
        """The table with tabs between columns."""
        titles = [self.horizontalHeaderItem(c) for c in range(self.columnCount())]
        lines = ["\t".join(t.text() if t else "" for t in titles)]
        for r in range(self.rowCount()):
            cells = [self.item(r, c) for c in range(self.columnCount())]
            lines.append("\t".join(i.text() if i else "" for i in cells))
        return "\n".join(lines)
