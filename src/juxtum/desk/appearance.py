"""Text scale and look of the whole window."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtWidgets import QApplication

from juxtum.desk import style
from juxtum.desk.action import Action
from juxtum.desk.style import THEME
from juxtum.look import DARK, LIGHT

FLOOR_SCALE = 1.45


class Appearance:
    """Switches sizes and tokens.

    Parameters
    ----------
    changed : callable
        Called when everything has to be drawn anew.
    """

    def __init__(self, changed: Callable[[], None]) -> None:
        self._changed = changed

    def own_actions(self) -> tuple[Action, ...]:
        """Sizes and look."""
        return (
            Action(
                "floor sizes",
                "Floor-readable sizes",
                "View/5",
                self.toggle_sizes,
                "Shift+F11",
                "type",
                "Larger text",
                checked=lambda: self.is_large,
            ),
            Action(
                "dark",
                "Dark look",
                "View/5",
                self.toggle_look,
                "",
                "moon",
                "For dim halls",
                checked=lambda: self.is_dark,
            ),
        )

    @property
    def is_large(self) -> bool:
        """Whether floor-readable sizes are on."""
        return THEME.scale > 1

    @property
    def is_dark(self) -> bool:
        """Whether the dark look is on."""
        return THEME.look is DARK

    def toggle_sizes(self) -> None:
        """Floor-readable sizes, or desk sizes."""
        THEME.scale = 1.0 if self.is_large else FLOOR_SCALE
        self._restyle()

    def toggle_look(self) -> None:
        """Dark or light."""
        THEME.look = LIGHT if self.is_dark else DARK
        self._restyle()

    def _restyle(self) -> None:
        application = QApplication.instance()
        assert isinstance(application, QApplication)
        style.apply(application)
        self._changed()
