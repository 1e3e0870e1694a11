"""The card of a feature, how far its region may reach, and to what it is held."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from PyQt6.QtWidgets import QWidget

from juxtum.associate.construct import direction_of
from juxtum.desk.widgets import Choice, Facts, LengthField, button, column, form, label, row
from juxtum.evaluate.features import TakenFeature
from juxtum.guide.features import card_lines
from juxtum.job.steps import ConstructStep, FeatureStep
from juxtum.job.steps.features import AXES
from juxtum.wording import sentence

FREE = ""
HELD = ("along", "across")


class FeatureCard(QWidget):
    """Shows one feature and has it tuned.

    Parameters
    ----------
    change : callable
        Takes what of its step becomes other.
    coloured : callable
        Told when the map of its residuals is asked for, or no more.
    """

    def __init__(self, change: Callable[[dict[str, object]], None], coloured: Callable[[], None]) -> None:
        super().__init__()
        self._change = change
        self._now: TakenFeature | None = None
        lines = column(self, 8)
        self._facts = Facts("Feature")
        lines.addWidget(self._facts)
        self._notes = label("", "soft", wrap=True)
        self._notes.setAccessibleName("About the feature")
        lines.addWidget(self._notes)
        self.residuals = button(
            "Show how far off", coloured, tip="Colours by the distance from the feature, in place of the map"
        )
        self.residuals.setCheckable(True)
        lines.addLayout(row(self.residuals))
        self._held = Choice("Held")
        self._held.setToolTip("Free, or its axis or normal along or across another feature or an axis of the part")
        self._held.picked.connect(self.hold)
        self._held_row = QWidget()
        column(self._held_row, 0).addLayout(form([("Held", self._held)]))
        lines.addWidget(self._held_row)
        self._tolerance = LengthField(
            "Grow within", 0.0, "How far points may lie off the feature, mm; the region follows"
        )
        self._tolerance.missing = "as rough"
        self._tolerance.chosen.connect(lambda value: self._change({"tolerance": value if value > 0 else None}))
        self._tune_row = QWidget()
        inside = column(self._tune_row, 0)
        inside.addLayout(form([("Grow within, mm", self._tolerance)]))
        inside.addLayout(row(button("Narrower", lambda: self._scale(0.8)), button("Wider", lambda: self._scale(1.25))))
        lines.addWidget(self._tune_row)

    def show_feature(
        self, now: TakenFeature | None, step: FeatureStep | ConstructStep | None, earlier: tuple[TakenFeature, ...]
    ) -> None:
        """Show a feature, its step, and those that stand before it."""
        self._now = now
        made = None if now is None else now.measured
        self._facts.setVisible(now is not None)
        self._facts.show_facts([] if now is None else card_lines(now))
        self._notes.setText(" ".join(sentence(note) for note in made.notes) if made is not None else "")
        self._notes.setVisible(bool(self._notes.text()))
        measured = step if isinstance(step, FeatureStep) else None
        self._tune_row.setVisible(measured is not None and measured.seed is not None)
        self._held_row.setVisible(measured is not None and made is not None and made.kind in ("plane", "cylinder"))
        self.residuals.setVisible(made is not None and len(made.rows) > 0)
        if measured is not None:
            self._tolerance.set_value(measured.tolerance)
            self._show_held(measured, earlier)

    def _show_held(self, step: FeatureStep, earlier: tuple[TakenFeature, ...]) -> None:
        """To what it can be held: the axes of the part, and features that stand earlier and have a direction."""
        aimed = [t.label for t in earlier if t.measured is not None and direction_of(t.measured.feature) is not None]
        options = [(f"{held} {to}", f"{held} {to}") for to in (*AXES, *aimed) for held in HELD]
        self._held.show_options([(FREE, "free"), *options], f"{step.held} {step.to}" if step.held else FREE)

    def hold(self, choice: str) -> None:
        """Hold it along or across something, such as "along F1"; free it with nothing."""
        held, _, to = choice.partition(" ")
        self._change({"held": held or None, "to": to or None})

    def _scale(self, factor: float) -> None:
        made = None if self._now is None else self._now.measured
        if made is not None and np.isfinite(made.tolerance):
            self._change({"tolerance": float(f"{min(made.tolerance * factor, 10.0):.3g}")})
