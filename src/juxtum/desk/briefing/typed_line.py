"""A characteristic typed in one line."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PyQt6.QtWidgets import QLineEdit

from juxtum.errors import InputError
from juxtum.evaluate.typed import typed_characteristic
from juxtum.job.drawn import known_datums, known_sizes

if TYPE_CHECKING:
    from juxtum.desk.stations.base import Station


class TypedLine(QLineEdit):
    """Takes a line on Enter; one that is not understood stays to be mended.

    Parameters
    ----------
    station : Station
        Where it stands: gives the job.
    """

    def __init__(self, station: Station) -> None:
        super().__init__()
        self._station = station
        self.setAccessibleName("Typed characteristic")
        self.setPlaceholderText("diameter 72 H7 of 51")
        self.setToolTip("In one line, then Enter: position d0.2 M A|B of 31;32 - distance 40 \u00b10.1 x of 14|22")
        self.setMaxLength(400)
        self.returnPressed.connect(self._take)

    def _take(self) -> None:
        nominal, job = self._station.derived.nominal, self._station.session.job
        if nominal is None:
            self._station.desk.tell("there is no nominal yet", "typed line", "Bring one first")
            return
        number, datums, sizes = job.procedure.next_number, known_datums(job), known_sizes(job)
        try:
            made = typed_characteristic(self.text(), number, nominal, datums, sizes)
        except InputError as problem:
            self._station.session.failed.emit(problem)
            return
        self.clear()
        self._station.session.add(made, f"characteristic {made.id}")
