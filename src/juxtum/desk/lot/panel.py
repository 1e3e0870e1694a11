"""Telling the parts in a scan apart, choosing one of them, and measuring them all by one procedure."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QAbstractItemView, QHeaderView, QTableWidget, QTableWidgetItem, QWidget

from juxtum.assemble.separating import Separated, seems_many, separate
from juxtum.desk.widgets import LengthField, button, column, form, label, line, row
from juxtum.guide.facts import thousands
from juxtum.guide.lot import lot_words, verdict_words
from juxtum.job import Job
from juxtum.job.lot import LotRow, as_one_scan, lot_jobs, measure_lot, with_separation
from juxtum.progress import Progress
from juxtum.report.lot import write_lot
from juxtum.scene.dress import piece

if TYPE_CHECKING:
    from juxtum.desk.derived import Derived
    from juxtum.desk.desk import Desk

COLUMNS = ("Part", "Points", "Verdicts")
ROW, MOST_ROWS = 24, 8


class LotPanel(QWidget):
    """One row a part; the chosen one is in force.

    Parameters
    ----------
    desk : Desk
    look : callable
        Shows all of the stage when what is on it has changed.
    """

    def __init__(self, desk: Desk, look: Callable[[], None]) -> None:
        super().__init__()
        self._desk, self._look = desk, look
        self._rows: tuple[LotRow, ...] = ()
        self._measured: tuple[tuple[str, Job], ...] = ()
        lines = column(self, 8)
        lines.addWidget(line())
        lines.addWidget(label("Many parts in one scan", "heading"))
        self._words = label("", "soft", wrap=True)
        self._words.setAccessibleName("About the lot")
        lines.addWidget(self._words)
        self._count = LengthField("How many parts", 0.0, "As many as there seem to be where nothing is said")
        self._count.missing = "as found"
        self._count.set_value(None)
        self._count_row = QWidget()
        inside = column(self._count_row, 0)
        inside.addLayout(form([("Parts", self._count)]))
        lines.addWidget(self._count_row)
        self.table = QTableWidget(0, len(COLUMNS))
        self._build_table()
        lines.addWidget(self.table)
        self._separate = button("Tell them apart", self.separate, tip="Each part becomes a scan of its own")
        self._measure = button("Measure them all", self.measure, tip="One procedure on every part")
        self._together = button("Together again", self.together, tip="Take all as one scan again")
        self._save = button("Save the table\u2026", self.save, tip="Values and verdicts of every part, as CSV")
        lines.addLayout(row(self._separate, self._measure, self._save))
        lines.addLayout(row(self._together))

    def _build_table(self) -> None:
        table = self.table
        table.setAccessibleName("Parts of the lot")
        table.setHorizontalHeaderLabels(COLUMNS)
        table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        table.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        table.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        table.setShowGrid(False)
        rows, heads = table.verticalHeader(), table.horizontalHeader()
        assert rows is not None and heads is not None
        rows.hide()
        rows.setDefaultSectionSize(ROW)
        heads.setSectionResizeMode(2, QHeaderView.ResizeMode.Stretch)
        table.setColumnWidth(0, 72)
        table.setColumnWidth(1, 72)
        table.itemSelectionChanged.connect(self._chose)

    @property
    def _derived(self) -> Derived:
        return self._desk.session.derived

    def show_job(self) -> None:
        """Show the job as it is now."""
        d = self._derived
        step = d.job.procedure.separation
        # Most scans hold one part: who has another opinion finds it in the menu.
        is_many = d.pieces is not None and len(d.brought) < 2 and seems_many(d.pieces.areas)
        self.setVisible(step is not None or is_many)
        for widget in (self.table, self._measure, self._together):
            widget.setVisible(step is not None)
        for other in (self._count_row, self._separate):
            other.setVisible(step is None)
        self._separate.setEnabled(True)
        if self._measured and self._measured != lot_jobs(d.job):
            self._rows, self._measured = (), ()
        self._save.setVisible(bool(self._rows))
        if step is None:
            self._words.setText("It looks as if the scan held several: each becomes a scan of its own.")
            return
        self._words.setText(lot_words(self._rows) if self._rows else f"{step.parts} parts; the chosen one is in force.")
        self._measure.setEnabled(bool(d.job.procedure.alignments) and d.nominal is not None)
        self._show_rows(d)

    def _show_rows(self, d: Derived) -> None:
        self.table.blockSignals(True)
        self.table.setRowCount(len(d.lot))
        known = {one.name: one for one in self._rows}
        for index, part in enumerate(d.lot):
            texts = (
                part.name,
                thousands(len(part.scan.points)),
                verdict_words(known[part.name]) if part.name in known else "",
            )
            for at, text in enumerate(texts):
                item = QTableWidgetItem(text)
                if at == 1:
                    item.setTextAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
                if at == 2 and part.name in known:
                    item.setToolTip(known[part.name].problem or "; ".join(known[part.name].notes))
                self.table.setItem(index, at, item)
        names = [part.name for part in d.lot]
        if d.job.scan_in_force in names:
            self.table.selectRow(names.index(d.job.scan_in_force))
        self.table.setFixedHeight(min(len(d.lot), MOST_ROWS) * ROW + 34)
        self.table.blockSignals(False)

    # -- work -------------------------------------------------------------------------------------------------

    def separate(self) -> None:
        """Tell the parts apart: as many as are said, or as there seem to be."""
        session, scan = self._desk.session, self._derived.scan
        if scan is None:
            return
        # Until this one is done: what is in force then is one of the parts.
        self._separate.setEnabled(False)
        stated = self._count.stated
        count = None if stated is None else int(stated)

        def found(made: Separated) -> None:
            parts = len(made.parts)
            words = "; ".join(made.notes)
            session.edit(
                f"separate {parts} parts",
                lambda job: with_separation(job, parts),
                then=lambda: self._tell(parts, words),
            )

        session.compute(lambda progress: separate(scan, count, progress), found)

    def _tell(self, parts: int, words: str) -> None:
        self._desk.announce(f"{parts} parts; {words}." if words else f"{parts} parts are told apart.")
        self._look()

    def together(self) -> None:
        """Take all parts as one scan again."""
        self._desk.session.edit("take the parts as one scan", as_one_scan, then=self._look)

    def _chose(self) -> None:
        model = self.table.selectionModel()
        rows = model.selectedRows() if model is not None else []
        lot = self._derived.lot
        if rows and rows[0].row() < len(lot):
            name = lot[rows[0].row()].name
            if name != self._derived.job.scan_in_force:
                self._desk.session.edit(f"measure {name}", lambda job: job.on_scan(name))

    def measure(self) -> None:
        """Carry the procedure out on every part."""
        session, job = self._desk.session, self._derived.job

        def work(progress: Progress) -> tuple[LotRow, ...]:
            return measure_lot(job, session.runner, progress)

        def done(rows: tuple[LotRow, ...]) -> None:
            self._rows, self._measured = rows, lot_jobs(job)
            self.show_job()
            self._desk.announce(lot_words(rows))

        session.compute(work, done)

    def save(self) -> None:
        """Write the table of the lot."""
        path, rows = self._desk.asking.table("lot.csv"), self._rows
        if path is not None:
            self._desk.session.compute(
                lambda _: write_lot(path, rows), lambda _: self._desk.announce(f"The table is in {path.name}.")
            )

    # -- the stage --------------------------------------------------------------------------------------------

    def dress(self) -> None:
        """The other parts beside the one in force."""
        d = self._derived
        for number, part in enumerate(d.lot):
            if part.name != d.job.scan_in_force:
                self._desk.view.put(piece(number + 1), part.surface, d.upright)
