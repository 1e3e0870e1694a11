"""The command palette: every action, found by a few of its letters."""

from __future__ import annotations

from PyQt6.QtCore import QEvent, QObject, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import QDialog, QLineEdit, QListWidget, QListWidgetItem, QVBoxLayout, QWidget

from juxtum.desk.action import Action
from juxtum.desk.style import icon


def match(query: str, title: str) -> int | None:
    """How badly a title matches: 0 is best, None is not at all. All words must begin somewhere in it.

    Examples
    --------
    >>> match("tr ta", "Trim off the table"), match("xyz", "Trim off the table")
    (0, None)
    """
    words = title.lower().split()
    parts = query.lower().split()
    if all(any(word.startswith(part) for word in words) for part in parts):
        return 0 if not parts or words[0].startswith(parts[0]) else 1
    return 2 if all(part in title.lower() for part in parts) else None


class CommandPalette(QDialog):
    """A field and the actions that match it."""

    chosen = pyqtSignal(str)

    def __init__(self, parent: QWidget, actions: tuple[Action, ...]) -> None:
        super().__init__(parent, Qt.WindowType.FramelessWindowHint | Qt.WindowType.Dialog)
        self.setObjectName("palette")
        self.setAccessibleName("Find an action")
        self.setModal(True)
        self._actions = actions
        layout = QVBoxLayout(self)
        layout.setContentsMargins(8, 8, 8, 8)
        self.field = QLineEdit()
        self.field.setPlaceholderText("What do you want to do?")
        self.field.setAccessibleName("Search actions")
        self.list = QListWidget()
        self.list.setAccessibleName("Actions")
        self.list.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        layout.addWidget(self.field)
        layout.addWidget(self.list)
        self.field.textChanged.connect(self._fill)
        self.field.returnPressed.connect(self._accept)
        self.list.itemClicked.connect(lambda _: self._accept())
        self.field.installEventFilter(self)
        self.resize(520, 380)
        self._fill("")

    def _fill(self, query: str) -> None:
        self.list.clear()
        ranked = [
            (match(query, a.title), k, a) for k, a in enumerate(self._actions) if a.enabled() and a.id != "palette"
        ]
        for _, _, action in sorted((r for r in ranked if r[0] is not None), key=lambda r: (r[0], r[1])):
            item = QListWidgetItem(action.title + (f"     {action.key}" if action.key else ""))
            if action.icon:
                item.setIcon(icon(action.icon, "ink_soft"))
            item.setData(Qt.ItemDataRole.UserRole, action.id)
            self.list.addItem(item)
        self.list.setCurrentRow(0)

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:
        """Up and down move in the list while the field keeps the focus."""
        if isinstance(event, QKeyEvent) and event.type() is QEvent.Type.KeyPress:
            step = {Qt.Key.Key_Down: 1, Qt.Key.Key_Up: -1}.get(Qt.Key(event.key()), 0)
            if step:
                self.list.setCurrentRow(max(0, min(self.list.count() - 1, self.list.currentRow() + step)))
                return True
        return super().eventFilter(watched, event)

    def _accept(self) -> None:
        item = self.list.currentItem()
        if item is not None:
            wanted = str(item.data(Qt.ItemDataRole.UserRole))
            self.accept()
            self.chosen.emit(wanted)
