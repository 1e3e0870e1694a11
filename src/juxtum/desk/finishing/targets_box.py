"""Reference targets in a surface: those that the capture found, those that stand out of it by their shape, and all of them taken off."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

import numpy as np
from PyQt6.QtWidgets import QWidget

from juxtum.assemble.finishing import NARROWEST, WIDEST, Disc, Discs, find_discs
from juxtum.desk.widgets import LengthField, button, column, form, label, row
from juxtum.geometry import RigidTransform, TriangleMesh
from juxtum.geometry.arrays import Floats, orthonormal_frame
from juxtum.guide.finishing import discs_words
from juxtum.job.steps import CleaningStep, TargetsOff
from juxtum.scene.drawables import segments

if TYPE_CHECKING:
    from juxtum.desk.desk import Desk

LAYER = "target rings"
USUAL = 8.0
"""Across a target with its dark surround where no plan says it, mm."""
ON = 2.0
"""A target nearer to the surface than this sits on it, mm."""
CORNERS = 36


class TargetsBox(QWidget):
    """Looks for targets in the scan that is chosen, and takes them off.

    Parameters
    ----------
    desk : Desk
    work : callable
        Takes a step of work on the chosen scan.
    dress : callable
        Puts the station's layers on the stage anew.
    """

    def __init__(self, desk: Desk, work: Callable[[CleaningStep], None], dress: Callable[[], None]) -> None:
        super().__init__()
        self._desk, self._work, self._dress = desk, work, dress
        self._scan: TriangleMesh | None = None
        self._placement = RigidTransform.identity()
        self._captured: Floats = np.zeros((0, 3))
        self.found: Discs | None = None
        self._across = LengthField("Across a target", USUAL, "mm; of the whole disc with its dark surround")
        self._ask = button("Find targets", self.look, tip="Thin round discs that stand out of the surface about them")
        self._off = button("Take targets off", self.take, tip="Their surface goes; round holes are left, listed above")
        self._words = label("", "soft", wrap=True)
        self._words.setAccessibleName("About targets")
        lines = column(self)
        lines.addLayout(form([("Across a target, mm", self._across)]))
        lines.addLayout(row(self._ask, self._off))
        lines.addWidget(self._words)
        self._tell()

    @property
    def places(self) -> Floats:
        """Where the capture found targets."""
        capture = self._desk.session.derived.job.capture
        return np.array([target.place for target in capture.targets] if capture is not None else []).reshape(-1, 3)

    def show_scan(self, scan: TriangleMesh | None, placement: RigidTransform) -> None:
        """Another scan is chosen, or the same lies elsewhere: what was found of another one is not this one's."""
        self._placement = placement
        if scan is self._scan:
            return
        self._scan, self.found, self._captured = scan, None, np.zeros((0, 3))
        plan = self._desk.session.derived.job.plan
        self._across.set_value(float(plan.diameter) if plan is not None and plan.diameter else USUAL)
        self._tell()

    def show_captured(self, places: Floats) -> None:
        """The targets of the capture that lie on the scan, (K, 3)."""
        self._captured = places
        self._tell()

    def look(self) -> None:
        """Look for discs, away from the interface."""
        scan, across = self._scan, self._across.value
        if scan is None:
            return
        self._desk.session.compute(lambda progress: (scan, find_discs(scan, across, progress)), self._found)

    def _found(self, answer: tuple[TriangleMesh, Discs]) -> None:
        scan, found = answer
        if scan is not self._scan:
            return
        self.found = found
        self._tell()
        self._dress()
        self._desk.view.redraw()

    def take(self) -> None:
        """Take off what the capture found, and what was found by shape: as wide as was looked for, whatever is typed by now."""
        by_shape = self._has_found
        if not by_shape and not len(self._captured):
            return
        across = self.found.diameter if by_shape and self.found is not None else self._across.value
        if not NARROWEST <= across <= WIDEST:
            self._desk.tell(
                f"a target of {across:g} mm is none", "targets", "Give the diameter of the whole disc in mm"
            )
            return
        places = tuple((float(x), float(y), float(z)) for x, y, z in self._captured)
        self._work(TargetsOff(places=places, by_shape=by_shape, diameter=across))

    @property
    def _has_found(self) -> bool:
        return self.found is not None and bool(self.found.found)

    def _tell(self) -> None:
        self._ask.setEnabled(self._scan is not None)
        self._off.setVisible(self._has_found or bool(len(self._captured)))
        self._words.setText("" if self.found is None else discs_words(self.found))
        self._words.setVisible(self.found is not None)

    def take_off(self) -> None:
        """Take the rings off the stage."""
        self._desk.view.put(LAYER, None)

    def dress(self) -> None:
        """A ring about each disc that was found."""
        found = self.found.found if self.found is not None else ()
        rings = segments(np.concatenate([_ring(disc) for disc in found])) if found else None
        self._desk.view.put(LAYER, rings, self._placement)


def lie_on(mesh: TriangleMesh, places: Floats) -> bool:
    """Whether the half of some places (K, 3) lies on a surface: those that the capture found on this part."""
    return bool(len(places)) and bool((mesh.tree.query(places, limit=ON).found).mean() > 0.5)


def _ring(disc: Disc) -> Floats:
    """Segments (N, 2, 3) round a disc, a little above it."""
    across, along, out = orthonormal_frame(disc.facing)
    turn = np.linspace(0, 2 * np.pi, CORNERS + 1)[:, None]
    radius = disc.diameter / 2
    places = disc.place + radius * (np.cos(turn) * across + np.sin(turn) * along) + 0.05 * radius * out
    return np.stack([places[:-1], places[1:]], axis=1)
