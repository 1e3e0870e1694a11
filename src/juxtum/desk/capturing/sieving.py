"""What of the points is kept: only looking, clean ones only, nothing below a cut."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtWidgets import QCheckBox, QWidget

from juxtum.capture.live.sieve import Sieve
from juxtum.capture.live.snapshot import Snapshot
from juxtum.desk.widgets import LengthField, column, label, row
from juxtum.guide.facts import thousands

LOWEST = 2.0
"""A usual height for a cut, mm: clear of the table, and of what lies on it."""


class Keeping(QWidget):
    """Three choices that can be made before anything is recorded.

    Parameters
    ----------
    use : callable
        Told the sieve whenever a choice changes.
    """

    def __init__(self, use: Callable[[Sieve], None]) -> None:
        super().__init__()
        self._use = use
        body = column(self)
        self._preview = self._box(
            "Only look, keep nothing", "Only look", "To try poses, light and mode before recording"
        )
        self._clean = self._box(
            "Clean points only",
            "Clean only",
            "Leaves out what is seen too flat or with hardly enough targets; off: complete",
        )
        self._cut = self._box("Keep nothing below, mm", "Cut below", "Above the table; the plane is drawn on the stage")
        self._height = LengthField("Height of the cut", LOWEST, "Above what the part lies on, in each position")
        self._height.chosen.connect(self._changed)
        for box in (self._preview, self._clean):
            body.addWidget(box)
        body.addLayout(row(self._cut, self._height))
        self._told = label("", "soft", wrap=True)
        self._told.setAccessibleName("What is left out")
        body.addWidget(self._told)
        self._height.setEnabled(False)

    def _box(self, words: str, name: str, tip: str) -> QCheckBox:
        box = QCheckBox(words)
        box.setAccessibleName(name)
        box.setToolTip(tip)
        box.toggled.connect(self._changed)
        return box

    @property
    def sieve(self) -> Sieve:
        """As it is chosen."""
        cut = self._height.value if self._cut.isChecked() else None
        return Sieve(self._preview.isChecked(), self._clean.isChecked(), cut)

    def record(self) -> None:
        """Keep what comes from now on."""
        self._preview.setChecked(False)

    def _changed(self, *_: object) -> None:
        self._height.setEnabled(self._cut.isChecked())
        self._use(self.sieve)

    def show_snapshot(self, snapshot: Snapshot) -> None:
        """How many points were left out."""
        self._told.setText(
            "Only looking: nothing is kept." if snapshot.is_preview
            else f"{thousands(snapshot.left_out)} points left out." if snapshot.left_out else ""
        )  # fmt: skip
