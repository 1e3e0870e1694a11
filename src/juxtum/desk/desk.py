"""What stations, panels and editors know of the desk they lie on; never the window."""

from __future__ import annotations

from typing import TYPE_CHECKING, Protocol

from juxtum.capture.live.snapshot import Snapshot
from juxtum.desk.controls import StageControls
from juxtum.desk.session import Session
from juxtum.desk.stage_view import StageView
from juxtum.guide.findings import Key
from juxtum.plan.planner import Planner

if TYPE_CHECKING:
    from pathlib import Path

    from juxtum.desk.desk_book import DeskBook


class Asks(Protocol):
    """Questions to the user that stations put."""

    def cloud(self, suggestion: str) -> Path | None:
        """Where to write a cloud of points."""

    def section(self, suggestion: str) -> Path | None:
        """Where to write a section."""

    def table(self, suggestion: str) -> Path | None:
        """Where to write a table."""

    def folder(self) -> Path | None:
        """A folder for a report or a sheet."""

    def instrument(self) -> Path | None:
        """An instrument document."""

    def point_list(self) -> Path | None:
        """A list of points or targets."""

    def instrument_copy(self, suggestion: str) -> Path | None:
        """Where to write an instrument's document."""


class Desk(Protocol):
    """The job, the stage, and ways to be heard."""

    @property
    def session(self) -> Session:
        """The job and what is derived from it."""

    @property
    def view(self) -> StageView:
        """The stage."""

    @property
    def controls(self) -> StageControls:
        """The bars over the stage."""

    @property
    def asking(self) -> Asks:
        """Questions to the user."""

    @property
    def planner(self) -> Planner | None:
        """The planner of the job; None without a part to plan on."""

    @property
    def shop(self) -> DeskBook:
        """What the shop has and wrote down: its logbook, and what the register in it holds."""

    def is_at(self, key: Key) -> bool:
        """Whether the user is at a station."""

    def go(self, key: Key) -> None:
        """Go to a station."""

    def perform(self, name: str) -> None:
        """Run an action by its id, if it makes sense now."""

    def enable_actions(self) -> None:
        """Grey out what makes no sense now."""

    def tell(self, what: str, where: str, next: str) -> None:
        """Say what cannot be done and what can."""

    def announce(self, words: str) -> None:
        """Say something good."""

    def choose_alignment(self, name: str) -> None:
        """Put another alignment in force."""

    def look_home(self) -> None:
        """The view that shows everything."""

    def cover_ledger(self) -> None:
        """Take the ledger's place under the stage."""

    def uncover_ledger(self) -> None:
        """Give it back."""

    @property
    def is_floor(self) -> bool:
        """Whether only the floor view is shown."""

    def toggle_floor(self) -> None:
        """The floor view, or the desk again."""

    def show_floor(self, snapshot: Snapshot) -> None:
        """Keep the floor view up to date."""
