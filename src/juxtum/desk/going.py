"""What begins at another station: go there first."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, Any

from juxtum.desk.stations.capture import Way
from juxtum.desk.stations.findings import Key

if TYPE_CHECKING:
    from juxtum.desk.window import MainWindow


class Going:
    """Goes to a station and begins something there."""

    def __init__(self, window: MainWindow) -> None:
        self._window = window

    def capturing(self, work: Callable[[], None]) -> None:
        """Go to Capture and do something there."""
        w = self._window
        if w.station is not w.capture:
            w.go(Key.CAPTURE)
        work()

    def begin_calibrating(self) -> None:
        """Go to Ready and begin the calibration that is open."""
        w = self._window
        if w.station is not w.ready:
            w.go(Key.READY)
        w.open_logbook(w.ready.calibrating.begin_chosen)

    def begin_checking(self) -> None:
        """Go to Ready and check on the chosen artefact."""
        w = self._window
        if w.station is not w.ready:
            w.go(Key.READY)
        w.open_logbook(w.ready.calibrating.check_on_artefact)

    def begin_practice(self) -> None:
        """Go to the exercises."""
        w = self._window
        if w.station is not w.capture:
            w.go(Key.CAPTURE)
        w.capture.show_way(Way.PRACTICE)

    def by_photos(self) -> None:
        """Take the next photo of the walk."""
        self._way(Way.PHOTOS).take_next()

    def by_probe(self) -> None:
        """Touch the next planned point."""
        self._way(Way.PROBE).touch()

    def start_exercise(self) -> None:
        """Start the exercise that is chosen."""
        self._way(Way.PRACTICE).start()

    def _way(self, way: Way) -> Any:
        capture = self._window.capture
        if self._window.station is not capture:
            self._window.go(Key.CAPTURE)
        if capture.way is not way:
            capture.show_way(way)
        return capture.panels[way]

    def begin_pairs(self) -> None:
        """Go to Align and pick pairs."""
        w = self._window
        w.go(Key.ALIGN)
        w.align._pairs.click()

    def begin_datums(self) -> None:
        """Go to Align and pick datums."""
        w = self._window
        w.go(Key.ALIGN)
        w.align._pick_datums.click()

    def begin_pinning(self) -> None:
        """Go to Measure and pin readings, or stop."""
        w = self._window
        if w.station.key is not Key.MEASURE:
            w.go(Key.MEASURE)
        w.measure.begin_pinning()

    def pin_worst(self) -> None:
        """Go to Measure and pin the worst place."""
        w = self._window
        if w.station.key is not Key.MEASURE:
            w.go(Key.MEASURE)
        w.measure.pin_worst()
