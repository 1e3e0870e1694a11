"""The register on the desk: what the shop has, entered and certified by the one who holds the papers in hand."""

from __future__ import annotations

from collections.abc import Callable
from datetime import date
from pathlib import Path
from typing import TYPE_CHECKING, TypeVar

from PyQt6.QtCore import Qt, QUrl, pyqtSignal
from PyQt6.QtGui import QDesktopServices
from PyQt6.QtWidgets import (
    QAbstractItemView,
    QDialog,
    QFileDialog,
    QHBoxLayout,
    QHeaderView,
    QLineEdit,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from juxtum.desk.readying.own_documents import OwnDocuments
from juxtum.desk.widgets import Choice, LengthField, button, form, label, line, row
from juxtum.errors import InputError, JuxtumError
from juxtum.folders import cache_folder

if TYPE_CHECKING:
    from juxtum.desk.session import Session
    from juxtum.logbook import Logbook
    from juxtum.logbook.register import Item, ItemKind, Listed, Register
    from juxtum.logbook.tables import CertificateRow

T = TypeVar("T")
COLUMNS = ("What", "Name and serial", "Figures", "Certificate")
FIGURES = ("length", "diameter", "uncertainty")


def day_of(typed: str) -> date:
    """A day as it is typed.

    Raises
    ------
    InputError
    """
    try:
        return date.fromisoformat(typed)
    except ValueError as problem:
        what = f"'{typed}' is no day" if typed else "the day until which the certificate is valid is missing"
        raise InputError(what, "register", "Give it as 2027-06-30") from problem


class RegisterDialog(QDialog):
    """A table of what there is; beside it what is entered.

    Parameters
    ----------
    session : Session
        Its worker reads and writes.
    book : Logbook
    operator : str
        Who enters.
    """

    changed = pyqtSignal()

    def __init__(self, parent: QWidget, session: Session, book: Logbook, operator: str) -> None:
        from juxtum.logbook.register import ItemKind, Register

        super().__init__(parent)
        self.setWindowTitle("Register: what the shop has")
        self.setAccessibleName("Register")
        self._session, self._register, self._operator = session, Register(book), operator
        self._rows: tuple[Listed, ...] = ()
        self._history: tuple[CertificateRow, ...] = ()
        self._document: Path | None = None
        self._own = OwnDocuments()
        self._kinds = tuple(ItemKind)
        columns = QHBoxLayout(self)
        columns.setContentsMargins(16, 16, 16, 16)
        columns.setSpacing(16)
        entry = QWidget()
        entry.setFixedWidth(360)
        entry.setLayout(self._build_entry())
        columns.addLayout(self._build_table(), 1)
        columns.addWidget(entry)
        self.resize(1200, 640)
        self._show_fields()
        self._read_again()

    # -- what it looks like -----------------------------------------------------------------------------------

    def _build_table(self) -> QVBoxLayout:
        lines = QVBoxLayout()
        self._head = label("", "soft", wrap=True)
        self._head.setAccessibleName("Register in words")
        self.table = _table()
        self.table.itemSelectionChanged.connect(self._show_chosen)
        lines.addWidget(self.table, 1)
        lines.addWidget(self._head)
        return lines

    def _build_entry(self) -> QVBoxLayout:
        lines = QVBoxLayout()
        lines.setContentsMargins(0, 0, 0, 0)
        lines.addWidget(label("Enter what the shop has", "heading"))
        self._kind, self._model = Choice("Kind of entry"), Choice("Model")
        self._kind.picked.connect(lambda _: self._show_fields())
        self._kind.show_options([(kind.value, kind.value) for kind in self._kinds], self._kinds[0].value)
        self._name, self._serial = self._field("Name of entry"), self._field("Serial number")
        self._figures = {name: LengthField(f"{name} of entry".capitalize(), 0) for name in FIGURES}
        grid = [("What", self._kind), ("Model", self._model), ("Name", self._name), ("Serial", self._serial)]
        grid += [("Length, mm", self._figures["length"]), ("Diameter, mm", self._figures["diameter"])]
        grid += [("U (k = 2), mm", self._figures["uncertainty"])]
        lines.addLayout(form(grid))
        self._load = button(
            "Load its document\u2026", self._ask_own, tip="Of an instrument or equipment that does not ship"
        )
        lines.addLayout(row(button("Enter it", self._enter, "primary", "Into the register"), self._load))
        lines.addWidget(line())
        self._chosen = label("Choose a row for its certificates", "heading", wrap=True)
        self._chosen.setAccessibleName("Chosen entry")
        lines.addWidget(self._chosen)
        self._number, self._until = self._field("Certificate number of entry"), self._field("Valid until of entry")
        self._until.setPlaceholderText("2027-06-30")
        self._attach = button("Attach a document\u2026", self._ask_document, tip="A scan or PDF of the certificate")
        lines.addLayout(form([("Certificate", self._number), ("Valid until", self._until)]))
        self._certify = button("Enter the certificate", self._enter_certificate)
        lines.addLayout(row(self._attach, self._certify))
        self._past = label("", "soft", wrap=True)
        self._past.setAccessibleName("History of certificates")
        lines.addWidget(self._past)
        self._open = button("Open the document", self._open_document)
        self._out = button("Take it out", self._take_out, tip="An instrument keeps what was calibrated and checked")
        lines.addLayout(row(self._open, self._out))
        self._said = label("", "", wrap=True)
        self._said.setAccessibleName("Register says")
        lines.addWidget(self._said)
        lines.addStretch(1)
        lines.addLayout(row(button("Close", self._close)))
        return lines

    def _field(self, name: str) -> QLineEdit:
        made = QLineEdit()
        made.setAccessibleName(name)
        return made

    # -- what is shown ----------------------------------------------------------------------------------------

    def _show_fields(self) -> None:
        """Only what the chosen kind needs can be typed."""
        from juxtum.logbook.register import ASKED

        kind = self._chosen_kind
        asked = ASKED[kind]
        self._model.show_options(self._own.options(kind) if "model" in asked else [], self._model.currentData() or "")
        self._model.setEnabled("model" in asked)
        self._load.setEnabled("model" in asked)
        for name, field in self._figures.items():
            field.setEnabled(name in asked)

    @property
    def _chosen_kind(self) -> ItemKind:
        return self._kinds[max(self._kind.currentIndex(), 0)]

    def _work(self, work: Callable[[], T], done: Callable[[T], None]) -> None:
        self._session.workbench.ask(lambda _: work(), done, self._refuse)

    def _refuse(self, problem: Exception) -> None:
        self._said.setText(problem.sentence if isinstance(problem, JuxtumError) else "")
        if not isinstance(problem, JuxtumError):
            self._session.tell_failure(problem)

    def _read_again(self) -> None:
        self._work(self._register.listed, self._show_rows)

    def _show_rows(self, rows: tuple[Listed, ...]) -> None:
        before = self._selected
        self._rows = rows
        self.table.setRowCount(len(rows))
        for place, listed in enumerate(rows):
            for column, text in enumerate((listed.kind.value, listed.title, listed.figures, listed.standing)):
                self.table.setItem(place, column, QTableWidgetItem(text))
        bad = sum(not listed.is_valid for listed in rows)
        words = (
            f"{len(rows)} entries"
            if rows
            else "Nothing is entered yet: what the shop has stands here once you enter it"
        )
        self._head.setText(words + (f", {bad} without a valid certificate" if bad else "") + ".")
        again = next((k for k, r in enumerate(rows) if before is not None and r.title == before.title), -1)
        if again >= 0:
            self.table.selectRow(again)
        self._show_chosen()
        self.changed.emit()

    @property
    def _selected(self) -> Listed | None:
        place = self.table.currentRow()
        return self._rows[place] if 0 <= place < len(self._rows) and self.table.selectedItems() else None

    def _show_chosen(self) -> None:
        chosen = self._selected
        for widget in (self._number, self._until, self._attach, self._certify, self._out):
            widget.setEnabled(chosen is not None)
        self._open.setEnabled(False)
        self._past.setText("")
        self._chosen.setText("Choose a row for its certificates" if chosen is None else chosen.title)
        if chosen is not None:
            self._work(lambda: tuple(self._register.history(chosen.row)), self._show_history)

    def _show_history(self, found: tuple[CertificateRow, ...]) -> None:
        self._history = found
        self._open.setEnabled(any(made.file_name for made in found))
        self._past.setText("\n".join(_history_line(made) for made in found) or "No certificate was ever entered.")

    # -- what is done -----------------------------------------------------------------------------------------

    def _enter(self) -> None:
        from juxtum.logbook.register import ASKED, Item

        kind = self._chosen_kind
        figures = {n: f.value for n, f in self._figures.items() if n in ASKED[kind]}
        model = str(self._model.currentData() or "") if "model" in ASKED[kind] else ""
        document = self._own.text(kind, model)
        item = Item(kind, self._name.text().strip(), self._serial.text().strip(), model, document=document, **figures)
        self._work(lambda: self._register.add(item), lambda made: self._entered(item, made.name))

    def _entered(self, item: Item, name: str) -> None:
        self._said.setText(f"Entered: {name}.")
        self._name.clear()
        self._serial.clear()
        self._read_again()

    def _ask_own(self) -> None:
        name, _ = QFileDialog.getOpenFileName(self, "Its document", "", "Documents (*.json)")
        if name:
            self.load(Path(name))

    def load(self, path: Path) -> None:
        """Offer what a document of the shop's own describes, and choose it."""
        kind = self._chosen_kind

        def done(made: tuple[str, str]) -> None:
            model, name = made
            if self._chosen_kind is kind:
                self._show_fields()
                self._model.setCurrentIndex(self._model.findData(model))
            self._said.setText(f"{name} can be entered now.")

        self._work(lambda: self._own.take(kind, path), done)

    def _ask_document(self) -> None:
        name, _ = QFileDialog.getOpenFileName(
            self, "A certificate's document", "", "Documents (*.pdf *.png *.jpg *.tif)"
        )
        self.attach(Path(name) if name else None)

    def attach(self, document: Path | None) -> None:
        """Take a document for the certificate that is entered next."""
        self._document = document
        self._attach.setText(document.name if document is not None else "Attach a document\u2026")

    def _enter_certificate(self) -> None:
        chosen, number, document = self._selected, self._number.text().strip(), self._document
        if chosen is None:
            return
        try:
            until = day_of(self._until.text().strip())
        except InputError as problem:
            self._refuse(problem)
            return

        def done(made: CertificateRow) -> None:
            self._said.setText(f"Certificate {made.number} is in force.")
            self.attach(None)
            self._read_again()

        self._work(lambda: self._register.certify(chosen.row, number, until, self._operator, document), done)

    def _open_document(self) -> None:
        made = next((c for c in self._history if c.file_name), None)
        if made is None:
            return

        def show(path: Path) -> None:
            QDesktopServices.openUrl(QUrl.fromLocalFile(str(path)))

        self._work(lambda: _laid_out(self._register, made), show)

    def _close(self) -> None:
        self.close()

    def _take_out(self) -> None:
        chosen = self._selected
        if chosen is not None:
            self._said.setText(f"Taken out: {chosen.title}.")
            self._work(lambda: self._register.remove(chosen.row), lambda _: self._read_again())


def _table() -> QTableWidget:
    made = QTableWidget(0, len(COLUMNS))
    made.setAccessibleName("Register entries")
    made.setHorizontalHeaderLabels(list(COLUMNS))
    made.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
    made.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
    made.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
    made.setShowGrid(False)
    side = made.verticalHeader()
    if side is not None:
        side.setVisible(False)
    header = made.horizontalHeader()
    if header is not None:
        header.setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
        header.setStretchLastSection(True)
        header.setDefaultAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
    return made


def _laid_out(register: Register, made: CertificateRow) -> Path:
    """A certificate's document as a file that another program can show."""
    folder = cache_folder() / "certificates"
    folder.mkdir(exist_ok=True)
    path = folder / f"{made.file_hash[:16]}{Path(made.file_name).suffix[:8]}"
    path.write_bytes(register.document(made))
    return path


def _history_line(made: CertificateRow) -> str:
    until = "" if made.due is None else f" until {made.due.isoformat()}"
    by = f" by {made.entered_by}" if made.entered_by else ""
    return f"{made.number}{until}, entered {made.entered:%Y-%m-%d}{by}" + (", with document" if made.file_name else "")
