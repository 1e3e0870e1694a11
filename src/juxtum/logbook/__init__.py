"""The logbook: instruments, artefacts with certificates, calibrations, checks and exercises, in a database."""

from __future__ import annotations

from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from juxtum.logbook.book import Logbook

__all__ = ["Logbook"]


def __getattr__(name: str) -> object:
    """The database's library takes most of a second to import: it comes with the logbook's first use, not with the window."""
    if name != "Logbook":
        raise AttributeError(name)
    from juxtum.logbook.book import Logbook

    return Logbook
