"""What the CAD model itself states of its faces, offered as characteristics."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PyQt6.QtWidgets import QWidget

from juxtum.desk.demos import take_drawing
from juxtum.desk.widgets import button, column, label
from juxtum.evaluate.drawing_model import model_drawing
from juxtum.evaluate.kinds import Kind
from juxtum.job import Job
from juxtum.progress import Progress

if TYPE_CHECKING:
    from juxtum.desk.desk import Desk
    from juxtum.desk.stations.base import Station

MOST_TOLD = 4
"""More sentences do not fit a notice."""


class ModelLines(QWidget):
    """Says how many tolerances the model states, and takes them; hidden where it states none.

    Parameters
    ----------
    station : Station
        Where it stands: gives the job.
    """

    def __init__(self, station: Station) -> None:
        super().__init__()
        self._station = station
        lines = column(self)
        lines.setContentsMargins(0, 0, 0, 0)
        self._words = label("", "soft", wrap=True)
        self._words.setAccessibleName("Tolerances in the model")
        self._take = button(
            "Take the model's tolerances", lambda: take_model(station.desk), tip="In place of the characteristics below"
        )
        for widget in (self._words, self._take):
            lines.addWidget(widget)
        self.setVisible(False)

    def show_job(self) -> None:
        """As the nominal is now."""
        nominal = self._station.derived.nominal
        count = 0 if nominal is None else sum(line.kind != "datum" for line in nominal.lines)
        unread = () if nominal is None else nominal.unread
        self.setVisible(bool(count or unread))
        self._take.setVisible(bool(count))
        left = f" Left out: {_told(list(unread))}." if unread else ""
        self._words.setText(f"Tolerances that the model states of its faces: {count}.{left}")


def take_model(desk: Desk) -> None:
    """Take what the model states in place of the characteristics that there are."""
    runner, left = desk.session.runner, list[str]()

    def read(job: Job, progress: Progress) -> tuple[Kind, ...]:
        made = model_drawing(runner.nominal(job, progress))
        left[:] = made.left
        return made.lines

    take_drawing(desk, "the model", read, lambda: _told(left))


def _told(left: list[str]) -> str:
    """What was left out, as a notice has room for it."""
    more = f"; and {len(left) - MOST_TOLD} more" if len(left) > MOST_TOLD else ""
    return "; ".join(left[:MOST_TOLD]) + more
