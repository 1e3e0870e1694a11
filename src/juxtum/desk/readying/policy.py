"""What is asked of the instrument before verdicts are given, and who overrode it."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PyQt6.QtWidgets import QLineEdit, QWidget

from juxtum.desk.widgets import column, combo, form, label
from juxtum.errors import JuxtumError
from juxtum.job.readiness import Policy, Readiness

if TYPE_CHECKING:
    from juxtum.desk.stations.ready import ReadyStation


class PolicyPanel(QWidget):
    """The policy, the note that overrides it, and how it stands.

    Parameters
    ----------
    station : ReadyStation
        Where it stands: gives the job, its planner and the logbook.
    """

    def __init__(self, station: ReadyStation) -> None:
        super().__init__()
        self._station = station
        lines = column(self)
        lines.addWidget(label("Before verdicts are given", "heading"))
        self._policy = combo("Policy")
        for policy in Policy:
            self._policy.addItem(policy.value, policy)
        self._policy.activated.connect(lambda _: self._choose_policy())
        self._note = QLineEdit()
        self._note.setAccessibleName("Override note")
        self._note.setPlaceholderText("the reason")
        self._note.editingFinished.connect(self._choose_policy)
        self._by = QLineEdit()
        self._by.setAccessibleName("Override by")
        self._by.setPlaceholderText("who takes responsibility")
        self._by.editingFinished.connect(self._choose_policy)
        lines.addLayout(
            form([("Instrument", self._policy), ("Override, because", self._note), ("Overridden by", self._by)])
        )
        self._policy_words = label("", "soft", wrap=True)
        self._policy_words.setAccessibleName("Policy in words")
        lines.addWidget(self._policy_words)

    def show_job(self) -> None:
        """Policy and note as the job has them; what is being typed stays."""
        ready = self._station.derived.job.readiness
        self._policy.setCurrentIndex(list(Policy).index(ready.policy))
        if not self._note.hasFocus():
            self._note.setText(ready.note)
        if not self._by.hasFocus():
            self._by.setText(ready.by)
        words = ready.reason or "nothing is asked of the instrument"
        if ready.objection:
            lacks = "a name to the reason" if ready.note else "a reason to the name" if ready.by else ""
            words = f"not met: {words}. Verdicts are 'not decided' until it is, or somebody overrides it"
            words += f": add {lacks}" if lacks else ""
        elif not ready.is_met:
            words = f"not met: {words}; overridden, and the report says so"
        self._policy_words.setText(words[:1].upper() + words[1:] + ".")

    def _choose_policy(self) -> None:
        self.look_again(Policy(self._policy.currentData()), (self._note.text().strip(), self._by.text().strip()))

    def look_again(self, policy: Policy | None = None, override: tuple[str, str] | None = None) -> None:
        """Hold the policy against the logbook and keep the answer in the job; an override has its reason and its name."""
        book, instrument, now = (
            self._station.desk.shop.book,
            self._station.instrument(),
            self._station.derived.job.readiness,
        )
        if book is None or instrument is None:
            return
        try:
            note, by = (now.note, now.by) if override is None else override
            made = book.readiness(policy or now.policy, instrument).model_copy(update={"note": note, "by": by})
        except JuxtumError as problem:
            self._station.session.failed.emit(problem)
            return
        made = Readiness.model_validate(made.model_dump())
        if made != now:
            self._station.session.edit(
                f"instrument: {made.policy}", lambda job: job.model_copy(update={"readiness": made})
            )
        else:
            self._station.show_results()
