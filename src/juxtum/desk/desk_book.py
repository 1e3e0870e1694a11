"""The logbook as the desk uses it: opened when it is first needed, away from the interface."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

from juxtum.desk.session import Session
from juxtum.instruments.owned import Owned
from juxtum.progress import Progress

if TYPE_CHECKING:
    from juxtum.logbook import Logbook


class DeskBook:
    """Holds the logbook: the shop's, or the demo's own while a job of the demo is open.

    Parameters
    ----------
    session : Session
        Its settings may name another database at `logbook/url`, and another for the demo at `logbook/demo`.
    """

    def __init__(self, session: Session) -> None:
        self._session = session
        self.book: Logbook | None = None
        self.owned = Owned()
        """What the register says the shop has."""
        self._is_warm = False

    def warm(self) -> None:
        """Load the database's library while a job is being opened: later it would hold up what the user does."""
        if self.book is not None and self.book.url != self._address():
            self.close()
        if not self._is_warm:
            self._is_warm = True
            self._session.workbench.ask(_load, lambda _: None, lambda _: None, is_quiet=True)

    def _address(self) -> str:
        from juxtum.demo.register import demo_address, is_demo
        from juxtum.folders import data_folder

        settings = self._session.settings
        if is_demo(self._session.job):
            return str(settings.value("logbook/demo", "") or "") or demo_address()
        return str(settings.value("logbook/url", "") or "") or f"sqlite:///{data_folder() / 'logbook.sqlite'}"

    def open(self, then: Callable[[], None]) -> None:
        """Open it if it is not, then go on."""
        url = self._address()
        if self.book is not None and self.book.url == url:
            then()
            return
        from juxtum.demo.register import is_demo

        plays = is_demo(self._session.job)

        def done(made: tuple[Logbook, Owned]) -> None:
            book, owned = made
            if self._address() != url or (self.book is not None and self.book.url == url):
                book.close()
            else:
                self.close()
                self.book, self.owned = book, owned
            then()

        self._session.compute(lambda _: _opened(url, plays), done)

    def look_again(self) -> None:
        """Read anew what the shop has, after its register was changed."""
        if self.book is not None:
            from juxtum.logbook.register import Register

            self.owned = Register(self.book).owned()

    def close(self) -> None:
        """Let the database go."""
        self.owned = Owned()
        if self.book is not None:
            self.book.close()
            self.book = None


def _load(progress: Progress) -> None:
    import alembic.command  # noqa: F401

    import juxtum.demo.register
    import juxtum.logbook.book  # noqa: F401


def _opened(url: str, is_demo: bool) -> tuple[Logbook, Owned]:
    """The database's library is imported away from the interface, when it is needed first."""
    from juxtum.logbook import Logbook
    from juxtum.logbook.register import Register

    book = Logbook(url)
    if is_demo:
        from juxtum.demo.register import fill

        fill(book)
    return book, Register(book).owned()
