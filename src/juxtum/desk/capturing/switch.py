"""Switches between the desk and the floor view: the stage moves from one to the other."""

from __future__ import annotations

from PyQt6.QtWidgets import QWidget

from juxtum.capture.live.snapshot import Snapshot
from juxtum.desk.capturing.floor import FloorView
from juxtum.desk.layout import Layout
from juxtum.desk.session import Session
from juxtum.desk.stage_view import StageView
from juxtum.desk.view_bar import ViewBar


class FloorSwitch:
    """Knows what the desk shows besides the stage.

    Parameters
    ----------
    stage : StageView
        Moves between the desk's middle and the floor view.
    parts : Layout
        What the desk shows besides the stage.
    bar : QWidget, optional
        The window's menus.
    """

    def __init__(self, session: Session, stage: StageView, parts: Layout, bar: QWidget | None) -> None:
        self._session, self._stage, self._parts, self._bar = session, stage, parts, bar
        self.view = FloorView()
        parts.down.addWidget(self.view, 100)
        self.is_on = False
        self._hidden: list[QWidget] = []

    def toggle(self) -> None:
        """To the floor view, or back to the desk."""
        parts = self._parts
        place = parts.down.indexOf(self.view) - 2
        if not self.is_on:
            bars = [
                parts.strip,
                parts.route,
                parts.middle,
                parts.sheets,
                parts.status,
                self._stage.findChild(ViewBar),
                self._bar,
            ]
            self._hidden = [part for part in bars if part is not None and part.isVisible()]
            for part in self._hidden:
                part.hide()
            self.view.take(self._stage)
            parts.down.setStretch(place, 0)
            self.view.show()
        else:
            self.view.hide()
            parts.down.setStretch(place, 1)
            parts.middle.insertWidget(0, self._stage)
            parts.middle.setStretchFactor(0, 1)
            for part in self._hidden:
                part.show()
        self.is_on = not self.is_on
        self._stage.setFocus()

    def show_snapshot(self, snapshot: Snapshot) -> None:
        """Keep it up to date while it is shown."""
        if self.is_on:
            job = self._session.job
            part = (job.brief.part or job.title).split()[0]
            serial = f" \u00b7 serial {job.brief.serial}" if job.brief.serial else ""
            self.view.show_snapshot(snapshot, part + serial)
