"""Where the tracker is put while a tracked scanner works: at the plan's stations, each tied by targets to those before."""

from __future__ import annotations

from functools import cached_property

import numpy as np

from juxtum.capture.path.route import Stop
from juxtum.devices.protocol import Message
from juxtum.plan.planner import Planner
from juxtum.plan.stations import StationPlan

MOST_TRIED = 4
NUDGE = 250.0
"""Where too few targets are in view from a station the tracker is tried this much higher, mm."""


class TrackerStations:
    """Chooses the station for each stop."""

    def __init__(self, planner: Planner) -> None:
        self.planner = planner
        self.forget()

    def forget(self) -> None:
        """As before anything was put up."""
        self.station, self.position = -1, -1
        self.have_stands = False

    @cached_property
    def plan(self) -> StationPlan:
        """The planned stations."""
        return self.planner.stations()

    @property
    def stands(self) -> Message:
        """Where targets on stands are put, so that the stations share enough of them."""
        return Message("stands", {"places": [[round(float(v), 2) for v in place] for place in self.plan.references]})

    def ordered(self, stops: tuple[Stop, ...]) -> tuple[Stop, ...]:
        """The stops of each position station by station, so that the tracker is moved as rarely as can be."""
        result: list[Stop] = []
        for position in dict.fromkeys(stop.position for stop in stops):
            left = [stop for stop in stops if stop.position == position]
            while left:
                serving = np.array([self.plan.seen[:, self._row(stop)] for stop in left])
                station = int(np.argmax(serving.sum(0)))
                served = [stop for stop, seen in zip(left, serving[:, station], strict=True) if seen] or left
                result += served
                left = [stop for stop in left if stop not in served]
        return tuple(result)

    def _row(self, stop: Stop) -> int:
        """Row of the planned pose of a stop."""
        views = self.planner.ground().views
        return int(np.argmin(np.linalg.norm(views.eyes - stop.eye, axis=1) + 1e3 * (views.setups != stop.position)))

    def requests(self, stop: Stop) -> tuple[Message, ...]:
        """What the tracker is told before a stop; nothing when it serves it where it is."""
        serving = np.flatnonzero(self.plan.seen[:, self._row(stop)])
        if stop.position == self.position and (self.station in serving or len(serving) == 0):
            return ()
        self.position = stop.position
        tried = [int(k) for k in serving[:MOST_TRIED]] or [max(self.station, 0)]
        return tuple(self._set_up(station, rise) for station in tried for rise in (0.0, NUDGE, 2 * NUDGE))

    def moved_to(self, station: int) -> None:
        """The tracker stands at a station and knows where it is."""
        self.station = station

    def at(self, number: int, position: int) -> tuple[Message, ...]:
        """What the tracker is told to stand at a station, a little higher where it must."""
        self.position = position
        return tuple(self._set_up(number, rise) for rise in (0.0, NUDGE, 2 * NUDGE))

    def _set_up(self, number: int, rise: float) -> Message:
        station = self.plan.stations[number]
        place = station.place + np.array([0.0, 0.0, rise])
        aim = station.place + station.axis * 0.5 * (self.plan.nearest + self.plan.farthest)
        axis = (aim - place) / np.linalg.norm(aim - place)
        fields = {
            "place": [round(float(v), 2) for v in place],
            "axis": [round(float(v), 5) for v in axis],
            "position": self.position,
            "station": number,
        }
        return Message("tracker", fields)
