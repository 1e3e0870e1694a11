"""Menus and shortcuts, made from the list of actions."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtGui import QAction, QKeySequence
from PyQt6.QtWidgets import QMainWindow, QMenu

from juxtum.desk.action import MENUS, Action
from juxtum.desk.session import Session
from juxtum.desk.style import icon


class Menus:
    """The window's menus; keeps them true to what makes sense now.

    Parameters
    ----------
    perform : callable
        Runs an action by its id.
    """

    def __init__(
        self, window: QMainWindow, session: Session, actions: tuple[Action, ...], perform: Callable[[str], None]
    ) -> None:
        self._window, self._session, self._perform = window, session, perform
        self._all = actions
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
        for item in (a for a in self._all if a.menu.startswith(f"{name}/")):
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
        made.setToolTip(item.tooltip)
        made.triggered.connect(lambda: self._perform(item.id))
        self.actions[item.id] = made
        window.addAction(made)
        return made

    def enable(self) -> None:
        """Grey out what makes no sense now; name what undo and redo would do."""
        for item in self._all:
            made = self.actions[item.id]
            made.setEnabled(item.enabled())
            if item.checked is not None:
                made.setChecked(item.checked())
        history = self._session.timeline
        self.actions["undo"].setText(f"Undo: {history.undo_label}" if history.undo_label else "Undo")
        self.actions["redo"].setText(f"Redo: {history.redo_label}" if history.redo_label else "Redo")

    def fill_recent(self) -> None:
        """The jobs opened or saved lately."""
        self.recent.clear()
        for path in self._session.recent.paths:
            self.recent.addAction(path.name, lambda p=path: self._session.open(p))
        aside = self._session.recovery.aside()
        if aside:
            self.recent.addSeparator()
        for found in aside:
            self.recent.addAction(f"{found.job.title}, not saved", lambda f=found: self._session.recover(f))
        self.recent.setEnabled(not self.recent.isEmpty())

    def recolour(self) -> None:
        """Icons in the colours of the look in force."""
        for item in self._all:
            if item.icon:
                self.actions[item.id].setIcon(icon(item.icon, "ink_soft"))
