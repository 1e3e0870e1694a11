"""What begins at another station: go there first."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, Any

from juxtum.desk.capturing.ways import Way
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
        if w.capture.way not in (Way.SCAN, Way.PRACTICE):
            w.capture.show_way(Way.SCAN)
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

    @property
    def has_photos(self) -> bool:
        """Whether photos were taken."""
        panel: Any = self._window.capture.panels[Way.PHOTOS]
        return panel.walk is not None and len(panel.walk.photos) > 0

    @property
    def is_practising(self) -> bool:
        """Whether an exercise runs."""
        panel: Any = self._window.capture.panels[Way.PRACTICE]
        return bool(panel.is_running)

    def adjust_photos(self) -> None:
        """Adjust all photos of the walk together."""
        self._way(Way.PHOTOS).adjust()

    def give_photo_map(self) -> None:
        """The adjusted targets become the scanner's map."""
        self._way(Way.PHOTOS).give_map()

    def by_probe(self) -> None:
        """Touch the next planned point."""
        self._way(Way.PROBE).touch()

    def next_feature(self) -> None:
        """Begin with the next feature to probe."""
        self._way(Way.PROBE).choose_next()

    def shoot_turn(self) -> None:
        """The next shot before the turntable."""
        self._way(Way.TABLE).shoot()

    def shoot_whole_turn(self) -> None:
        """What is left of the turn as the part lies."""
        self._way(Way.TABLE).shoot_all()

    def scan_tray(self) -> None:
        """A whole tray in the cabinet."""
        self._way(Way.TRAY).scan_it()

    def save_tray(self) -> None:
        """The tray's cloud to a file."""
        self._way(Way.TRAY).save_cloud()

    @property
    def has_tray(self) -> bool:
        """Whether a tray was scanned."""
        panel: Any = self._window.capture.panels[Way.TRAY]
        return panel.scan is not None

    def start_exercise(self) -> None:
        """Start the exercise that is chosen."""
        self._way(Way.PRACTICE).start()

    def finish_exercise(self) -> None:
        """Finish the exercise and see the debrief."""
        self._way(Way.PRACTICE).finish()

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
