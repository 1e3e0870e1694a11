"""The list of patches."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QAbstractItemView, QHeaderView, QTableWidget, QTableWidgetItem

from juxtum.capture.live.snapshot import PatchRow
from juxtum.guide.facts import thousands

COLUMNS = ("No.", "Points", "Time", "Held", "")


class PatchList(QTableWidget):
    """One row a patch; the running one is marked."""

    def __init__(self) -> None:
        super().__init__(0, len(COLUMNS))
        self.setAccessibleName("Patches")
        self.setHorizontalHeaderLabels(COLUMNS)
        self.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.setShowGrid(False)
        self.setMinimumHeight(96)
        self.setMaximumHeight(150)
        rows, heads = self.verticalHeader(), self.horizontalHeader()
        assert rows is not None and heads is not None
        rows.hide()
        rows.setDefaultSectionSize(24)
        for column, width in enumerate((32, 78, 46, 58)):
            self.setColumnWidth(column, width)
        heads.setSectionResizeMode(4, QHeaderView.ResizeMode.Stretch)
        self._shown: tuple[PatchRow, ...] = ()

    def show_patches(self, patches: tuple[PatchRow, ...]) -> None:
        """Show other patches; only what changed is written."""
        if patches == self._shown:
            return
        self._shown = patches
        self.setRowCount(len(patches))
        for row, patch in enumerate(patches):
            state = (
                "lost, jumped"
                if patch.has_jumped
                else "running"
                if patch.is_running
                else "fine zone"
                if patch.zone
                else ""
            )
            where = "turned over" if patch.position else ""
            words = ", ".join(w for w in (state, where) if w) or patch.mode
            texts = (
                str(patch.number),
                thousands(patch.points),
                f"{patch.seconds:.0f} s",
                f"{100 * patch.held:.0f} %",
                words,
            )
            for column, text in enumerate(texts):
                item = self.item(row, column)
                if item is None:
                    item = QTableWidgetItem()
                    if column < 4:
                        item.setTextAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
                    self.setItem(row, column, item)
                if item.text() != text:
                    item.setText(text)
                    item.setToolTip(text)

    @property
    def chosen(self) -> int | None:
        """Number of the chosen patch; the last one when none is chosen."""
        if not self._shown:
            return None
        selection = self.selectionModel()
        rows = selection.selectedRows() if selection is not None else []
        index = rows[0].row() if rows else len(self._shown) - 1
        return self._shown[index].number if index < len(self._shown) else None
