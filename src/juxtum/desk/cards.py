"""The cards of readings on the stage: placed, painted, found under the pointer."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from PyQt6.QtGui import QPainter

from juxtum.desk import overlays
from juxtum.evaluate import Reading
from juxtum.geometry.arrays import Bools, Floats
from juxtum.scene.cards import Box, place_cards
from juxtum.scene.palette import MapScale

MOST = 24
"""With more readings than this only the selected one has a card; the others are marks."""


class Cards:
    """Readings and where their cards are."""

    def __init__(self) -> None:
        self.readings: tuple[Reading, ...] = ()
        self.selected = ""
        self.part = np.empty((0, 3))
        self.boxes: list[tuple[Reading, Box | None]] = []

    @property
    def places(self) -> Floats:
        """Places of all readings (N, 3)."""
        return np.array([r.place for r in self.readings]).reshape(-1, 3)

    def label_at(self, x: float, y: float) -> str:
        """The reading whose card is at a place on the screen, or nothing."""
        return next((r.label for r, box in self.boxes if box is not None and box.holds(x, y)), "")

    def paint(
        self,
        painter: QPainter,
        visible: Bools,
        room: tuple[int, int],
        project: Callable[[Floats], Floats],
        scale: MapScale,
    ) -> None:
        """Leader lines first, then places, then cards, for all readings that nothing hides."""
        known = len(visible) == len(self.readings)
        shown = [r for k, r in enumerate(self.readings) if not known or visible[k]]
        carded = shown if len(shown) <= MOST else [r for r in shown if r.label == self.selected]
        anchors = project(np.array([r.place for r in carded]).reshape(-1, 3))
        free, taken = Box(8, 52, room[0] - 16, room[1] - 92), (overlays.axes_box(*room),)
        boxes = place_cards(anchors, overlays.card_size(), free, taken, project(self.part))
        self.boxes = list(zip(carded, boxes, strict=True))
        for (_, box), spot in zip(self.boxes, anchors, strict=True):
            if box is not None:
                overlays.paint_leader(painter, spot, box)
        spots = project(np.array([r.place for r in shown]).reshape(-1, 3))
        for reading, (x, y) in zip(shown, spots, strict=True):
            overlays.paint_dot(painter, x, y, reading, small=len(shown) > MOST)
        for reading, box in self.boxes:
            if box is not None:
                overlays.paint_card(painter, box, reading, scale, reading.label == self.selected)
