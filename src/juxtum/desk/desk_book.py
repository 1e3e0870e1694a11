"""The logbook as the desk uses it: opened when it is first needed, away from the interface."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

from juxtum.desk.session import Session
from juxtum.progress import Progress

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
        self._is_warm = False

    def warm(self) -> None:
        """Load the database's library while a job is being opened: later it would hold up what the user does."""
        if not self._is_warm:
            self._is_warm = True
            self._session.workbench.ask(_load, lambda _: None, lambda _: None, is_quiet=True)

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


def _load(progress: Progress) -> None:
    import alembic.command  # noqa: F401

    import juxtum.logbook.book  # noqa: F401


def _opened(url: str) -> Logbook:
    """The database's library is imported away from the interface, when it is needed first."""
    from juxtum.logbook import Logbook

    return Logbook(url or None)
