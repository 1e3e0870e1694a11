"""What all panels of Capture have in common."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PyQt6.QtWidgets import QWidget

from juxtum.capture.live.snapshot import Snapshot
from juxtum.desk.widgets import column
from juxtum.guide.next_actions import NextAction
from juxtum.scene.picking import Hit

if TYPE_CHECKING:
    from juxtum.desk.capturing.hand import HandDriver
    from juxtum.desk.stations.capture import CaptureStation


class CapturePanel(QWidget):
    """One way of capturing."""

    def __init__(self, station: CaptureStation) -> None:
        super().__init__()
        self.station = station
        self.body = column(self)
        self.build()

    def build(self) -> None:
        """Add widgets."""

    def follow(self) -> None:
        """Keep what is held beside the job true to it, whether this is in sight or not."""

    def show_job(self) -> None:
        """The job changed, and this is in sight."""

    def show_snapshot(self, snapshot: Snapshot) -> None:
        """A moment of the capture."""

    def clicked(self, hit: Hit) -> None:
        """A click on the part."""

    def pointed(self, hand: HandDriver) -> None:
        """The pointer moved over the part while it leads a device."""

    def next_action(self) -> NextAction | None:
        """What this way proposes next; none where the scan's own state says it."""
        return None

    def dress(self) -> None:
        """Put the panel's own layers on the stage."""

    def close_all(self) -> None:
        """The window closes."""
