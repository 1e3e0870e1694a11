"""The tracker of a tracked scanner: at which station it stands, in the worksheet and on the stage."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from PyQt6.QtWidgets import QVBoxLayout, QWidget

from juxtum.capture.live.session import CaptureSession
from juxtum.capture.live.snapshot import Snapshot
from juxtum.capture.path.run import station_at
from juxtum.capture.path.tracker_stations import TrackerStations
from juxtum.desk.stage_view import StageView
from juxtum.desk.widgets import button, combo, form, row
from juxtum.instruments.models import Kind
from juxtum.scene.drawables import segments
from juxtum.scene.plan_layers import stand_ends, tripod_ends

if TYPE_CHECKING:
    from juxtum.desk.stations.capture import CaptureStation

TRIPOD = 500.0
EYE_HEIGHT = 1100.0


class TrackerControls(QWidget):
    """Chooses the tracker's station; there only where the plan's scanner is followed by one."""

    def __init__(self, station: CaptureStation) -> None:
        super().__init__()
        self._station = station
        self._shown: tuple[int, int] | None = None
        down = QVBoxLayout(self)
        down.setContentsMargins(0, 0, 0, 0)
        self.choice = combo("Tracker station")
        self.choice.setToolTip("Put it there; it measures the reference targets, from which follows where it stands")
        self.choice.activated.connect(self._choose)
        down.addLayout(form([("Tracker", self.choice)]))
        self.again = button(
            "Measure the references again",
            station.scanner.measure_references,
            tip="Where the tracker stands follows from them",
        )
        down.addLayout(row(self.again))

    def show_job(self, *, live: bool) -> None:
        """Whether there is one."""
        planner = self._station.planner
        self.setVisible(planner is not None and planner.model.kind is Kind.TRACKED)
        self.choice.setEnabled(live)
        self.again.setEnabled(live)

    def show_snapshot(self, snapshot: Snapshot) -> None:
        """Where it stands."""
        stations = self._stations
        if stations is None:
            return
        names = ["not placed", *(f"station {k + 1}" for k in range(len(stations.plan.stations)))]
        if [self.choice.itemText(k) for k in range(self.choice.count())] != names:
            self.choice.clear()
            self.choice.addItems(names)
        if not self.choice.view().isVisible():  # type: ignore[union-attr]
            self.choice.setCurrentIndex(snapshot.station + 1)
        if self._shown != (snapshot.station, snapshot.position):
            self._shown = (snapshot.station, snapshot.position)
            draw_tracker(self._station.view, stations, snapshot.station, snapshot.position)

    def draw(self) -> None:
        """Put it on the stage again."""
        self._shown = None
        if self._station.snapshot is not None:
            self.show_snapshot(self._station.snapshot)

    @property
    def _stations(self) -> TrackerStations | None:
        driver = self._station.driver
        return driver.session.stations if driver is not None else None

    def _choose(self, index: int) -> None:
        driver = self._station.driver
        if driver is None or index < 1:
            return

        def place(session: CaptureSession) -> None:
            station_at(session, driver.tell_device, index - 1)

        driver.stop_plan()
        driver.do(place)


def draw_tracker(view: StageView, stations: TrackerStations, station: int, position: int) -> None:
    """The tracker where it stands with its targets on stands; the other stations beside."""
    ground = stations.planner.ground()
    back = ground.views.turned[position].inverse
    table = ground.views.turned[position].apply(ground.nominal.mesh.bounds)[:, 2].min()
    places = np.array([s.place for s in stations.plan.stations])
    axes = np.array([s.axis for s in stations.plan.stations])
    floor = min(float(places[:, 2].min()) - EYE_HEIGHT, float(table))
    here = np.arange(len(places)) == station
    stands = stand_ends(stations.plan.references, floor)
    for layer, ends in (
        ("gear", tripod_ends(places[here], axes[here], floor, TRIPOD)),
        ("rays", tripod_ends(places[~here], axes[~here], floor, TRIPOD)),
    ):
        lines = ends if layer == "gear" else np.concatenate([ends, stands])
        view.put(layer, segments(back.apply(lines.reshape(-1, 3)).reshape(-1, 2, 3)) if len(lines) else None)
