"""The logbook as the desk uses it: opened when it is first needed, away from the interface."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

from juxtum.desk.session import Session

if TYPE_CHECKING:
    from juxtum.logbook import Logbook


class DeskBook:
    """Holds the logbook.

    Parameters
    ----------
    session : Session
        Its settings may name another database at `logbook/url`.
    """

    def __init__(self, session: Session) -> None:
        self._session = session
        self.book: Logbook | None = None

    def open(self, then: Callable[[], None]) -> None:
        """Open it if it is not, then go on."""
        if self.book is not None:
            then()
            return
        url = str(self._session.settings.value("logbook/url", "") or "")

        def done(made: Logbook) -> None:
            if self.book is None:
                self.book = made
            then()

        self._session.compute(lambda _: _opened(url), done)

    def close(self) -> None:
        """Let the database go."""
        if self.book is not None:
            self.book.close()
            self.book = None


def _opened(url: str) -> Logbook:
    """The database's library is imported away from the interface, when it is needed first."""
    from juxtum.logbook import Logbook

    return Logbook(url or None)
