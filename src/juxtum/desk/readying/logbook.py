"""What the logbook holds of the instrument: checks on artefacts, certificates, the last calibrations."""

from __future__ import annotations

from datetime import date
from typing import TYPE_CHECKING

from PyQt6.QtWidgets import QWidget

from juxtum.desk.readying.certificates import Certificates
from juxtum.desk.widgets import Facts, button, column, combo, form, line, row
from juxtum.errors import JuxtumError
from juxtum.logbook.go_list import KNOCK

if TYPE_CHECKING:
    from juxtum.desk.stations.ready import ReadyStation
    from juxtum.logbook.tables import ArtefactRow, CalibrationRow, CaptureRow, CheckRow, InstrumentRow


class LogbookPanel(QWidget):
    """Check on an artefact, enter a certificate, read what was calibrated and checked last.

    Parameters
    ----------
    station : ReadyStation
        Where it stands: gives the logbook.
    """

    def __init__(self, station: ReadyStation) -> None:
        super().__init__()
        self._station = station
        lines = column(self)
        self._artefact = combo("Artefact")
        self._check = button(
            "Check on it", station.calibrating.check_on_artefact, tip="Size and length against the stated limits"
        )
        lines.addLayout(form([("Artefact", self._artefact)]))
        register = button(
            "Register\u2026", lambda: station.desk.perform("register"), tip="What the shop has: enter, certify"
        )
        lines.addLayout(row(self._check, register))
        knocked = button("It was knocked", self._write_knock, tip="What was calibrated before no longer holds")
        lines.addLayout(row(knocked))
        self._log = Facts("Logbook")
        lines.addWidget(self._log)
        self._certificates = Certificates(
            self._enter_certificate, lambda what, then: station.desk.tell(what, "certificates", then)
        )
        lines.addWidget(line())
        lines.addWidget(self._certificates)

    @property
    def artefact(self) -> str:
        """The chosen artefact."""
        return self._artefact.currentText()

    def show_rows(self, instrument: InstrumentRow | None) -> None:
        """As the logbook has it now."""
        book = self._station.desk.shop.book
        if book is None or instrument is None:
            self._log.show_facts([])
            return
        names = [a.name for a in book.artefacts() if a.kind in ("ball bar", "scale bar")]
        if [self._artefact.itemText(k) for k in range(self._artefact.count())] != names:
            self._artefact.clear()
            self._artefact.addItems(names)
        self._check.setEnabled(bool(names))
        self._check.setToolTip(
            "Size and length against the stated limits" if names else "The register holds no bar yet"
        )
        self._certificates.show_rows(instrument, book)
        from juxtum.logbook.captures import captures_with

        facts = [
            (
                "certificate",
                f"{instrument.certificate or 'none'}{f', until {instrument.due:%d %b %Y}' if instrument.due else ''}",
            )
        ]
        facts += [
            (f"{r.at:%d %b %H:%M} {r.kind}", _microns(r) if r.kind != KNOCK else "calibrate again")
            for r in book.calibrations(instrument)[:3]
        ]
        facts += [(f"{r.at:%d %b %H:%M} check", _check_words(r)) for r in book.checks(instrument)[:2]]
        facts += [(f"{r.at:%d %b %H:%M} capture", _capture_words(r)) for r in captures_with(book, instrument.model)[:2]]
        self._log.show_facts(facts)

    def _write_knock(self) -> None:
        """The instrument fell or was knocked: written down, and what was calibrated before is void."""
        from juxtum.logbook.book import Entry

        book, instrument = self._station.desk.shop.book, self._station.instrument()
        if book is None or instrument is None:
            return
        job = self._station.derived.job
        room = job.circumstances.environment.instrument_temperature
        book.add_calibration(instrument, Entry(KNOCK, "", job.brief.operator, room, 0.0, 0.0))
        self._station.show_results()

    def _enter_certificate(self, what: InstrumentRow | ArtefactRow, number: str, until: date | None) -> None:
        book = self._station.desk.shop.book
        if book is None:
            return
        try:
            book.set_due(what, number, until, self._station.derived.job.brief.operator)
        except JuxtumError as problem:
            self._station.session.failed.emit(problem)
            return
        self._station.policy.look_again()
        self._station.show_results()


def _microns(row: CalibrationRow) -> str:
    return f"{1000 * row.value:.0f} of {1000 * row.limit:.0f} \u00b5m{'' if row.passed else ', failed'}"


def _capture_words(row: CaptureRow) -> str:
    return f"{row.seconds:.0f} s, {row.planned:.0f} usual"


def _check_words(row: CheckRow) -> str:
    return f"{1000 * row.length_error:.0f} of {1000 * row.length_limit:.0f} \u00b5m{'' if row.passed else ', failed'}"
