"""Telling the parts in a scan apart, choosing one of them, and measuring them all by one procedure."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

from PyQt6.QtWidgets import QWidget

from juxtum.assemble.separating import Separated, seems_many, separate
from juxtum.desk.widgets import LengthField, RowTable, button, column, form, label, line, row
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
MOST_ROWS = 8


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
        self.table = RowTable("Parts of the lot", COLUMNS)
        self.table.stretch(2)
        for at in (0, 1):
            self.table.setColumnWidth(at, 72)
        self.table.itemSelectionChanged.connect(self._chose)
        lines.addWidget(self.table)
        self._separate = button("Tell them apart", self.separate, tip="Each part becomes a scan of its own")
        self._measure = button("Measure them all", self.measure, tip="One procedure on every part")
        self._together = button("Together again", self.together, tip="Take all as one scan again")
        self._save = button("Save the table\u2026", self.save, tip="Values and verdicts of every part, as CSV")
        lines.addLayout(row(self._separate, self._measure, self._save))
        lines.addLayout(row(self._together))

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
            its = known.get(part.name)
            tip = "" if its is None else its.problem or "; ".join(its.notes)
            for at, text in enumerate(texts):
                self.table.write(index, at, text, tip if at == 2 else "", right=at == 1)
        names = [part.name for part in d.lot]
        if d.job.scan_in_force in names:
            self.table.selectRow(names.index(d.job.scan_in_force))
        self.table.fit_height(MOST_ROWS)
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
        rows = self.table.rows_chosen
        lot = self._derived.lot
        if rows and rows[0] < len(lot):
            name = lot[rows[0]].name
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
