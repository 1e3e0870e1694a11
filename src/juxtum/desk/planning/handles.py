"""Targets on the stage: numbered discs that can be chosen and dragged over the surface."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QFontMetricsF, QPainter, QPen

from juxtum.desk.stage_view import StageView
from juxtum.desk.style import THEME, colour, font
from juxtum.geometry.arrays import Floats
from juxtum.look import SMALL
from juxtum.nominal import Nominal
from juxtum.plan.targets.assess import Assessment

RADIUS = 9.0
SMALL_RADIUS = 3.5
MANY = 90


class TargetHandles:
    """Draws the targets and lets them be moved.

    Parameters
    ----------
    chosen : callable
        Told the index of a target that was clicked, -1 for none.
    dropped : callable
        Told the index of a dragged target and the place (3,) where it was let go.
    """

    def __init__(self, view: StageView, chosen: Callable[[int], None], dropped: Callable[[int, Floats], None]) -> None:
        self._view, self._chosen, self._dropped = view, chosen, dropped
        self.nominal: Nominal | None = None
        self.assessment: Assessment | None = None
        self.selected = -1
        self.note: tuple[Floats, str] | None = None
        """A place and a word about it, such as the weakest zone."""
        self.top = 100.0
        """Where callouts stand, pixels from the top."""
        self._held = -1
        self._press = QPointF()
        self._ghost: Floats | None = None

    def show(self, nominal: Nominal | None, assessment: Assessment | None) -> None:
        """Show other targets."""
        self.nominal, self.assessment = nominal, assessment
        if assessment is not None and self.selected >= len(assessment.targets):
            self.selected = -1
        self._view.update()

    def spots(self) -> Floats:
        """Where the targets appear (T, 2)."""
        assert self.assessment is not None
        if not self.assessment.targets:
            return np.empty((0, 2))
        return self._view.project(np.array([t.place for t in self.assessment.targets]))

    def facing(self) -> list[bool]:
        """Which targets are not on the far side."""
        assert self.assessment is not None
        towards = self._view.stage.eye.towards
        return [
            float(t.normal @ towards) > 0.05 and self._clear(t.place, t.normal, towards)
            for t in self.assessment.targets
        ]

    def _clear(self, place: Floats, normal: Floats, towards: Floats) -> bool:
        if self.nominal is None or self._view.is_moving:
            return True
        return self.nominal.mesh.tree.first_hit(place + 0.3 * normal + 0.5 * towards, towards) is None

    def grab(self, here: QPointF) -> bool:
        """Take hold of the target under the pointer."""
        self._held, self._ghost = self.index_at(here), None
        self._press = here
        return self._held >= 0

    def index_at(self, here: QPointF) -> int:
        """Index of the target under a place of the widget, -1 for none."""
        if self.assessment is None or not self.assessment.targets:
            return -1
        spots = self.spots()
        distance = np.hypot(spots[:, 0] - here.x(), spots[:, 1] - here.y())
        distance[~np.array(self.facing())] = np.inf
        best = int(np.argmin(distance))
        return best if distance[best] <= RADIUS + 2 else -1

    def drag(self, here: QPointF) -> None:
        """Slide it over the surface."""
        if (here - self._press).manhattanLength() > 3:
            place = self.surface_at(here)
            if place is not None:
                self._ghost = place

    def drop(self, here: QPointF) -> None:
        """Let it go: a click chooses, a drag moves."""
        held, ghost = self._held, self._ghost
        self._held, self._ghost = -1, None
        if ghost is None:
            self.selected = held
            self._chosen(held)
        elif held >= 0:
            self.selected = held
            self._dropped(held, ghost)
        self._view.update()

    def surface_at(self, here: QPointF) -> Floats | None:
        """The place of the part (3,) under a place of the widget."""
        if self.nominal is None:
            return None
        start, end = self._view.stage.eye.ray(here.x(), here.y(), self._view.width(), self._view.height())
        direction = (end - start) / np.linalg.norm(end - start)
        hit = self.nominal.mesh.tree.first_hit(start, direction)
        return None if hit is None else hit[1]

    def paint(self, painter: QPainter) -> None:
        """All targets; those on the far side faint, the chosen one filled, a suggested one dashed."""
        if self.assessment is None:
            return
        crowded = len(self.assessment.targets) > MANY
        facing = self.facing()
        order = sorted(range(len(facing)), key=lambda k: (facing[k], k == self.selected))
        spots = self.spots()
        for k in order:
            x, y = spots[k]
            self._disc(painter, QPointF(x, y), k, facing[k], crowded)
        suggestion = self.assessment.suggestion
        if suggestion is not None:
            x, y = self._view.project(suggestion.place[None])[0]
            pen = QPen(colour("accent"), 2)
            pen.setDashPattern([3, 2])
            painter.setPen(pen)
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawEllipse(QPointF(x, y), RADIUS + 2, RADIUS + 2)
        if self.note is not None and self._ghost is None:
            self._callout(painter, *self.note)
        if self._ghost is not None:
            x, y = self._view.project(self._ghost[None])[0]
            painter.setPen(QPen(colour("accent"), 2))
            painter.setBrush(colour("accent_wash"))
            painter.drawEllipse(QPointF(x, y), RADIUS, RADIUS)

    def _callout(self, painter: QPainter, place: Floats, text: str) -> None:
        """A line from a place to a small box that says what is weak there."""
        x, y = self._view.project(place[None])[0]
        painter.setFont(font(SMALL + 1, bold=True))
        wide, tall = QFontMetricsF(painter.font()).horizontalAdvance(text) + 20, 26 * THEME.scale
        left = min(max(x - wide / 2, 16), self._view.width() - wide - 150)
        box = QRectF(left, self.top, wide, tall)
        painter.setPen(QPen(colour("ink"), 1.1))
        painter.drawLine(QPointF(x, y), QPointF(min(max(x, box.left() + 8), box.right() - 8), box.bottom()))
        painter.setPen(QPen(colour("rule"), 1))
        painter.setBrush(colour("panel"))
        painter.drawRoundedRect(box, 4, 4)
        painter.setPen(colour("ink"))
        painter.drawText(box, Qt.AlignmentFlag.AlignCenter, text)

    def _disc(self, painter: QPainter, spot: QPointF, k: int, facing: bool, crowded: bool) -> None:
        assert self.assessment is not None
        target, facts = self.assessment.targets[k], self.assessment.facts[k]
        radius = (SMALL_RADIUS if crowded and k != self.selected else RADIUS) * THEME.scale
        if not facing:
            faint = colour("ink_soft")
            faint.setAlpha(110)
            painter.setPen(QPen(faint, 1, Qt.PenStyle.DotLine))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawEllipse(spot, radius * 0.8, radius * 0.8)
            return
        edge = "not_conforming" if facts.problems else "ink"
        painter.setPen(
            QPen(colour("accent" if k == self.selected else edge), 2 if k == self.selected or facts.problems else 1.2)
        )
        painter.setBrush(colour("accent" if k == self.selected else "panel"))
        painter.drawEllipse(spot, radius, radius)
        if target.is_locked:
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawEllipse(spot, radius + 3, radius + 3)
        if radius > SMALL_RADIUS * THEME.scale:
            painter.setFont(font(SMALL - 1, bold=True))
            painter.setPen(colour("on_accent" if k == self.selected else "ink"))
            painter.drawText(QRectF(spot.x() - 12, spot.y() - 9, 24, 18), Qt.AlignmentFlag.AlignCenter, str(k + 1))
