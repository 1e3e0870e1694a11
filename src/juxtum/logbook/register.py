"""The register: instruments, artefacts and equipment of a shop, with serials, certificates and their history."""

from __future__ import annotations

import hashlib
import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from datetime import date, datetime
from enum import StrEnum
from pathlib import Path
from typing import TypeVar

from sqlalchemy import delete, func, select
from sqlalchemy.orm import undefer

from juxtum.errors import InputError, JobError
from juxtum.exchange.documents import parse_document
from juxtum.exchange.limits import check_file
from juxtum.instruments.equipment import FORM, Equipment, equipment_named
from juxtum.instruments.models import InstrumentModel, instrument_named, parse_instrument
from juxtum.instruments.owned import Owned
from juxtum.logbook.book import Logbook
from juxtum.logbook.captures import paces
from juxtum.logbook.tables import ArtefactRow, CertificateRow, InstrumentRow

MOST_BYTES = 20_000_000
"""A certificate's document may have."""
LONGEST = 120
"""A name, a serial or a number may have so many characters."""

Row = InstrumentRow | ArtefactRow
D = TypeVar("D", InstrumentModel, Equipment)


class ItemKind(StrEnum):
    """What can be entered."""

    INSTRUMENT = "instrument"
    SCALE_BAR = "scale bar"
    BALL_BAR = "ball bar"
    BALL = "ball"
    BOARD = "board"
    TIP = "probe tip"
    EQUIPMENT = "equipment"


ASKED: dict[ItemKind, tuple[str, ...]] = {
    ItemKind.INSTRUMENT: ("model",), ItemKind.EQUIPMENT: ("model",), ItemKind.SCALE_BAR: ("length", "uncertainty"),
    ItemKind.BALL_BAR: ("length", "diameter", "uncertainty"), ItemKind.BALL: ("diameter", "uncertainty"),
    ItemKind.BOARD: ("length", "diameter", "uncertainty"), ItemKind.TIP: ("diameter",),
}  # fmt: skip
"""What has to be said of each kind besides its name and serial."""


@dataclass(frozen=True)
class Item:
    """Something that a shop has.

    Parameters
    ----------
    model : str
        Id of an instrument's model or of equipment's document.
    length : float
        Between balls or marks, or of a board's side, mm.
    diameter : float
        Of the balls, the tip or the dots, mm.
    uncertainty : float
        U (k = 2) of its certified length or diameter, mm.
    document : str
        The shop's own document of an instrument or of equipment, JSON, in place of a model that ships.
    """

    kind: ItemKind
    name: str = ""
    serial: str = ""
    model: str = ""
    length: float = 0.0
    diameter: float = 0.0
    uncertainty: float = 0.0
    document: str = ""

    def check(self) -> None:
        """See that everything is said that its kind needs.

        Raises
        ------
        InputError
        """
        for what, text in (("name", self.name), ("serial", self.serial), ("model", self.model)):
            if len(text) > LONGEST:
                raise InputError(f"the {what} is longer than {LONGEST} characters", "register", "Shorten it")
        for what in ASKED[self.kind]:
            value = getattr(self, what)
            if what == "model":
                if not value and not self.document:
                    raise InputError(f"it is not said which {self.kind} it is", "register", "Choose one")
            elif not (math.isfinite(value) and value > 0):
                raise InputError(f"the {what} of a {self.kind} must be more than 0 mm", "register", "Give it in mm")
        if not self.name and self.kind not in (ItemKind.INSTRUMENT, ItemKind.EQUIPMENT):
            raise InputError(f"the {self.kind} has no name", "register", "Give the name that is written on it")

    @property
    def described(self) -> InstrumentModel | Equipment:
        """What its document says, or the one that ships.

        Raises
        ------
        InputError
            When the document is none, or nothing of this id ships.
        """
        data = self.document.encode()
        if self.kind is ItemKind.INSTRUMENT:
            return parse_instrument(data, "register") if data else instrument_named(self.model)
        return parse_document(data, "register", FORM) if data else equipment_named(self.model)


@dataclass(frozen=True)
class Listed:
    """A row of the register.

    Parameters
    ----------
    standing : str
        Of its certificate, in words.
    """

    row: Row
    kind: ItemKind
    standing: str
    is_valid: bool

    @property
    def title(self) -> str:
        """Its name and serial."""
        return f"{self.row.name}, {self.row.serial}" if self.row.serial else self.row.name

    @property
    def figures(self) -> str:
        """Length, diameter and U in words; of instruments and equipment whether a document of the shop's own describes them."""
        if self.row.document:
            return "own document" if self._is_readable else "its document cannot be read here"
        if not isinstance(self.row, ArtefactRow):
            return ""
        named = (("", self.row.length), ("\u00d8", self.row.diameter), ("U ", self.row.uncertainty))
        return ", ".join(f"{sign}{value:.9g} mm" for sign, value in named if value)

    @property
    def _is_readable(self) -> bool:
        try:
            return bool(Item(self.kind, document=self.row.document).described)
        except InputError:
            return False


class Register:
    """What a shop has, kept in its logbook.

    Parameters
    ----------
    book : Logbook
    """

    def __init__(self, book: Logbook) -> None:
        self._book = book

    def listed(self, today: date | None = None) -> tuple[Listed, ...]:
        """Everything that was entered, by kind and name."""
        today = today or date.today()
        with self._book.session() as session:
            instruments = session.scalars(select(InstrumentRow).filter_by(owned=True)).all()
            rows: list[tuple[ItemKind, Row]] = [(ItemKind.INSTRUMENT, row) for row in instruments]
            known = {kind.value for kind in ItemKind}
            rows += [
                (ItemKind(row.kind), row) for row in session.scalars(select(ArtefactRow)).all() if row.kind in known
            ]
        order = list(ItemKind)
        rows.sort(key=lambda pair: (order.index(pair[0]), pair[1].name, pair[1].serial))
        return tuple(Listed(row, kind, *standing_of(row, kind, today)) for kind, row in rows)

    def add(self, item: Item) -> Row:
        """Enter something.

        Raises
        ------
        InputError
            When something that its kind needs is missing, or it is entered already.
        """
        item.check()
        if item.kind is ItemKind.INSTRUMENT:
            return self._add_instrument(item)
        name, model = item.name, item.model
        if item.kind is ItemKind.EQUIPMENT:
            described = item.described
            name, model = name or described.name, described.id
        with self._book.session() as session:
            if session.scalars(select(ArtefactRow).filter_by(name=name)).first() is not None:
                raise InputError(f"'{name}' is in the register already", "register", "Give it a name of its own")
            row = ArtefactRow(
                name=name, kind=item.kind.value, serial=item.serial, model=model, length=item.length,
                diameter=item.diameter, uncertainty=item.uncertainty, certificate="", document=item.document,
            )  # fmt: skip
            session.add(row)
            session.flush()
            return row

    def _add_instrument(self, item: Item) -> InstrumentRow:
        described = item.described
        name = item.name or described.name
        with self._book.session() as session:
            row = session.scalars(select(InstrumentRow).filter_by(model=described.id, serial=item.serial)).first()
            if row is not None and row.owned:
                raise InputError(f"{name} with this serial is in the register already", "register", "Give its serial")
            if row is None:
                row = InstrumentRow(model=described.id, serial=item.serial, certificate="")
                session.add(row)
            row.name, row.owned, row.document = name, True, item.document
            session.flush()
            return row

    def remove(self, row: Row) -> None:
        """Take something out: an artefact with its certificates; an instrument keeps what was calibrated."""
        with self._book.session() as session:
            found: Row | None = session.get(type(row), row.id)  # type: ignore[assignment]
            if isinstance(found, InstrumentRow):
                found.owned = False
            elif found is not None:
                session.execute(delete(CertificateRow).where(CertificateRow.artefact_id == found.id))
                session.delete(found)

    def certify(self, row: Row, number: str, due: date, by: str = "", document: Path | None = None) -> CertificateRow:
        """Enter a certificate, which is in force from now on.

        Raises
        ------
        InputError
            When the number is missing or too long, or the document is too large or unreadable.
        """
        if not number.strip() or len(number) > LONGEST:
            raise InputError("the certificate's number is missing or too long", "register", "Give the number alone")
        name, content = ("", None) if document is None else _read(document)
        with self._book.session() as session:
            found: Row | None = session.get(type(row), row.id)  # type: ignore[assignment]
            if found is None:
                raise JobError(f"{row.name} is no longer in the register", "register", "Choose another")
            found.certificate, found.due = number.strip(), due
            made = CertificateRow(
                **_owner(found), number=number.strip(), due=due, entered=datetime.now(), entered_by=by[:200],
                file_name=name, file=content, file_hash=hashlib.sha256(content).hexdigest() if content else "",
            )  # fmt: skip
            session.add(made)
            session.flush()
            return made

    def history(self, row: Row) -> Sequence[CertificateRow]:
        """All certificates of something, the newest first."""
        with self._book.session() as session:
            query = select(CertificateRow).filter_by(**_owner(row)).order_by(CertificateRow.entered.desc())
            return session.scalars(query.order_by(CertificateRow.id.desc())).all()

    def document(self, certificate: CertificateRow) -> bytes:
        """The document that is attached to a certificate.

        Raises
        ------
        JobError
            When there is none, or it is not what was attached.
        """
        with self._book.session() as session:
            query = select(CertificateRow).filter_by(id=certificate.id).options(undefer(CertificateRow.file))
            row = session.scalars(query).first()
            content = row.file if row is not None else None
        if not content:
            raise JobError(f"certificate {certificate.number} has no document", "register", "Attach one")
        if hashlib.sha256(content).hexdigest() != certificate.file_hash:
            raise JobError(f"the document of {certificate.number} was changed", "register", "Attach it anew")
        return bytes(content)

    def owned(self) -> Owned:
        """What planning asks: models, equipment, how fast people work, and the shop's own documents; of two of one id the later one."""
        with self._book.session() as session:
            models = session.scalars(select(InstrumentRow).filter_by(owned=True).order_by(InstrumentRow.id)).all()
            items = session.scalars(select(ArtefactRow).filter_by(kind=ItemKind.EQUIPMENT.value)).all()
        return Owned(
            tuple(sorted({row.model for row in models})), tuple(sorted({row.model for row in items})),
            paces(self._book), _documents(models, parse_instrument),
            _documents(items, lambda data, where: parse_document(data, where, FORM)),
        )  # fmt: skip

    @property
    def is_empty(self) -> bool:
        """Whether nothing was entered."""
        with self._book.session() as session:
            artefacts = session.scalar(select(func.count()).select_from(ArtefactRow))
            return not artefacts and session.scalars(select(InstrumentRow).filter_by(owned=True)).first() is None


def read_own_document(path: Path) -> str:
    """The text of a shop's own document of an instrument or of equipment.

    Raises
    ------
    InputError
        When it is too large, or no text.
    """
    if check_file(path) > FORM.most:
        raise InputError("this is too large to be such a document", path.name, "See docs/instrument-format.md")
    try:
        return path.read_text("utf-8")
    except (OSError, UnicodeDecodeError) as problem:
        raise InputError("the document cannot be read as text", path.name, "See docs/instrument-format.md") from problem


def _documents(rows: Sequence[Row], parse: Callable[[bytes, str], D]) -> tuple[D, ...]:
    """The shop's own documents; one that another version of the program wrote is left out, and `Listed` says so."""
    made: dict[str, D] = {}
    for row in rows:
        try:
            made |= {row.model: parse(row.document.encode(), row.name)} if row.document else {}
        except InputError:
            continue
    return tuple(made.values())


def standing_of(row: Row, kind: ItemKind, today: date) -> tuple[str, bool]:
    """How its certificate stands, in words, and whether it is valid.

    A probe tip and equipment need none: a tip is calibrated before use, the scanner learns where targets are.
    """
    if not row.certificate or row.due is None:
        needs_none = kind in (ItemKind.TIP, ItemKind.EQUIPMENT)
        return ("none needed" if needs_none else "no certificate"), needs_none
    days = (row.due - today).days
    if days < 0:
        return f"{row.certificate} ran out on {row.due.isoformat()}", False
    soon = f", in {days} day{'s' if days != 1 else ''}" if days <= 30 else ""
    return f"{row.certificate}, until {row.due.isoformat()}{soon}", True


def _owner(row: Row) -> dict[str, int]:
    return {"instrument_id" if isinstance(row, InstrumentRow) else "artefact_id": row.id}


def _read(path: Path) -> tuple[str, bytes]:
    try:
        if path.stat().st_size > MOST_BYTES:
            raise InputError(
                f"the document has more than {MOST_BYTES // 1_000_000} MB", path.name, "Attach a smaller copy of it"
            )
        content = path.read_bytes()
    except OSError as problem:
        raise InputError(
            "the document cannot be read", path.name, "Check that it is there and may be read"
        ) from problem
    if not content:
        raise InputError("the document is empty", path.name, "Attach the certificate itself")
    return path.name[-200:], content
