"""The list of open borders."""

from __future__ import annotations

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QAbstractItemView, QHeaderView, QTableWidget, QTableWidgetItem

from juxtum.assemble.holes import Hole
from juxtum.guide.finishing import COLUMNS, hole_row

MOST_ROWS = 500
ROW = 24


class HoleList(QTableWidget):
    """One row a border, the longest first."""

    chosen = pyqtSignal()

    def __init__(self) -> None:
        super().__init__(0, len(COLUMNS))
        self.setAccessibleName("Open borders")
        self.setHorizontalHeaderLabels(COLUMNS)
        self.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.setSelectionMode(QAbstractItemView.SelectionMode.ExtendedSelection)
        self.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.setShowGrid(False)
        rows, heads = self.verticalHeader(), self.horizontalHeader()
        assert rows is not None and heads is not None
        rows.hide()
        rows.setDefaultSectionSize(ROW)
        heads.setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
        for column in (1, 2):
            self.setColumnWidth(column, 104)
        self.holes: tuple[Hole, ...] = ()
        self.itemSelectionChanged.connect(self.chosen.emit)

    def show_holes(self, holes: tuple[Hole, ...]) -> None:
        """Show other borders; none is chosen then."""
        if holes is self.holes:
            return
        self.holes = holes
        self.blockSignals(True)
        self.clearSelection()
        self.setRowCount(min(len(holes), MOST_ROWS))
        for index, hole in enumerate(holes[:MOST_ROWS]):
            for column, text in enumerate(hole_row(hole)):
                item = QTableWidgetItem(text)
                if column:
                    item.setTextAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
                self.setItem(index, column, item)
        self.setFixedHeight(min(self.rowCount(), 7) * ROW + 34)
        self.setVisible(bool(holes))
        self.blockSignals(False)
        self.chosen.emit()

    @property
    def taken(self) -> tuple[Hole, ...]:
        """The borders that are chosen."""
        model = self.selectionModel()
        rows = sorted(index.row() for index in model.selectedRows()) if model is not None else []
        return tuple(self.holes[row] for row in rows if row < len(self.holes))

    def step(self) -> None:
        """Choose the next one; the ends of the surface are passed over while there are others."""
        count = self.rowCount()
        if not count:
            return
        start = max((index.row() for index in self.selectedIndexes()), default=-1)
        order = [(start + 1 + k) % count for k in range(count)]
        row = next((k for k in order if self.holes[k].kind != "edge"), order[0])
        self.selectRow(row)
