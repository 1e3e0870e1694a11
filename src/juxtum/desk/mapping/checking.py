"""The budget of the chosen line checked by simulation."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PyQt6.QtWidgets import QWidget

from juxtum.desk.widgets import button, column, label
from juxtum.evaluate import LineResult
from juxtum.evaluate.simulated import Simulated
from juxtum.guide.simulated import simulated_words
from juxtum.job.sources import simulated
from juxtum.progress import Progress

if TYPE_CHECKING:
    from juxtum.desk.desk import Desk

KEPT = 40
"""So many sentences are remembered."""
TIP = "Draws a hundred scans as this one could have been, and measures each of them"


class CheckPanel(QWidget):
    """A button that draws the chosen line again and again, and what came of it; kept until the result changes.

    Parameters
    ----------
    desk : Desk
    """

    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self._desk = desk
        self._line: LineResult | None = None
        self._asked: list[LineResult] = []
        self._said: list[tuple[LineResult, str]] = []
        lines = column(self, 4)
        self._words = label("", "soft", wrap=True)
        self._words.setAccessibleName("Checked by simulation")
        self._check = button("Check by simulation", self.check, tip=TIP)
        lines.addWidget(self._words)
        lines.addWidget(self._check)

    def show_line(self, result: LineResult | None) -> None:
        """Another line is chosen, or the job has changed."""
        self._line = result
        self._show()

    def check(self) -> None:
        """Draw the chosen line again and again."""
        session, result = self._desk.session, self._line
        if result is None or result in self._asked:
            return
        job = session.derived.job
        number = next(k for k, c in enumerate(job.procedure.characteristics) if c.id == result.line.id)
        name = job.procedure.decide.alignment
        self._asked.append(result)
        self._show()

        def work(progress: Progress) -> Simulated:
            found: Simulated = session.runner.outcome(job, simulated(name, number), progress)
            return found

        def said(found: Simulated) -> None:
            self._asked.remove(result)
            self._said = [*self._said[-KEPT:], (result, simulated_words(found))]
            self._show()

        def failed(problem: Exception) -> None:
            self._asked.remove(result)
            session.tell_failure(problem)

        session.workbench.ask(work, said, failed)

    def _show(self) -> None:
        result = self._line
        self.setVisible(result is not None and result.points > 0)
        if result is None:
            return
        words = next((said for one, said in self._said if one is result), "")
        is_asked = result in self._asked
        self._words.setText("Drawing scans\u2026" if is_asked else words)
        self._words.setVisible(bool(self._words.text()))
        self._check.setEnabled(not is_asked and not words)
