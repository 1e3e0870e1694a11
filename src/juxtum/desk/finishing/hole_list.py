"""The list of open borders."""

from __future__ import annotations

from PyQt6.QtCore import pyqtSignal

from juxtum.assemble.holes import Hole
from juxtum.desk.widgets import RowTable
from juxtum.guide.finishing import COLUMNS, hole_row

MOST_ROWS = 500


class HoleList(RowTable):
    """One row a border, the longest first."""

    chosen = pyqtSignal()

    def __init__(self) -> None:
        super().__init__("Open borders", COLUMNS, many=True)
        self.stretch(0)
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
                self.write(index, column, text, right=column > 0)
        self.fit_height(7)
        self.setVisible(bool(holes))
        self.blockSignals(False)
        self.chosen.emit()

    @property
    def taken(self) -> tuple[Hole, ...]:
        """The borders that are chosen."""
        return tuple(self.holes[row] for row in self.rows_chosen if row < len(self.holes))

    def step(self) -> None:
        """Choose the next one; the ends of the surface are passed over while there are others."""
        count = self.rowCount()
        if not count:
            return
        start = max((index.row() for index in self.selectedIndexes()), default=-1)
        order = [(start + 1 + k) % count for k in range(count)]
        row = next((k for k in order if self.holes[k].kind != "edge"), order[0])
        self.selectRow(row)
