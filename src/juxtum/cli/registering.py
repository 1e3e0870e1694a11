"""`juxtum register`: what the shop has, for scripts and for machines without a display."""

from __future__ import annotations

import argparse
import json
from datetime import date
from pathlib import Path

from juxtum.errors import InputError
from juxtum.logbook import Logbook
from juxtum.logbook.register import Item, ItemKind, Listed, Register, read_own_document


def register(options: argparse.Namespace) -> int:
    """`juxtum register list|add|certify|remove`."""
    book = Logbook(options.logbook)
    try:
        lines = ACTIONS[options.action](Register(book), options)
    finally:
        book.close()
    print("\n".join(lines))
    return 0


def _list(own: Register, options: argparse.Namespace) -> list[str]:
    rows = own.listed()
    if options.json:
        return [json.dumps({"schema": "juxtum-register-1", "entries": [_document(own, r) for r in rows]}, indent=1)]
    lines = [f"{r.kind:<11} {r.title}{', ' + r.figures if r.figures else ''}; {r.standing}" for r in rows]
    return lines or ["nothing is entered; see 'juxtum register add --help'"]


def _document(own: Register, listed: Listed) -> dict[str, object]:
    row = listed.row
    figures = {name: getattr(row, name, None) or None for name in ("length", "diameter", "uncertainty")}
    history = [
        {"number": c.number, "due": c.due.isoformat() if c.due else None, "entered": c.entered.isoformat(),
         "by": c.entered_by, "document": c.file_name or None} for c in own.history(row)
    ]  # fmt: skip
    return {
        "kind": listed.kind.value, "own_document": bool(row.document), "name": row.name, "serial": row.serial, "model": row.model or None, **figures,
        "standing": listed.standing, "is_valid": listed.is_valid, "certificates": history,
    }  # fmt: skip


def _add(own: Register, options: argparse.Namespace) -> list[str]:
    model, document = options.model or "", ""
    if model.lower().endswith(".json"):
        model, document = "", read_own_document(Path(model))
    item = Item(
        ItemKind(options.kind), options.name or "", options.serial or "", model, options.length or 0.0,
        options.diameter or 0.0, options.uncertainty or 0.0, document,
    )  # fmt: skip
    return [f"entered: {own.add(item).name}"]


def _certify(own: Register, options: argparse.Namespace) -> list[str]:
    if not options.number or not options.until:
        raise InputError("number and last day of the certificate are missing", "register", "Give --number and --until")
    try:
        until = date.fromisoformat(options.until)
    except ValueError as problem:
        raise InputError(f"'{options.until}' is no day", "--until", "Give it as 2027-06-30") from problem
    listed = _chosen(own, options)
    document = Path(options.document) if options.document else None
    own.certify(listed.row, options.number, until, options.operator or "", document)
    return [f"{listed.title}: {options.number}, until {until.isoformat()}"]


def _remove(own: Register, options: argparse.Namespace) -> list[str]:
    listed = _chosen(own, options)
    own.remove(listed.row)
    return [f"taken out: {listed.title}"]


def _chosen(own: Register, options: argparse.Namespace) -> Listed:
    """The entry of a name, and of a serial where two bear the name."""
    rows = [r for r in own.listed() if r.row.name == options.name]
    if options.serial:
        rows = [r for r in rows if r.row.serial == options.serial]
    if len(rows) == 1:
        return rows[0]
    if rows:
        raise InputError(f"{len(rows)} entries are called '{options.name}'", "register", "Give --serial too")
    raise InputError(f"the register holds no '{options.name}'", "register", "See 'juxtum register list'")


ACTIONS = {"list": _list, "add": _add, "certify": _certify, "remove": _remove}
KINDS = tuple(kind.value for kind in ItemKind)
