"""Text scale and look of the whole window."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PyQt6.QtWidgets import QApplication

from juxtum.desk import style
from juxtum.desk.style import THEME
from juxtum.look import DARK, LIGHT

if TYPE_CHECKING:
    from juxtum.desk.window import MainWindow

FLOOR_SCALE = 1.45
ROOMY = 1600
"""Below this width floor-readable sizes leave only the marks of the route."""


class Appearance:
    """Switches sizes and tokens."""

    def __init__(self, window: MainWindow) -> None:
        self._window = window

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
        application, window = QApplication.instance(), self._window
        assert isinstance(application, QApplication)
        style.apply(application)
        window.menus.recolour()
        self.resize_to_scale()
        window.view.restyle()
        window.ledger.restyle()
        window.refresh()
        window.place_floating()

    def resize_to_scale(self) -> None:
        """Widths and heights that follow the text."""
        window = self._window
        window.sheets.setFixedWidth(round(340 * (1 + (THEME.scale - 1) * 0.7)))
        window.strip.setFixedHeight(THEME.px(46))
        window.route.set_narrow(self.is_large and window.width() < ROOMY)
        window.controls.place()
