"""The go/no-go list: ticks for what people do, marks for what follows from plan and logbook."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from PyQt6.QtWidgets import QCheckBox, QLabel, QWidget

from juxtum.desk.widgets import column, label
from juxtum.logbook.go_list import GoItem, Standing, is_go


class GoPanel(QWidget):
    """One line an item.

    Parameters
    ----------
    ticked : callable
        Told the key of an item and whether it is done now.
    """

    def __init__(self, ticked: Callable[[str, bool], None]) -> None:
        super().__init__()
        self.setAccessibleName("Go list")
        self._ticked = ticked
        self._lines = column(self, 3)
        self._head = label("", "title", wrap=True)
        self._head.setAccessibleName("Ready or not")
        self._lines.addWidget(self._head)
        self._shown: tuple[GoItem, ...] = ()
        self._widgets: list[QWidget] = []

    @property
    def items(self) -> tuple[GoItem, ...]:
        """What is shown."""
        return self._shown

    def show_items(self, items: Sequence[GoItem]) -> None:
        """Show other items."""
        missing = sum(not item.is_done for item in items)
        self._head.setText("Ready" if is_go(items) else f"Not ready: {missing} item{'s' if missing > 1 else ''} open")
        if tuple(items) == self._shown:
            return
        self._shown = tuple(items)
        for widget in self._widgets:
            self._lines.removeWidget(widget)
            widget.deleteLater()
        self._widgets = []
        for item in items:
            self._add(item)

    def _add(self, item: GoItem) -> None:
        words = f"{item.title}" + (f": {item.words}" if item.words else "")
        if item.key:
            box = QCheckBox(item.title)
            box.setAccessibleName(item.title)
            box.setToolTip(item.words)
            box.setChecked(item.standing is Standing.DONE)
            box.toggled.connect(lambda on, key=item.key: self._ticked(key, on))
            self._lines.addWidget(box)
            self._widgets.append(box)
            if item.words:
                self._put(label(item.words, "soft", wrap=True), indent=22)
        else:
            mark = "\u2713" if item.is_done else "\u25cb"
            made = label(f"{mark}  {words}", "", wrap=True)
            made.setAccessibleName(item.title)
            self._put(made)

    def _put(self, made: QLabel, indent: int = 0) -> None:
        made.setContentsMargins(indent, 0, 0, 0)
        self._lines.addWidget(made)
        self._widgets.append(made)
