"""Report: what will be handed over, and the writing of it."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PyQt6.QtCore import QUrl
from PyQt6.QtGui import QDesktopServices

from juxtum.desk.action import Action
from juxtum.desk.comparing import compared
from juxtum.desk.stations.base import Station
from juxtum.desk.widgets import Facts, button, label, line, row
from juxtum.guide.facts import short
from juxtum.guide.findings import Key
from juxtum.guide.verdicts import counts
from juxtum.progress import Progress
from juxtum.report.writer import OUTPUTS, write_outputs

WHAT = {
    "report.pdf": "cover, pictures, ledger, statistics, budget",
    "ledger.xlsx": "ledger, readings, statistics",
    "ledger.csv": "ledger and readings",
    "deviation.ply": "the scan with its deviations",
    "result.json": "all numbers, for other programs",
}


class ReportStation(Station):
    """The worksheet of Report."""

    key = Key.REPORT

    def build(self) -> None:
        """What goes on the cover, the files, the folder."""
        self.folder: Path | None = None
        self.body.addWidget(label("On the cover", "heading"))
        self._facts = Facts("Cover")
        self.body.addWidget(self._facts)
        self.body.addLayout(row(button("Change in Brief", lambda: self.desk.perform("go brief"), "plain")))
        self.body.addWidget(line())
        self.body.addWidget(label("What is written", "heading"))
        files = Facts("Files of the report")
        files.show_facts([(name, WHAT[name]) for name in sorted(OUTPUTS, key=list(WHAT).index)])
        for _, value in files._labels:
            value.setObjectName("soft")
        self.body.addWidget(files)
        self._write = button("Write the report\u2026", lambda: self.desk.perform("write report"))
        self.body.addLayout(row(self._write))
        self._done = label("", "soft", wrap=True)
        self._done.setAccessibleName("Report written")
        self.body.addWidget(self._done)
        self._open = button("Open the PDF", self._show_pdf)
        self._open.hide()
        self.body.addLayout(row(self._open))

    def own_actions(self) -> tuple[Action, ...]:
        """The report."""
        return (
            Action("write report", "Write the report\u2026", "File/4", self.ask_and_write, "Ctrl+P", "file-text", "PDF, tables and the coloured scan",
                   lambda: self.derived.evaluation is not None),
        )  # fmt: skip

    def ask_and_write(self) -> None:
        """Ask for a folder and write the report."""
        if (path := self.desk.asking.folder()) is not None:
            self.write(path)

    def show_results(self) -> None:
        """Cover fields and whether there is anything to write."""
        d = self.derived
        brief, instrument = d.job.brief, d.job.circumstances.instrument
        facts = [
            ("part", d.job.title),
            ("serial", brief.serial),
            ("drawing", brief.drawing),
            ("customer", brief.customer),
        ]
        facts += [
            ("operator", brief.operator),
            ("date", brief.date),
            ("instrument", instrument.name if instrument else "not stated"),
        ]
        if d.evaluation is not None:
            facts += [
                ("alignment", d.in_force),
                ("rule", str(d.job.procedure.decide.rule)),
                ("characteristics", str(len(d.evaluation.ledger))),
            ]
            facts += [(str(verdict), str(number)) for verdict, number in counts(d.evaluation).items() if number]
        self._facts.show_facts([(name, short(value, 25) or "\u2013") for name, value in facts])
        self._write.setEnabled(d.evaluation is not None)

    def write(self, folder: Path, then: Callable[[], None] | None = None) -> None:
        """Write the report of the job as it is now into a folder."""
        d = self.derived
        scan = d.measured
        if d.evaluation is None or scan is None:
            self.desk.tell("there is nothing to report yet", "report", "Align the scan first")
            return
        job, evaluation, runner = d.job, d.evaluation, self.session.runner

        def work(progress: Progress) -> object:
            # It may not be shown yet.
            found = compared(runner, job, d.in_force, progress.part(0.0, 0.5))
            return write_outputs(folder, job, evaluation, scan, progress.part(0.5, 1.0), found["comparison"])

        def done(_: object) -> None:
            self.folder = folder
            self._done.setText(f"Written to {folder}")
            self._open.show()
            self.desk.announce(f"The report is in {folder}")
            if then is not None:
                then()

        self.session.compute(work, done)

    def _show_pdf(self) -> None:
        if self.folder is not None:
            QDesktopServices.openUrl(QUrl.fromLocalFile(str(self.folder / "report.pdf")))

    def dress(self) -> None:
        """The map with its readings, as on the cover."""
        self.dress_map()
        readings = self.derived.evaluation.readings if self.derived.evaluation else ()
        self.view.set_readings(readings)
