"""Menus and shortcuts, made from the list of actions."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PyQt6.QtGui import QAction, QKeySequence
from PyQt6.QtWidgets import QMenu

from juxtum.desk.actions import ACTIONS, MENUS, Action
from juxtum.desk.style import icon

if TYPE_CHECKING:
    from juxtum.desk.window import MainWindow


def tip(name: str) -> str:
    """Key and one plain sentence about an action."""
    item = next(a for a in ACTIONS if a.id == name)
    words = item.tip or item.title
    return f"{words} ({item.key})" if item.key else words


class Menus:
    """The window's menus; keeps them true to what makes sense now."""

    def __init__(self, window: MainWindow) -> None:
        self._window = window
        self.actions: dict[str, QAction] = {}
        self.recent = QMenu("Recent jobs", window)
        bar = window.menuBar()
        assert bar is not None
        for name in MENUS:
            menu = bar.addMenu(name)
            assert menu is not None
            self._fill(menu, name)
            menu.aboutToShow.connect(self.enable)

    def _fill(self, menu: QMenu, name: str) -> None:
        """Groups are parted by lines; an action's place may name a menu within the menu."""
        within: dict[str, QMenu] = {}
        groups: dict[str, str] = {}
        for item in (a for a in ACTIONS if a.menu.startswith(f"{name}/")):
            inner, group = item.menu.rpartition("/")[::2]
            target = menu if inner == name else within.get(inner)
            if target is None:
                if not within:
                    menu.addSeparator()
                target = within[inner] = self._added(menu, inner.removeprefix(f"{name}/"))
            if groups.get(inner, group) != group:
                target.addSeparator()
            groups[inner] = group
            target.addAction(self._action(item))
            if item.id == "open demo":
                target.addMenu(self.recent)

    def _added(self, menu: QMenu, title: str) -> QMenu:
        made = menu.addMenu(title)
        assert made is not None
        made.aboutToShow.connect(self.enable)
        return made

    def _action(self, item: Action) -> QAction:
        window = self._window
        made = QAction(item.title, window)
        if item.key:
            made.setShortcut(QKeySequence(item.key))
        if item.icon:
            made.setIcon(icon(item.icon, "ink_soft"))
        made.setCheckable(item.checked is not None)
        made.setToolTip(tip(item.id))
        made.triggered.connect(lambda: window.perform(item.id))
        self.actions[item.id] = made
        window.addAction(made)
        return made

    def enable(self) -> None:
        """Grey out what makes no sense now; name what undo and redo would do."""
        for item in ACTIONS:
            made = self.actions[item.id]
            made.setEnabled(item.enabled(self._window))
            if item.checked is not None:
                made.setChecked(item.checked(self._window))
        history = self._window.session.timeline
        self.actions["undo"].setText(f"Undo: {history.undo_label}" if history.undo_label else "Undo")
        self.actions["redo"].setText(f"Redo: {history.redo_label}" if history.redo_label else "Redo")

    def fill_recent(self) -> None:
        """The jobs opened or saved lately."""
        self.recent.clear()
        for path in self._window.session.recent:
            self.recent.addAction(path.name, lambda p=path: self._window.session.open(p))
        aside = self._window.session.recovery.aside()
        if aside:
            self.recent.addSeparator()
        for found in aside:
            self.recent.addAction(f"{found.job.title}, not saved", lambda f=found: self._window.session.recover(f))
        self.recent.setEnabled(not self.recent.isEmpty())

    def recolour(self) -> None:
        """Icons in the colours of the look in force."""
        for item in ACTIONS:
            if item.icon:
                self.actions[item.id].setIcon(icon(item.icon, "ink_soft"))
