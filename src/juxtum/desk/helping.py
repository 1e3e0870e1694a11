"""What the Help menu does, and the clipboard."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from html import escape

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QWidget

from juxtum.desk.action import Action
from juxtum.desk.method import Page, about_text, keys_text, method_text
from juxtum.guide.findings import Key
from juxtum.log import log_file


class Help:
    """Pages of help.

    Parameters
    ----------
    parent : QWidget
        Over which the pages lie.
    where : callable
        The station where the user is.
    known : callable
        All actions there are.
    """

    def __init__(self, parent: QWidget, where: Callable[[], Key], known: Callable[[], Sequence[Action]]) -> None:
        self._parent, self._where, self._known = parent, where, known

    def own_actions(self) -> tuple[Action, ...]:
        """Pages of help."""
        return (
            Action(
                "method",
                "Method",
                "Help/2",
                self.show_method,
                "Shift+F1",
                "info",
                "Formula and reference of the numbers on this page",
            ),
            Action("keys", "Keys", "Help/2", self.show_keys, "", "keyboard"),
            Action("log", "Show log", "Help/3", self.show_log, "", "scroll-text"),
            Action("about", "About Juxtum", "Help/4", self.show_about, "", "info"),
        )

    def show_method(self) -> None:
        """Formulas and references of the station where the user is."""
        self._show("Method", method_text(self._where()))

    def show_keys(self) -> None:
        """All keys."""
        self._show("Keys", keys_text(self._known()))

    def show_about(self) -> None:
        """Version and licences."""
        self._show("About Juxtum", about_text())

    def show_log(self) -> None:
        """The last part of the log file."""
        path = log_file()
        text = path.read_text("utf-8", "replace")[-20_000:] if path.exists() else "The log is empty."
        self._show("Log", f"<p>{escape(str(path))}</p><pre>{escape(text)}</pre>")

    def _show(self, title: str, html: str) -> None:
        page = Page(self._parent, title, html)
        page.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        page.show()
