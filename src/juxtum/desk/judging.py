"""Which alignment is in force, and by which rule is decided."""

from __future__ import annotations

from juxtum.desk.action import Action
from juxtum.desk.session import Session
from juxtum.evaluate import DecisionRule


class Judging:
    """Changes what verdicts refer to."""

    def __init__(self, session: Session) -> None:
        self._session = session

    def own_actions(self) -> tuple[Action, ...]:
        """The rule, and the alignment in force."""
        session = self._session
        return (
            Action("toggle rule", "Switch between simple and guarded acceptance", "Job/Measure/2", self.toggle_rule, "", "ruler"),
            Action("next alignment", "Next alignment", "Job/Measure/2", self.next_alignment, "Ctrl+Tab", "git-compare-arrows", "Recolours map and ledger",
                   lambda: len(session.job.procedure.alignments) > 1),
        )  # fmt: skip

    def choose_alignment(self, name: str) -> None:
        """Put another alignment in force; map and ledger follow."""
        decide = self._session.job.procedure.decide
        if name and name != decide.alignment:
            self._session.add(decide.model_copy(update={"alignment": name}), f"alignment {name}")

    def next_alignment(self) -> None:
        """The alignment after the one in force."""
        names = [s.name for s in self._session.job.procedure.alignments]
        now = self._session.derived.in_force
        if names:
            self.choose_alignment(names[(names.index(now) + 1) % len(names)] if now in names else names[0])

    def choose_rule(self, name: str) -> None:
        """Decide by another rule."""
        decide = self._session.job.procedure.decide
        self._session.add(decide.model_copy(update={"rule": DecisionRule(name)}), f"{name} acceptance")

    def toggle_rule(self) -> None:
        """Simple to guarded and back."""
        now = self._session.job.procedure.decide.rule
        self.choose_rule((DecisionRule.SIMPLE if now is DecisionRule.GUARDED else DecisionRule.GUARDED).value)
