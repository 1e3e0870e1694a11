"""What a click on the part means while a plan is made."""

from __future__ import annotations

from typing import TYPE_CHECKING

from juxtum.desk.planning.panels import BlindPanel
from juxtum.desk.planning.topics import Topic
from juxtum.desk.stage_pointer import Mode
from juxtum.plan.blind import Finish
from juxtum.scene.picking import Hit

if TYPE_CHECKING:
    from juxtum.desk.stations.plan import PlanStation


class PlanPicking:
    """Sticks targets, allows faces, names datums and finishes."""

    def __init__(self, station: PlanStation) -> None:
        self._station = station
        self._what = ""

    def picked(self, hit: Hit) -> None:
        """A click on the part: a target, an allowed face, a datum face or a finish."""
        planner = self._station.planner
        if planner is None or not self._what:
            return
        face = int(planner.nominal.projector.project(hit.place[None]).faces[0]) + 1
        if self._what == "add":
            self._station.edits.add(hit.place)
        elif self._what == "allow" and face:
            allowed = tuple(sorted(set(planner.plan.allowed) ^ {face}))
            self._station.change(f"targets on face {face}", {"allowed": allowed})
        elif self._what == "datum" and face:
            self._station.change(f"datum face {face}", {"datums": tuple(sorted(set(planner.plan.datums) ^ {face}))})
        elif self._what == "finish" and face:
            panel = self._station.panels[Topic.BLIND]
            assert isinstance(panel, BlindPanel)
            finishes = dict(planner.plan.finishes)
            finishes[face] = Finish(panel.finish.currentData())
            kept = tuple(sorted((n, f) for n, f in finishes.items() if f is not Finish.MATT))
            self._station.change(f"face {face} {finishes[face]}", {"finishes": kept})

    def _start(self, what: str, caption: str) -> None:
        self._what = what
        self._station.view.handles = None
        self._station.view.set_mode(Mode.PICK, caption)

    def stop(self) -> None:
        """Clicks mean nothing any more."""
        self._what = ""
        for topic, name in (
            (Topic.TARGETS, "add"),
            (Topic.TARGETS, "allow"),
            (Topic.TARGETS, "datum"),
            (Topic.BLIND, "pick"),
        ):
            getattr(self._station.panels[topic], name).setChecked(False)
        self._station.view.set_mode(Mode.LOOK)

    def _toggle(self, what: str, is_on: bool, caption: str) -> None:
        self.stop()
        if is_on:
            self._start(what, caption)
            button = {"add": "add", "allow": "allow", "datum": "datum", "finish": "pick"}[what]
            getattr(self._station.panels[self._station.topic], button).setChecked(True)
        else:
            self._station.dress()

    def toggle_adding(self) -> None:
        """Click the part to stick a target, or stop."""
        self._toggle("add", self._what != "add", "Click the part to stick a target there; Esc ends")

    def toggle_allowing(self) -> None:
        """Click faces that may carry targets, or stop."""
        self._toggle(
            "allow", self._what != "allow", "Click faces that may carry targets although they are measured; Esc ends"
        )

    def toggle_datums(self) -> None:
        """Click the drawing's datum faces, or stop."""
        self._toggle(
            "datum", self._what != "datum", "Click the drawing's datum faces; click again to let one go; Esc ends"
        )

    def toggle_finishing(self) -> None:
        """Click faces of the chosen finish, or stop."""
        self._toggle("finish", self._what != "finish", "Click faces of this finish; Esc ends")

    def begin_allowing(self) -> None:
        """Turn to the targets and pick faces that may carry them."""
        self._station.show_topic(Topic.TARGETS)
        if self._what != "allow":
            self.toggle_allowing()
