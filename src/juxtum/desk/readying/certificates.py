"""Certificates of the instrument and of the artefacts, entered by the one who holds them in hand."""

from __future__ import annotations

from collections.abc import Callable
from datetime import date
from typing import TYPE_CHECKING

from PyQt6.QtWidgets import QLineEdit, QVBoxLayout, QWidget

from juxtum.desk.widgets import button, combo, form, label, row

if TYPE_CHECKING:
    from juxtum.logbook import Logbook
    from juxtum.logbook.tables import ArtefactRow, InstrumentRow


class Certificates(QWidget):
    """Choose what it is for, type number and last day, enter it.

    Parameters
    ----------
    entered : callable
        Told what was chosen, the certificate and the day until which it is valid.
    refused : callable
        Told in words what is wrong with what was typed.
    """

    def __init__(
        self,
        entered: Callable[[InstrumentRow | ArtefactRow, str, date | None], None],
        refused: Callable[[str, str], None],
    ) -> None:
        super().__init__()
        self._entered, self._refused = entered, refused
        self._rows: list[InstrumentRow | ArtefactRow] = []
        self._of = combo("Certificate of")
        self._of.activated.connect(lambda _: self._show_chosen())
        self._number = QLineEdit()
        self._number.setAccessibleName("Certificate number")
        self._until = QLineEdit()
        self._until.setAccessibleName("Certificate valid until")
        self._until.setPlaceholderText("2027-06-30")
        lines = QVBoxLayout(self)
        lines.setContentsMargins(0, 0, 0, 0)
        lines.addWidget(label("Certificates", "heading"))
        lines.addLayout(form([("Of", self._of), ("Number", self._number), ("Valid until", self._until)]))
        lines.addLayout(
            row(button("Enter certificate", self._enter, tip="Into the logbook; without a number there is none"))
        )

    def show_rows(self, instrument: InstrumentRow, book: Logbook) -> None:
        """What may have a certificate, as the logbook has it now."""
        rows: list[InstrumentRow | ArtefactRow] = [instrument, *book.artefacts()]
        before = [(r.name, r.certificate, r.due) for r in self._rows]
        if [(r.name, r.certificate, r.due) for r in rows] == before:
            return
        chosen = max(self._of.currentIndex(), 0)
        self._rows = rows
        self._of.clear()
        self._of.addItems([r.name for r in rows])
        self._of.setCurrentIndex(min(chosen, len(rows) - 1))
        self._show_chosen()

    def _show_chosen(self) -> None:
        chosen = self._rows[self._of.currentIndex()]
        self._number.setText(chosen.certificate)
        self._until.setText(chosen.due.isoformat() if chosen.due else "")

    def _enter(self) -> None:
        if not self._rows:
            return
        number, typed = self._number.text().strip(), self._until.text().strip()
        if not number:
            self._entered(self._rows[self._of.currentIndex()], "", None)
            return
        if len(number) > 120:
            self._refused("the certificate's number is longer than 120 characters", "Give the number alone")
            return
        try:
            until = date.fromisoformat(typed)
        except ValueError:
            self._refused(
                f"'{typed}' is no day" if typed else "the day until which the certificate is valid is missing",
                "Give it as 2027-06-30",
            )
            return
        self._entered(self._rows[self._of.currentIndex()], number, until)
