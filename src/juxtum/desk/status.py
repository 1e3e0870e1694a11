"""The status strip: progress with cancel on the left, what the pointer is on, counts on the right."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QHBoxLayout, QProgressBar, QWidget

from juxtum.desk.derived import Derived
from juxtum.desk.widgets import button, label
from juxtum.guide.facts import thousands
from juxtum.scene.picking import Hit
from juxtum.wording import signed


class StatusStrip(QWidget):
    """One line at the foot of the window."""

    cancel_wanted = pyqtSignal()

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("statusStrip")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        layout = QHBoxLayout(self)
        layout.setContentsMargins(12, 2, 12, 2)
        self._bar = QProgressBar()
        self._bar.setAccessibleName("Progress")
        self._bar.setTextVisible(False)
        self._bar.setRange(0, 1000)
        self._bar.setFixedWidth(150)
        self._phase = label("", "")
        self._phase.setAccessibleName("Phase")
        self._cancel = button("Stop", self.cancel_wanted.emit, "plain", "Stop; the job stays as it was (Ctrl+.)")
        self._text = label("", "")
        self._text.setAccessibleName("Under the pointer")
        self._counts = label("", "")
        for widget in (self._bar, self._phase, self._cancel, self._text):
            layout.addWidget(widget)
        layout.addStretch(1)
        layout.addWidget(self._counts)
        self.setFixedHeight(28)
        self.show_busy(False)

    def show_busy(self, busy: bool) -> None:
        """Progress and cancel only while something runs."""
        for widget in (self._bar, self._phase, self._cancel):
            widget.setVisible(busy)
        self._text.setVisible(not busy)
        if not busy:
            self._bar.setValue(0)
            self._phase.setText("")

    def show_progress(self, phase: str, share: float) -> None:
        """A phase in words and the share done."""
        self._bar.setValue(round(1000 * share))
        self._phase.setText(phase)

    def show_limits(self, low: float, high: float) -> None:
        """Limits of the map while they are dragged."""
        self._text.setText(f"limits of the map {low:+g} and {high:+g} mm".replace("-", "\u2212"))

    @property
    def text(self) -> str:
        """What it says, as read."""
        return self._text.text()

    def show_place(self, hit: Hit | None, d: Derived) -> None:
        """Where the pointer is, and the deviation there."""
        if hit is None:
            self._text.setText("")
        else:
            place = "   ".join(
                f"{letter} {v:.3f}".replace("-", "\u2212") for letter, v in zip("XYZ", hit.place, strict=True)
            )
            name = "nominal" if hit.layer == "ghost" else hit.layer
            self._text.setText(f"{name}:   {place}{self._deviation(hit, d)}")

    def show_counts(self, d: Derived, saved: bool) -> None:
        """How much data there is, and whether it is saved."""
        parts = [f"{thousands(len(d.scan.points))} points"] if d.scan is not None else []
        self._counts.setText("  \u00b7  ".join([*parts, "saved" if saved else "not saved yet"]))

    @staticmethod
    def _deviation(hit: Hit, d: Derived) -> str:
        if hit.layer == "unseen":
            return "   not seen"
        if hit.layer != "map" or d.evaluation is None or (scan := d.measured) is None:
            return ""
        corners = scan.triangles[hit.triangle]
        apart = np.linalg.norm(d.evaluation.deviation.points[corners] - hit.place, axis=1)
        value = float(d.evaluation.deviation.distances[corners[int(np.argmin(apart))]])
        return f"   deviation {signed(value)} mm" if np.isfinite(value) else "   no nominal within the search distance"
