"""Things on the stage that can be taken hold of and dragged."""

from __future__ import annotations

from typing import Protocol

from PyQt6.QtCore import QPointF
from PyQt6.QtGui import QPainter


class Handles(Protocol):
    """Whoever owns such things; the stage hands it presses, moves and the painter."""

    def grab(self, here: QPointF) -> bool:
        """Take hold of what lies under a place, if anything does."""

    def drag(self, here: QPointF) -> None:
        """Move it."""

    def drop(self, here: QPointF) -> None:
        """Let it go."""

    def paint(self, painter: QPainter) -> None:
        """Draw them all over the picture."""
