"""What the Help menu does, and the clipboard."""

from __future__ import annotations

from html import escape
from typing import TYPE_CHECKING

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QGuiApplication

from juxtum.desk.method import Page, about_text, keys_text, method_text
from juxtum.log import log_file

if TYPE_CHECKING:
    from juxtum.desk.window import MainWindow


class Help:
    """Pages of help about one window."""

    def __init__(self, window: MainWindow) -> None:
        self._window = window

    def start_first_steps(self) -> None:
        """Walk a newcomer through the stations."""
        self._window.guide.start()

    def show_method(self) -> None:
        """Formulas and references of the station where the user is."""
        self._show("Method", method_text(self._window.station.key))

    def show_keys(self) -> None:
        """All keys."""
        self._show("Keys", keys_text())

    def show_about(self) -> None:
        """Version and licences."""
        self._show("About Juxtum", about_text())

    def show_log(self) -> None:
        """The last part of the log file."""
        path = log_file()
        text = path.read_text("utf-8", "replace")[-20_000:] if path.exists() else "The log is empty."
        self._show("Log", f"<p>{escape(str(path))}</p><pre>{escape(text)}</pre>")

    def _show(self, title: str, html: str) -> None:
        page = Page(self._window, title, html)
        page.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        page.show()

    def copy_ledger(self) -> None:
        """To the clipboard, for a spreadsheet."""
        clipboard = QGuiApplication.clipboard()
        if clipboard is not None:
            clipboard.setText(self._window.ledger.as_text())
            self._window.announce("The ledger is on the clipboard")
