"""The desk at work: where the user is, what is shown there, and what stations ask for."""

from __future__ import annotations

from typing import TYPE_CHECKING, Protocol

from juxtum.capture.live.snapshot import Snapshot
from juxtum.desk.action import Action
from juxtum.desk.derived import Derived
from juxtum.errors import InputError
from juxtum.guide.findings import Key
from juxtum.plan.planner import Planner
from juxtum.scene.camera import View

if TYPE_CHECKING:
    from juxtum.desk.asking import Asking
    from juxtum.desk.capturing.switch import FloorSwitch
    from juxtum.desk.controls import StageControls
    from juxtum.desk.desk_book import DeskBook
    from juxtum.desk.first_steps import FirstSteps
    from juxtum.desk.judging import Judging
    from juxtum.desk.layout import Layout
    from juxtum.desk.menus import Menus
    from juxtum.desk.notice import Notice
    from juxtum.desk.selecting import Selecting
    from juxtum.desk.session import Session
    from juxtum.desk.stage_view import StageView
    from juxtum.desk.stations.all import Stations
    from juxtum.desk.stations.base import Station


class Parts(Protocol):
    """What a window is made of."""

    session: Session
    view: StageView
    controls: StageControls
    asking: Asking
    parts: Layout
    stations: Stations
    selecting: Selecting
    judging: Judging
    desk_book: DeskBook
    floor: FloorSwitch
    guide: FirstSteps
    notice: Notice
    menus: Menus

    def place_floating(self) -> None:
        """Put what floats over the stage where it belongs."""


class Hub:
    """The station where the user is and all that hangs on it; the desk that stations know.

    Parameters
    ----------
    window : Parts
        Holds the parts.
    """

    def __init__(self, window: Parts) -> None:
        self._window = window
        self.session: Session = window.session
        self.view: StageView = window.view
        self.controls: StageControls = window.controls
        self.asking: Asking = window.asking
        self._station: Station | None = None
        self.all_actions: tuple[Action, ...] = ()

    def perform(self, name: str) -> None:
        """Run an action by its id where it happens, if it makes sense now."""
        item = next((a for a in self.all_actions if a.id == name), None)
        if item is None:
            return
        if item.enabled():
            if item.at is not None:
                if self.station.key is not item.at:
                    self.go(item.at)
                self.station.show_ways(item.ways)
            item.run()
        else:
            self.announce(f"'{item.title}' makes no sense yet")
        self.enable_actions()

    def enable_actions(self) -> None:
        """Grey out what makes no sense now."""
        self._window.menus.enable()

    @property
    def station(self) -> Station:
        """Where the user is."""
        assert self._station is not None
        return self._station

    def is_at(self, key: Key) -> bool:
        """Whether the user is at a station."""
        return self._station is not None and self._station.key is key

    def go(self, key: Key) -> None:
        """Go to a station."""
        if self._station is not None:
            self._station.leave()
        before, self._station = self._station, self._window.stations.by_key[key]
        self._window.parts.route.show_station(key)
        self._window.parts.sheets.setCurrentWidget(self._station)
        self.controls.clear_section()
        self._station.refresh()
        self._station.enter()
        d = self.session.derived
        if before is None or scene_of(before.key, d) != scene_of(key, d):
            self.look_home()
        self.enable_actions()
        self.controls.show_states()
        self._window.guide.follow(key)

    def look_home(self) -> None:
        """The view from the corner that shows everything."""
        self.view.look_from(View.CORNER)

    def refresh(self) -> None:
        """Show the job as it is now."""
        d, is_saved = self.session.derived, self.session.is_saved
        self._window.selecting.forget_lost()
        self._window.parts.show_job(d, is_saved)
        self.show_ledger()
        for station in self._window.stations.by_key.values():
            station.follow()
        # The others are shown afresh when somebody goes there.
        self.station.refresh()
        had_map = self.view.stage.has("map")
        self.station.dress()
        if had_map != self.view.stage.has("map"):
            self.look_home()
        self.controls.cut()
        self.enable_actions()
        self.controls.show_states()
        self._window.guide.job_changed(d)

    def show_ledger(self) -> None:
        """The lines of the drawing, with what was measured."""
        self._window.parts.show_ledger(
            self.session.derived, self._window.stations.plan.methods(), self._window.stations.measure.line
        )

    @property
    def planner(self) -> Planner | None:
        """The planner of the job."""
        return self._window.stations.plan.planner

    @property
    def shop(self) -> DeskBook:
        """What the shop has and wrote down."""
        return self._window.desk_book

    def choose_alignment(self, name: str) -> None:
        """Put another alignment in force."""
        self._window.judging.choose_alignment(name)

    def cover_ledger(self) -> None:
        """Take the ledger's place under the stage."""
        self._window.parts.cover_ledger()

    def uncover_ledger(self) -> None:
        """Give it back."""
        self._window.parts.uncover_ledger()

    @property
    def is_floor(self) -> bool:
        """Whether only the floor view is shown."""
        return self._window.floor.is_on

    def toggle_floor(self) -> None:
        """Dial, coverage, targets and part alone, legible from far away; or the desk again."""
        if not self.is_floor and self.station is not self._window.stations.capture:
            self.go(Key.CAPTURE)
        self._window.floor.toggle()
        self._window.stations.capture.show_large(self.is_floor)
        self._window.place_floating()
        self.enable_actions()

    def show_floor(self, snapshot: Snapshot) -> None:
        """Keep the floor view up to date."""
        self._window.floor.show_snapshot(snapshot)

    def tell(self, what: str, where: str, next: str) -> None:
        """Say what cannot be done and what can."""
        self._window.notice.tell_failure(InputError(what, where, next))

    def announce(self, words: str) -> None:
        """Say something good."""
        self._window.notice.tell_news(words)


def scene_of(key: Key, d: Derived) -> str:
    """What a station shows; between stations that show the same thing the view stays."""
    if key in (Key.BRIEF, Key.PLAN, Key.READY, Key.CAPTURE, Key.ASSEMBLE):
        return "nominal" if key is not Key.ASSEMBLE else key.value
    return "map" if d.has_map else f"{key.value} without map"
