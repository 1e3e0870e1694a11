"""Making a feature of others that are chosen in the list."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtWidgets import QWidget

from juxtum.desk.widgets import Choice, LengthField, button, column, label, row
from juxtum.job import Job
from juxtum.job.steps import ConstructStep

WAYS = [
    ("between", "distance and angle"), ("meet", "where they meet"), ("middle", "midway between them"), ("line", "a line through them"),
    ("plane", "a plane through them"), ("circle", "a circle through them"), ("onto", "the first brought onto the second"),
    ("offset", "a plane moved by"),
]  # fmt: skip


class MakePanel(QWidget):
    """Which feature is made of those that are chosen.

    Parameters
    ----------
    make : callable
        Takes the words for undo and the change of the job.
    chosen : callable
        Gives the labels that are chosen, in their order.
    """

    def __init__(
        self, make: Callable[[str, Callable[[Job], Job]], None], chosen: Callable[[], tuple[str, ...]]
    ) -> None:
        super().__init__()
        self._make, self._chosen = make, chosen
        lines = column(self, 6)
        self._way = Choice("Make of them")
        self._way.show_options(WAYS, "between")
        self._way.picked.connect(lambda _: self.show_choice())
        self._amount = LengthField("Moved by", 5.0, "mm along the normal")
        self._button = button("Make it", self.make, tip="Of the features that are chosen in the list, in their order")
        lines.addLayout(row(self._way, self._amount))
        self._words = label("", "soft", wrap=True)
        self._words.setAccessibleName("What is made of")
        lines.addWidget(self._words)
        lines.addLayout(row(self._button))
        self.show_choice()

    def show_choice(self) -> None:
        """Show what would be made."""
        way, names = str(self._way.currentData()), self._chosen()
        self._amount.setVisible(way == "offset")
        enough = len(names) == 1 if way == "offset" else len(names) >= 2
        self._button.setEnabled(enough)
        hint = "Choose one plane in the list." if way == "offset" else "Choose two or more in the list, with Ctrl held."
        self._words.setText(f"Of {', '.join(names)}." if enough else hint)

    def make(self) -> None:
        """Make it."""
        way, names, amount = str(self._way.currentData()), self._chosen(), self._amount.value
        if names:
            self._make(f"make a feature of {', '.join(names)}", lambda job: with_made(job, way, names, amount))


def free_label(job: Job) -> str:
    """The first label that no feature has."""
    used = {step.label for step in job.procedure.features}
    return next(f"F{k}" for k in range(1, len(used) + 2) if f"F{k}" not in used)


def with_made(job: Job, way: str, of: tuple[str, ...], amount: float) -> Job:
    """A job with a feature made of others."""
    made = {"label": free_label(job), "way": way, "of": of, "amount": amount if way == "offset" else 0.0}
    return job.with_step(ConstructStep.model_validate(made))
