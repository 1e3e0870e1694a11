"""Going from one place of the map to the next, the worst first."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

import numpy as np
from PyQt6.QtWidgets import QWidget

from juxtum.desk.overlays import Pin
from juxtum.desk.widgets import button, column, label, row
from juxtum.evaluate import Deviation
from juxtum.evaluate.extrema import Peak, find_peaks
from juxtum.geometry.arrays import Floats
from juxtum.guide.peaks import peak_words

if TYPE_CHECKING:
    from juxtum.desk.desk import Desk

HINT = "From the worst place of the map to the next."
ROOM = 1 / 6
"""Of the part's size, shown about a place."""


class WorstPanel(QWidget):
    """Steps through the local extremes of the map.

    Parameters
    ----------
    desk : Desk
    pin : callable
        Takes a place (3,) at which a reading is wanted.
    """

    def __init__(self, desk: Desk, pin: Callable[[Floats], None]) -> None:
        super().__init__()
        self._desk, self._pin = desk, pin
        self._source: tuple[Deviation, tuple[float, float]] | None = None
        self.peaks: tuple[Peak, ...] = ()
        self.at = -1
        lines = column(self, 6)
        lines.addWidget(label("Worst places", "heading"))
        self._words = label(HINT, "soft", wrap=True)
        self._words.setAccessibleName("Where it is worst")
        lines.addWidget(self._words)
        self._next = button("Next place", lambda: self.step(1), tip="The worst place, then the next (W)")
        self._before = button("Place before", lambda: self.step(-1), tip="Back to the one before (Shift+W)")
        self._keep = button("Keep it", self.keep, tip="A reading where this place is")
        lines.addLayout(row(self._next, self._before, self._keep))
        self._show()

    @property
    def pins(self) -> list[Pin]:
        """The place that is looked at, for the stage."""
        peak = self.now
        return [] if peak is None else [Pin(peak.place, f"{self.at + 1}")]

    @property
    def now(self) -> Peak | None:
        """The place that is looked at."""
        return self.peaks[self.at] if 0 <= self.at < len(self.peaks) else None

    def show_job(self) -> None:
        """Another map has other places."""
        source = self._now_source()
        if source is None or self._source is None or source[0] is not self._source[0] or source[1] != self._source[1]:
            self._source, self.peaks, self.at = None, (), -1
        self._show()

    def _now_source(self) -> tuple[Deviation, tuple[float, float]] | None:
        derived = self._desk.session.derived
        measure = derived.job.procedure.measure
        return None if derived.evaluation is None else (derived.evaluation.deviation, (measure.lower, measure.upper))

    def step(self, way: int) -> None:
        """Look at the next place, or at the one before; they are looked for the first time that one is asked for."""
        source = self._now_source()
        if source is None:
            return
        if self._source is not None:
            self._go(way)
            return

        def found(peaks: tuple[Peak, ...]) -> None:
            if self._now_source() is None:
                return
            if self._source is None:
                self._source, self.peaks, self.at = source, peaks, -1
            self._go(way)

        self._words.setText("Looking for them\u2026")
        self._desk.session.compute(lambda _: find_peaks(source[0], *source[1]), found)

    def _go(self, way: int) -> None:
        if self.peaks:
            self.at = (max(self.at, 0 if way < 0 else -1) + way) % len(self.peaks)
            peak = self.peaks[self.at]
            nominal = self._desk.session.derived.nominal
            half = ROOM * (100.0 if nominal is None else nominal.diagonal) / 2
            self._desk.view.frame(np.stack([peak.place - half, peak.place + half]), peak.normal)
        self._show()
        if self.peaks:
            self._desk.view.set_pins(self.pins)

    def keep(self) -> None:
        """Keep the place as a reading."""
        if self.now is not None:
            self._pin(self.now.place)

    def _show(self) -> None:
        has_map, peak = self._now_source() is not None, self.now
        for one in (self._next, self._before):
            one.setEnabled(has_map)
        self._keep.setEnabled(peak is not None)
        if peak is not None:
            self._words.setText(peak_words(peak, self.at, len(self.peaks)))
        elif self._source is not None:
            self._words.setText("No place stands out of the noise.")
        else:
            self._words.setText(HINT)
