"""The ways to know where the scanner is, side by side; a click on one goes that way."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from PyQt6.QtWidgets import QButtonGroup, QGridLayout, QLabel, QPushButton, QSizePolicy, QWidget

from juxtum.desk.widgets import button, label
from juxtum.plan.targets.ways import Way, WayResult


class WaysBox(QWidget):
    """A button a way with what it costs and gives.

    Parameters
    ----------
    chosen : callable
        Told the way that was clicked.
    """

    def __init__(self, chosen: Callable[[WayResult], None]) -> None:
        super().__init__()
        self.setAccessibleName("Ways")
        self._chosen = chosen
        self._results: dict[Way, WayResult] = {}
        self._rows: dict[Way, tuple[QPushButton, QLabel]] = {}
        self._group = QButtonGroup(self)
        grid = QGridLayout(self)
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setVerticalSpacing(4)
        grid.setHorizontalSpacing(8)
        for index, way in enumerate(Way):
            chooser = button(way.value[0].upper() + way.value[1:], lambda way=way: self._click(way))  # type: ignore[misc]
            chooser.setCheckable(True)
            # The worksheet's width is given: long names are cut, they do not make it wider.
            chooser.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
            chooser.setAccessibleName(f"Way: {way.value}")
            numbers = label("", "soft", wrap=True)
            self._group.addButton(chooser)
            grid.addWidget(chooser, 2 * index, 0)
            grid.addWidget(numbers, 2 * index + 1, 0)
            self._rows[way] = chooser, numbers

    def _click(self, way: Way) -> None:
        if way in self._results:
            self._chosen(self._results[way])

    def show_ways(self, results: tuple[WayResult, ...], now: Way) -> None:
        """Show what is known of each way; the one that the plan goes is marked."""
        self._results = {r.way: r for r in results}
        for way, (chooser, numbers) in self._rows.items():
            found = self._results.get(way)
            chooser.setChecked(way is now)
            # Without any target nothing can be captured: that way is here to be compared.
            chooser.setEnabled(found is not None and found.is_possible and way is not Way.NONE)
            chooser.setToolTip("" if found is None else found.words)
            numbers.setText("" if found is None else numbers_of(found))

    @property
    def shown(self) -> dict[str, str]:
        """What stands beside each way."""
        return {way.value: numbers.text() for way, (_, numbers) in self._rows.items()}


def numbers_of(way: WayResult) -> str:
    """Share of the area, minutes, U and what is stuck, in one line."""
    if not way.is_possible:
        return "not on this part"
    u = "U not known" if np.isnan(way.expanded) else "not tied" if np.isinf(way.expanded) else f"U {way.expanded:.3f}"
    stuck = f"{len(way.targets)} to stick" if way.way in (Way.BOTH, Way.PART) else "none to stick"
    return f"{100 * way.share:.1f} %, {way.minutes:.1f} min, {u}, {stuck}"
