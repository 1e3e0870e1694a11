"""What the panels of Plan have in common."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PyQt6.QtWidgets import QWidget

from juxtum.desk.planning.rows import facts_of
from juxtum.desk.planning.topics import Answer
from juxtum.desk.widgets import Facts, column, label
from juxtum.plan.planner import Planner

if TYPE_CHECKING:
    from juxtum.desk.stations.plan import PlanStation


class Panel(QWidget):
    """One topic: its facts, its controls, its words.

    Parameters
    ----------
    station : PlanStation
        Takes changes of the plan.
    """

    def __init__(self, station: PlanStation) -> None:
        super().__init__()
        self.station = station
        self.body = column(self, 9)
        self.facts = Facts("Plan facts")
        self.facts.hide()
        self.words = label("", "soft", wrap=True)
        self.words.setAccessibleName("Plan words")
        self.body.addWidget(self.facts)
        self.build()
        self.body.addWidget(self.words)
        self.body.addStretch(1)

    def build(self) -> None:
        """Add the topic's own controls."""

    def show_plan(self, planner: Planner) -> None:
        """Show the choices as they are."""

    def show_answer(self, planner: Planner, made: Answer) -> None:
        """Show what was computed."""
        self.facts.show_facts(facts_of(made, planner))
        self.words.setText(self.sentences(planner, made))

    def sentences(self, planner: Planner, made: Answer) -> str:
        """Anything to be said besides the facts."""
        return ""

    def change(self, title: str, **update: object) -> None:
        """Change the plan."""
        self.station.change(title, update)
