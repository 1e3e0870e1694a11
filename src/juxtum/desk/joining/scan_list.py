"""The list of scans: which are shown, which one is worked on, what became of each."""

from __future__ import annotations

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QIcon, QPixmap
from PyQt6.QtWidgets import QTableWidgetItem

from juxtum.desk.style import colour
from juxtum.desk.widgets import RowTable
from juxtum.guide.joining import ScanRow, about_words
from juxtum.scene.dress import PIECES

COLUMNS = ("Shown", "Scan", "Points", "State")


class ScanList(RowTable):
    """One row a scan; the last one is what is joined of the others."""

    chosen = pyqtSignal(str)
    shown_changed = pyqtSignal()

    def __init__(self) -> None:
        super().__init__("Scans", COLUMNS)
        for column, width in ((0, 52), (2, 76), (3, 88)):
            self.setColumnWidth(column, width)
        self.stretch(1)
        self._rows: tuple[ScanRow, ...] = ()
        self._hidden: set[str] = set()
        self._seen: frozenset[str] = frozenset()
        self.itemChanged.connect(self._ticked)
        self.itemSelectionChanged.connect(self._selected)

    def show_rows(self, rows: tuple[ScanRow, ...], joined: str) -> None:
        """Show other rows; what is joined hides its scans when it is new, and they are all shown when it goes.

        Parameters
        ----------
        joined : str
            The name of what is joined; empty while nothing is.
        """
        names = frozenset(row.name for row in rows)
        is_fresh = bool(joined) and joined not in self._seen
        if is_fresh:
            self._hidden = set(names - {joined})
        elif not joined and self._hidden >= names:
            self._hidden = set()
        self._seen = names
        if rows == self._rows:
            return
        kept = self.target
        self._rows = rows
        self.blockSignals(True)
        self.setRowCount(len(rows))
        for index, row in enumerate(rows):
            self._write_row(index, row)
        self.fit_height(9)
        self.blockSignals(False)
        # What was just made of the scans is what is worked on from here: its holes, its fragments.
        self.choose(kept if kept in names and not is_fresh else joined or (rows[0].name if rows else ""))

    def _write_row(self, index: int, row: ScanRow) -> None:
        shown = QTableWidgetItem()
        shown.setFlags(Qt.ItemFlag.ItemIsUserCheckable | Qt.ItemFlag.ItemIsEnabled | Qt.ItemFlag.ItemIsSelectable)
        if not row.is_joined:
            swatch = QPixmap(12, 12)
            swatch.fill(colour(PIECES[index % len(PIECES)]))
            shown.setIcon(QIcon(swatch))
        shown.setCheckState(Qt.CheckState.Unchecked if row.name in self._hidden else Qt.CheckState.Checked)
        self.setItem(index, 0, shown)
        for column, text in enumerate((row.name, row.points, row.state), 1):
            self.write(index, column, text, about_words(row), right=column == 2)

    @property
    def target(self) -> str:
        """The scan that is worked on; empty while none is chosen."""
        rows = self.rows_chosen
        return self._rows[rows[0]].name if rows and rows[0] < len(self._rows) else ""

    @property
    def row_chosen(self) -> ScanRow | None:
        """Its row."""
        return next((row for row in self._rows if row.name == self.target), None)

    def choose(self, name: str) -> None:
        """Work on another scan."""
        index = next((k for k, row in enumerate(self._rows) if row.name == name), None)
        if index is not None and name != self.target:
            self.selectRow(index)

    def is_shown(self, name: str) -> bool:
        """Whether a scan is to be seen on the stage."""
        return name not in self._hidden

    def show_only(self, names: set[str]) -> None:
        """Have these seen on the stage and no others."""
        self._hidden = {row.name for row in self._rows if row.name not in names}
        self.blockSignals(True)
        for index, row in enumerate(self._rows):
            item = self.item(index, 0)
            assert item is not None
            item.setCheckState(Qt.CheckState.Checked if row.name in names else Qt.CheckState.Unchecked)
        self.blockSignals(False)
        self.shown_changed.emit()

    def _ticked(self, item: QTableWidgetItem) -> None:
        if item.column() != 0 or item.row() >= len(self._rows):
            return
        name = self._rows[item.row()].name
        (self._hidden.discard if item.checkState() is Qt.CheckState.Checked else self._hidden.add)(name)
        self.shown_changed.emit()

    def _selected(self) -> None:
        self.chosen.emit(self.target)
