"""Switches between the desk and the floor view: the stage moves from one to the other."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PyQt6.QtWidgets import QVBoxLayout, QWidget

from juxtum.capture.snapshot import Snapshot
from juxtum.desk.capturing.floor import FloorView

if TYPE_CHECKING:
    from juxtum.desk.window import MainWindow


class FloorSwitch:
    """Knows what the desk shows besides the stage.

    Parameters
    ----------
    down : QVBoxLayout
        Of the window's middle.
    """

    def __init__(self, window: MainWindow, down: QVBoxLayout) -> None:
        self._window, self._down = window, down
        self.view = FloorView()
        down.addWidget(self.view, 100)
        self.is_on = False
        self._hidden: list[QWidget] = []

    def toggle(self) -> None:
        """To the floor view, or back to the desk."""
        w = self._window
        if not self.is_on:
            bar = w.menuBar()
            parts = [w.strip, w.route, w.middle, w.sheets, w.status, w.controls.bar, *([bar] if bar is not None else [])]
            self._hidden = [part for part in parts if part.isVisible()]
            for part in self._hidden:
                part.hide()
            self.view.take(w.view)
            self._down.setStretch(self._down.indexOf(self.view) - 2, 0)
            self.view.show()
        else:
            self.view.hide()
            self._down.setStretch(self._down.indexOf(self.view) - 2, 1)
            w.middle.insertWidget(0, w.view)
            w.middle.setStretchFactor(0, 1)
            for part in self._hidden:
                part.show()
        self.is_on = not self.is_on
        w.capture.hand.is_large = self.is_on
        w.view.setFocus()
        snapshot = w.capture.snapshot
        if self.is_on and snapshot is not None:
            self.show_snapshot(snapshot)
        w.place_floating()
        w.menus.enable()

    def show_snapshot(self, snapshot: Snapshot) -> None:
        """Keep it up to date while it is shown."""
        if self.is_on:
            job = self._window.session.job
            part = (job.brief.part or job.title).split()[0]
            serial = f" \u00b7 serial {job.brief.serial}" if job.brief.serial else ""
            self.view.show_snapshot(snapshot, part + serial)
