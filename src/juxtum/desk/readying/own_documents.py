"""The shop's own documents of instruments and equipment, loaded to be entered in the register."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from juxtum.instruments.equipment import shipped_equipment
from juxtum.instruments.models import shipped_instruments

if TYPE_CHECKING:
    from juxtum.logbook.register import ItemKind


class OwnDocuments:
    """What was loaded: name and text, by kind and id."""

    def __init__(self) -> None:
        self._held: dict[tuple[str, str], tuple[str, str]] = {}

    def take(self, kind: ItemKind, path: Path) -> tuple[str, str]:
        """Id and name of what a document describes, which can be chosen from now on.

        Raises
        ------
        InputError
            When it is no document of that kind.
        """
        from juxtum.logbook.register import Item, read_own_document

        text = read_own_document(path)
        described = Item(kind, document=text).described
        self._held[kind.value, described.id] = described.name, text
        return described.id, described.name

    def options(self, kind: ItemKind) -> list[tuple[str, str]]:
        """Id and name of all that can be entered of a kind, the shop's own first."""
        from juxtum.logbook.register import ItemKind

        own = {model: name for (of, model), (name, _) in self._held.items() if of == kind.value}
        shipped = shipped_equipment() if kind is ItemKind.EQUIPMENT else shipped_instruments()
        return [*own.items(), *((item.id, item.name) for item in shipped if item.id not in own)]

    def text(self, kind: ItemKind, model: str) -> str:
        """The document of one of them; empty of what ships."""
        return self._held.get((kind.value, model), ("", ""))[1]
