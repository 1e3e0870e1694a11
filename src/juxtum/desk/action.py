"""A user's action as a datum: menus, palette, shortcuts, tests and the help's list of keys read nothing else."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass
from typing import Protocol

from juxtum.guide.findings import Key

MENUS = ("File", "Edit", "Job", "View", "Tools", "Help")


class Owner(Protocol):
    """Whoever has actions of its own."""

    def own_actions(self) -> tuple[Action, ...]:
        """What can be done with it."""


def always() -> bool:
    """An action that makes sense at any time."""
    return True


@dataclass(frozen=True)
class Action:
    """Something that a user can do; its owner is whoever made it.

    Parameters
    ----------
    menu : str
        Menu it stands in, and after a slash the group within the menu.
    enabled : callable
        Whether it makes sense now.
    checked : callable, optional
        Whether what it switches is on.
    at : Key, optional
        The station where it happens: the desk goes there first.
    ways : tuple of str
        Of that station, those in which it happens: the desk turns to the first unless one of them is shown.
    """

    id: str
    title: str
    menu: str
    run: Callable[[], object]
    key: str = ""
    icon: str = ""
    tip: str = ""
    enabled: Callable[[], bool] = always
    checked: Callable[[], bool] | None = None
    at: Key | None = None
    ways: tuple[str, ...] = ()

    @property
    def tooltip(self) -> str:
        """One plain sentence about it, and its key."""
        words = self.tip or self.title
        return f"{words} ({self.key})" if self.key else words


def in_order(actions: Iterable[Action]) -> tuple[Action, ...]:
    """As they stand in the menus: by menu, inner menus as they come, groups within them by their name."""
    given = list(actions)
    inner = list(dict.fromkeys(a.menu.rpartition("/")[0] for a in given))

    def place(action: Action) -> tuple[int, int, str]:
        within, _, group = action.menu.rpartition("/")
        return MENUS.index(within.split("/")[0]), -1 if "/" not in within else inner.index(within), group

    return tuple(sorted(given, key=place))
