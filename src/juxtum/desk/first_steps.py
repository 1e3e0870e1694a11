"""Help > First steps: a small card that walks a newcomer through the stations on the demo job."""

from __future__ import annotations

from dataclasses import dataclass

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtGui import QHideEvent
from PyQt6.QtWidgets import QFrame, QHBoxLayout, QVBoxLayout

from juxtum.desk.derived import Derived
from juxtum.desk.stage_fit import FittingView
from juxtum.desk.widgets import button, label
from juxtum.guide.facts import loose_pieces
from juxtum.guide.findings import Key


@dataclass(frozen=True)
class Lesson:
    """One step: where, what to do, and the action that does it for you."""

    key: Key
    title: str
    text: str
    action: str = ""


LESSONS = (
    Lesson(
        Key.BRIEF,
        "What is asked",
        "The nominal from CAD and eight profiles from the drawing are here. Turn the part with the left mouse button.",
    ),
    Lesson(
        Key.PLAN,
        "Before anyone touches the part",
        "Is the scanner good enough, where do targets go, what will not be seen? Plan the targets; drag one about.",
        "plan targets",
    ),
    Lesson(
        Key.READY,
        "Ready?",
        "Surface, temperature, calibration, checks: go through the list. Let the calibration run by itself.",
    ),
    Lesson(
        Key.CAPTURE,
        "Scan with a stand-in",
        "Connect the scanner, then hold it with the pointer, or let the plan run. F11 shows the floor view.",
    ),
    Lesson(Key.ASSEMBLE, "Cut the table off", "The scan still stands on its table. Trim it off.", "trim table"),
    Lesson(
        Key.ASSEMBLE,
        "Remove loose fragments",
        "Reflections left pieces in the air. Keep the largest piece.",
        "drop pieces",
    ),
    Lesson(
        Key.ALIGN,
        "Into part coordinates",
        "The pose is found from the shape, then fitted to the whole surface.",
        "align automatically",
    ),
    Lesson(
        Key.MEASURE,
        "Where is it proud, where shy?",
        "Ochre to rust is proud, teal is shy. Pin a reading at the worst place, or click (P) anywhere.",
        "pin worst",
    ),
    Lesson(
        Key.MEASURE,
        "What the drawing asks for",
        "Sizes, places, forms, each with its own datums: 28 lines. Choose one in the ledger to see how its number came to be. "
        "Undo brings the profiles back. For several scans of one part: File > Demo jobs > Open the demo in pieces.",
        "demo drawing",
    ),
    Lesson(Key.REPORT, "Hand it over", "PDF, tables and the coloured scan go into one folder.", "write report"),
)


def is_done(lesson: Lesson, d: Derived) -> bool:
    """Whether a job already is where a lesson leads."""
    checks = {
        "plan targets": d.job.plan is not None and d.job.plan.is_tracked,
        "trim table": d.scan is not None and d.table is None,
        "drop pieces": d.scan is not None and d.table is None and loose_pieces(d) == 0,
        "align automatically": d.evaluation is not None,
        "pin worst": d.evaluation is not None and len(d.evaluation.readings) > 0,
    }
    return checks.get(lesson.action, False)


class FirstSteps(QFrame):
    """The card."""

    station_wanted = pyqtSignal(object)
    action_wanted = pyqtSignal(str)

    def __init__(self, parent: FittingView) -> None:
        super().__init__(parent)
        self._stage = parent
        self.setObjectName("notice")
        self.setProperty("kind", "news")
        self.setAccessibleName("First steps")
        self._index = 0
        layout = QVBoxLayout(self)
        layout.setContentsMargins(14, 10, 14, 10)
        layout.setSpacing(4)
        self._title, self._text = label("", "heading"), label("", "soft", wrap=True)
        layout.addWidget(self._title)
        layout.addWidget(self._text)
        buttons = QHBoxLayout()
        self._do = button("Do it", self._perform, "primary")
        self._do.setAccessibleName("Do this step")
        self._next = button("Next", lambda: self.show_lesson(self._index + 1))
        self._next.setAccessibleName("Next step")
        buttons.addWidget(self._do)
        buttons.addWidget(self._next)
        buttons.addStretch(1)
        buttons.addWidget(button("End", self.hide, "plain"))
        layout.addLayout(buttons)
        self.setFixedWidth(330)
        self.hide()

    @property
    def title(self) -> str:
        """As read."""
        return self._title.text()

    def start(self) -> None:
        """From the beginning."""
        self.show()
        self.show_lesson(0)

    def show_lesson(self, index: int) -> None:
        """One lesson; after the last one the card goes."""
        if index >= len(LESSONS):
            self.hide()
            return
        self._tell(index)
        self.station_wanted.emit(LESSONS[index].key)

    def follow(self, key: Key) -> None:
        """The user went to a station: what is to be done there comes next."""
        if self.isVisible() and LESSONS[self._index].key is not key:
            there = [index for index, lesson in enumerate(LESSONS) if lesson.key is key]
            if there:
                self._tell(there[0])

    def _tell(self, index: int) -> None:
        self._index = index
        lesson = LESSONS[index]
        self._title.setText(f"{index + 1} of {len(LESSONS)}   {lesson.title}")
        self._text.setText(lesson.text)
        self._do.setVisible(bool(lesson.action))
        self.place()

    def _perform(self) -> None:
        self.action_wanted.emit(LESSONS[self._index].action)

    def job_changed(self, d: Derived) -> None:
        """Go on by itself when the job is where the lesson leads."""
        if self.isVisible() and is_done(LESSONS[self._index], d):
            self.show_lesson(self._index + 1)

    def place(self) -> None:
        """Lower left on the stage, clear of the scale bar; the part is shown above it."""
        if self.isVisible():
            self.adjustSize()
            self.move(14, self._stage.height() - self.height() - 44)
            self.raise_()
            self._keep_clear(self.height() + 44.0)

    def hideEvent(self, event: QHideEvent | None) -> None:
        """The part may have the whole stage again."""
        super().hideEvent(event)
        self._keep_clear(0.0)

    def _keep_clear(self, height: float) -> None:
        if abs(self._stage.bottom_cover - height) > 1:
            self._stage.bottom_cover = height
            self._stage.fit()
