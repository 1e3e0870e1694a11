"""Two layers of surface, one over the other: looked for when asked, told place by place, shown as a map of the gap."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

import numpy as np
from PyQt6.QtWidgets import QWidget

from juxtum.assemble.layers import Layers, find_layers
from juxtum.desk.mapping.values import Values, show_values
from juxtum.desk.widgets import button, column, label, row
from juxtum.geometry import RigidTransform, TriangleMesh
from juxtum.scene.palette import MapScale
from juxtum.wording import sentence

if TYPE_CHECKING:
    from juxtum.desk.desk import Desk

LAYER = "gaps"
SAID = 3
"""Patches that are told; the map shows all."""


class LayersBox(QWidget):
    """Looks for double layers in the scan that is chosen.

    Parameters
    ----------
    desk : Desk
    dress : callable
        Puts the station's layers on the stage anew.
    """

    def __init__(self, desk: Desk, dress: Callable[[], None]) -> None:
        super().__init__()
        self._desk, self._dress = desk, dress
        self._scan: TriangleMesh | None = None
        self._placement = RigidTransform.identity()
        self.found: Layers | None = None
        self._words = label("", "soft", wrap=True)
        self._words.setAccessibleName("About double layers")
        self._ask = button("Look for double layers", self.look, tip="Two surfaces one over the other, as after a jump")
        self._show = button("Show the gap", self._toggle, tip="A map of how far the layers are apart")
        self._show.setCheckable(True)
        lines = column(self)
        lines.addLayout(row(self._ask, self._show))
        lines.addWidget(self._words)
        self._tell()

    def show_scan(self, scan: TriangleMesh | None, placement: RigidTransform) -> None:
        """Another scan is chosen, or the same lies elsewhere: what was found of another one is not this one's."""
        self._placement = placement
        if scan is not self._scan:
            self._scan, self.found = scan, None
            self._show.setChecked(False)
            self._tell()

    def look(self) -> None:
        """Look, away from the interface."""
        scan = self._scan
        if scan is None:
            return
        self._desk.session.compute(lambda progress: (scan, find_layers(scan, progress)), self._found)

    def _found(self, answer: tuple[TriangleMesh, Layers]) -> None:
        scan, found = answer
        if scan is self._scan:
            self.found = found
            self._show.setChecked(bool(found.patches))
        self._tell()
        self._toggle()

    def _tell(self) -> None:
        self._ask.setEnabled(self._scan is not None)
        found = self.found
        self._show.setVisible(found is not None and bool(found.patches))
        lines = [] if found is None else [sentence(found.sentence)]
        lines += [] if found is None else [sentence(patch.words) for patch in found.patches[1:SAID]]
        self._words.setText("\n".join(lines))
        self._words.setVisible(bool(lines))

    def _toggle(self) -> None:
        self._dress()
        self._desk.view.redraw()

    def take_off(self) -> None:
        """Take the map off the stage."""
        self._desk.view.put(LAYER, None)

    def dress(self) -> None:
        """The map of the gap in place of the scan, while it is asked for."""
        self.take_off()
        found, scan, view = self.found, self._scan, self._desk.view
        if found is None or scan is None or not found.patches or not self._show.isChecked():
            return
        view.put("scan", None)
        show_values(view, LAYER, Values(scan, found.gaps, self._placement), gap_scale(found), "gap; grey: one layer")


def gap_scale(found: Layers) -> MapScale:
    """Graded from nothing to what nine of ten gaps do not exceed."""
    common = float(np.percentile(found.gaps[np.isfinite(found.gaps)], 90))
    return MapScale(0.1 * common, common, "graded", (0.0, 1.1 * common))
