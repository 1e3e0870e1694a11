"""One place for failures and news: a sentence over the stage, never a dialog, never a trace."""

from __future__ import annotations

import logging

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QFrame, QHBoxLayout, QWidget

from juxtum.desk.timers import timer
from juxtum.desk.widgets import button, label
from juxtum.errors import JuxtumError

NEWS_MS = 6000


class Notice(QFrame):
    """A sentence with a way to close it, and to the log when something unexpected happened."""

    log_wanted = pyqtSignal()

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self.setObjectName("notice")
        self.setAccessibleName("Notice")
        layout = QHBoxLayout(self)
        layout.setContentsMargins(14, 8, 8, 8)
        self._text = label("", "", wrap=True)
        # Texts of devices and names of files come from outside: nothing in them is markup.
        self._text.setTextFormat(Qt.TextFormat.PlainText)
        self._text.setAccessibleName("Notice text")
        layout.addWidget(self._text, 1)
        self._log = button("Show log", self.log_wanted.emit, "plain")
        layout.addWidget(self._log)
        layout.addWidget(button("Close", self.hide, "plain"))
        self._timer = timer(self, NEWS_MS, self.hide, once=True)
        self.hide()

    @property
    def text(self) -> str:
        """What it says, as read."""
        return self._text.text() if self.isVisible() else ""

    def tell_failure(self, problem: Exception) -> None:
        """Say an expected failure's sentence; for others one sentence and the way to the log."""
        expected = isinstance(problem, JuxtumError)
        if isinstance(problem, JuxtumError):
            words = problem.sentence
        elif isinstance(problem, MemoryError):
            words = "There is not enough memory for this. Thin the scan, or close other programs."
        else:
            logging.getLogger("juxtum").error("unexpected failure", exc_info=problem)
            words = "Something unexpected went wrong; the job is as it was. The log has the details."
        self._show(words, "failure")
        self._log.setVisible(not expected)

    def tell_news(self, words: str) -> None:
        """Say something good for a while."""
        self._show(words, "news")
        self._log.hide()
        self._timer.start()

    def _show(self, words: str, kind: str) -> None:
        self._timer.stop()
        self.setProperty("kind", kind)
        style = self.style()
        if style is not None:
            style.unpolish(self)
            style.polish(self)
        self._text.setText(words[:1].upper() + words[1:])
        self.place()
        self.show()
        self.raise_()

    def place(self) -> None:
        """Over the lower part of the stage."""
        parent = self.parentWidget()
        if parent is not None:
            width = min(parent.width() - 40, 620)
            self.setFixedWidth(max(width, 200))
            self.adjustSize()
            self.move((parent.width() - self.width()) // 2, parent.height() - self.height() - 44)
