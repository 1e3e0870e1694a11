"""The limits of the map, how it is coloured, and its statistics."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PyQt6.QtWidgets import QWidget

from juxtum.desk.widgets import Choice, Facts, LengthField, column, form, label
from juxtum.guide.facts import map_facts
from juxtum.job import Job
from juxtum.job.steps import Measure

if TYPE_CHECKING:
    from juxtum.desk.desk import Desk

COLOURS = [
    ("steps", "in steps beyond the limits"),
    ("graded", "running into each other"),
    ("verdict", "within, above or below"),
    ("above", "only what is above"),
    ("below", "only what is below"),
]
SHOWN = [("mm", "the deviation, mm"), ("share", "its share of the tolerance")]


class LimitsPanel(QWidget):
    """Has the limits and the colours of the map changed.

    Parameters
    ----------
    desk : Desk
    """

    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self._desk = desk
        lines = column(self, 8)
        lines.addWidget(label("Limits of the map", "heading"))
        self._lower, self._upper = LengthField("Map lower limit", -0.2), LengthField("Map upper limit", 0.2)
        self._lower.chosen.connect(lambda v: self.set_limits(v, self._upper.value))
        self._upper.chosen.connect(lambda v: self.set_limits(self._lower.value, v))
        self._search = LengthField("Search distance", 3.0, "Farther from the nominal than this nothing is a deviation")
        self._search.chosen.connect(lambda v: self._change("search distance", limit=min(max(v, 0.01), 1000.0)))
        self._colours = Choice("Colours of the map")
        self._colours.picked.connect(lambda style: self._change("colours of the map", colours=style))
        self._shown = Choice("What the map shows")
        self._shown.setToolTip(
            "Share of the tolerance: 1 is the upper limit of the face's own zone, \u22121 its lower one"
        )
        self._shown.picked.connect(lambda what: self._change("what the map shows", shown=what))
        self._lines = LengthField("Lines every", 0.0, "Lines of the same value at each multiple of this; 0 for none")
        self._lines.missing = "none"
        self._lines.chosen.connect(lambda v: self._change("lines of the map", lines=v if v > 0 else None))
        rows: list[tuple[str, QWidget]] = [
            ("Lower", self._lower),
            ("Upper", self._upper),
            ("Search distance", self._search),
            ("Lines every", self._lines),
        ]
        lines.addLayout(form(rows))
        lines.addLayout(form([("Colours", self._colours), ("Shows", self._shown)]))
        self._nothing = label("No face has a tolerance: there is nothing to show a share of.", "soft", wrap=True)
        lines.addWidget(self._nothing)
        lines.addWidget(label("Statistics, weighted by area", "heading"))
        self._facts = Facts("Statistics")
        lines.addWidget(self._facts)

    def show_job(self) -> None:
        """Show the job as it is now."""
        derived = self._desk.session.derived
        measure = derived.job.procedure.measure
        for field, value in ((self._lower, measure.lower), (self._upper, measure.upper), (self._search, measure.limit)):
            field.set_value(value)
        self._lines.set_value(measure.lines)
        self._colours.show_options(COLOURS, measure.colours)
        self._shown.show_options(SHOWN, measure.shown)
        has_none = not any(c.zone is not None for c in derived.job.procedure.characteristics)
        self._nothing.setVisible(measure.shown == "share" and has_none)
        self._facts.show_facts(map_facts(derived))

    def set_limits(self, lower: float, upper: float) -> None:
        """Other limits for the map."""
        if lower >= upper:
            self._desk.tell("the lower limit is not below the upper limit", "limits of the map", "Choose others")
            self.show_job()
            return
        self._change("limits of the map", lower=lower, upper=upper)

    def _change(self, title: str, **update: object) -> None:
        def change(job: Job) -> Job:
            return job.with_step(Measure.model_validate(job.procedure.measure.model_dump() | update))

        self._desk.session.edit(title, change)
