"""What will likely be asked for next, worked out while nobody waits: the map and the ledger in the other alignments."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PyQt6.QtCore import QObject

from juxtum.desk.timers import timer
from juxtum.desk.workbench import Lane

if TYPE_CHECKING:
    from juxtum.desk.derived import Derived
    from juxtum.desk.session import Session

QUIET_MS = 1_000
"""So long nothing was asked for before something is worked out ahead."""


class Ahead(QObject):
    """Works ahead whenever the workbench has been idle for a while; whatever is asked for stops it, and what it made by then stays.

    Parameters
    ----------
    session : Session
        Whose job's other alignments are worked out.
    """

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self._session = session
        self._pause = timer(self, QUIET_MS, self._begin, once=True)
        session.workbench.busy_changed.connect(self._busy)

    def _busy(self, is_busy: bool) -> None:
        if is_busy:
            self._pause.stop()
        else:
            self._pause.start()

    def _begin(self) -> None:
        session = self._session
        derived, deriver = session.derived, session.deriver
        if session.workbench.is_busy or len(derived.job.procedure.alignments) < 2:
            return

        def done(made: Derived) -> None:
            if session.derived is derived and made is not derived:
                session.derived = made
                session.changed.emit()
                self._begin()

        # Whoever puts an alignment in force that cannot be had is told why then.
        session.workbench.ask(
            lambda progress: deriver.look_ahead(derived, progress), done, lambda _: None, Lane.AHEAD, is_quiet=True
        )
