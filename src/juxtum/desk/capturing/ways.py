"""The ways of capturing, and the bar that turns from one to another."""

from __future__ import annotations

from enum import StrEnum
from typing import TYPE_CHECKING

from PyQt6.QtWidgets import QButtonGroup, QHBoxLayout, QToolButton

from juxtum.desk.capturing.photo_panel import PhotoPanel
from juxtum.desk.capturing.practice_panel import PracticePanel
from juxtum.desk.capturing.probe_panel import ProbePanel
from juxtum.desk.capturing.scan_panel import ScanPanel
from juxtum.desk.capturing.table_panel import TablePanel
from juxtum.desk.capturing.tray_panel import TrayPanel

if TYPE_CHECKING:
    from juxtum.desk.capturing.panel import CapturePanel
    from juxtum.desk.stations.capture import CaptureStation


class Way(StrEnum):
    """What is captured with."""

    SCAN = "Scan"
    PHOTOS = "Photos"
    PROBE = "Probe"
    TABLE = "Table"
    TRAY = "Tray"
    PRACTICE = "Practice"


class Panels:
    """One panel for each way."""

    def __init__(self, station: CaptureStation) -> None:
        self.scan, self.photos, self.probe = ScanPanel(station), PhotoPanel(station), ProbePanel(station)
        self.table, self.tray, self.practice = TablePanel(station), TrayPanel(station), PracticePanel(station)

    @property
    def by_way(self) -> dict[Way, CapturePanel]:
        """All of them."""
        panels = (self.scan, self.photos, self.probe, self.table, self.tray, self.practice)
        return dict(zip(Way, panels, strict=True))


FRAMED = (Way.PHOTOS, Way.PROBE, Way.TRAY)
"""Ways that step back from the part to show what stands round it."""


def way_bar(station: CaptureStation, chosen: Way) -> tuple[QHBoxLayout, QButtonGroup]:
    """A button for each way."""
    bar, group = QHBoxLayout(), QButtonGroup(station)
    bar.setSpacing(0)
    for way in Way:
        button = QToolButton()
        button.setText(way.value)
        button.setAccessibleName(f"Capture by {way.value}")
        button.setCheckable(True)
        button.setProperty("tight", True)
        button.setChecked(way is chosen)
        button.clicked.connect(lambda _, w=way: station.show_way(w))
        group.addButton(button)
        bar.addWidget(button)
    bar.addStretch(1)
    return bar, group
