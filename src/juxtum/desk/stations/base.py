"""What all worksheets have in common."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QFrame, QScrollArea, QVBoxLayout, QWidget

from juxtum.desk.action import Action
from juxtum.desk.derived import Derived
from juxtum.desk.stage_pointer import Mode
from juxtum.desk.widgets import NextBox, label
from juxtum.geometry.arrays import Floats
from juxtum.guide.findings import Key
from juxtum.guide.next_actions import next_action
from juxtum.scene.actors import Shown
from juxtum.scene.map_layers import MAP_LAYERS
from juxtum.scene.picking import Hit

if TYPE_CHECKING:
    from juxtum.desk.desk import Desk


class Station(QScrollArea):
    """A worksheet: next action on top, then parameters, then live results.

    Parameters
    ----------
    desk : Desk
        Gives session, stage and actions.
    """

    key: Key

    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self.desk = desk
        self.session = desk.session
        self.view = desk.view
        self.setWidgetResizable(True)
        self.setFrameShape(QFrame.Shape.NoFrame)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setAccessibleName(f"{self.key.caption} worksheet")
        body = QWidget()
        body.setObjectName("worksheetBody")
        self.body = QVBoxLayout(body)
        self.body.setContentsMargins(16, 14, 16, 16)
        self.body.setSpacing(10)
        self.next = NextBox()
        self.next.wanted.connect(desk.perform)
        self.body.addWidget(label(self.key.caption, "title"))
        self.body.addWidget(self.next)
        self.build()
        self.body.addStretch(1)
        self.setWidget(body)

    def build(self) -> None:
        """Add the station's own parts to `body`."""

    def own_actions(self) -> tuple[Action, ...]:
        """What can be done here."""
        return ()

    def show_ways(self, ways: tuple[str, ...]) -> None:
        """Turn to the first of some ways of this station, unless one of them is shown."""

    def scroll_to_top(self) -> None:
        """Show the beginning of the worksheet."""
        bar = self.verticalScrollBar()
        if bar is not None:
            bar.setValue(0)

    @property
    def is_here(self) -> bool:
        """Whether the user is at this station."""
        return self.desk.is_at(self.key)

    @property
    def derived(self) -> Derived:
        """What is known of the job."""
        return self.session.derived

    def follow(self) -> None:
        """Keep what is held beside the job true to it, whether this is in sight or not."""

    def refresh(self) -> None:
        """Show the job as it is now."""
        self.next.show_action(next_action(self.key, self.derived))
        self.show_results()

    def show_results(self) -> None:
        """Update the station's own parts."""

    def enter(self) -> None:
        """Set the stage for this station."""
        self.dress()

    def leave(self) -> None:
        """Let go of what was begun on the stage."""
        self.view.set_mode(Mode.LOOK)
        self.view.set_pins([])

    def dress(self) -> None:
        """Put the layers of this station on the stage."""
        self.dress_map()

    def dress_map(self) -> None:
        """The map, or what there is of nominal and scan."""
        d, view, controls = self.derived, self.view, self.desk.controls
        for name in MAP_LAYERS:
            view.put(name, d.layers.get(name))
        view.put("scan", None)
        view.put("nominal", d.nominal_surface)
        view.put("edges", d.nominal_edges)
        view.show_layer("nominal", controls.nominal_shown if d.has_map else Shown.SOLID)
        view.show_layer("map", controls.data_shown)
        for name in MAP_LAYERS[1:]:
            view.show_layer(name, Shown.HIDDEN if controls.data_shown is Shown.HIDDEN else Shown.SOLID)
        controls.show_legend(d)

    def picked(self, hit: Hit) -> None:
        """A click on the stage."""

    def outlined(self, outline: Floats, matrix: Floats) -> None:
        """An outline drawn on the stage."""

    def escape(self) -> None:
        """Escape was pressed."""
        self.leave()
