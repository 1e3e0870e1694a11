"""All worksheets of a desk, in the order of the route."""

from __future__ import annotations

from juxtum.desk.desk import Desk
from juxtum.desk.stations.align import AlignStation
from juxtum.desk.stations.assemble import AssembleStation
from juxtum.desk.stations.base import Station
from juxtum.desk.stations.brief import BriefStation
from juxtum.desk.stations.capture import CaptureStation
from juxtum.desk.stations.measure import MeasureStation
from juxtum.desk.stations.plan import PlanStation
from juxtum.desk.stations.ready import ReadyStation
from juxtum.desk.stations.report import ReportStation
from juxtum.guide.findings import Key


class Stations:
    """One worksheet for each stop of the route."""

    def __init__(self, desk: Desk) -> None:
        self.brief, self.plan, self.ready, self.capture = (
            BriefStation(desk),
            PlanStation(desk),
            ReadyStation(desk),
            CaptureStation(desk),
        )
        self.assemble, self.align, self.measure, self.report = (
            AssembleStation(desk),
            AlignStation(desk),
            MeasureStation(desk),
            ReportStation(desk),
        )
        route = (self.brief, self.plan, self.ready, self.capture, self.assemble, self.align, self.measure, self.report)
        self.by_key: dict[Key, Station] = {station.key: station for station in route}
