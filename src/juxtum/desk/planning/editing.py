"""Edits of the targets: each one a step that can be undone, scored before it is recorded."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

from juxtum.desk.planning import topics
from juxtum.desk.planning.topics import TargetsAnswer, Topic
from juxtum.geometry.arrays import Floats
from juxtum.instruments.equipment import Equipment, corner_blocks, equipment_named
from juxtum.job import Job
from juxtum.plan.document import Plan
from juxtum.plan.equipping import planned_first, with_equipment, with_way
from juxtum.plan.planner import Planner, moved
from juxtum.plan.targets.listing import read_targets
from juxtum.plan.targets.targets import snapped, with_lock
from juxtum.plan.targets.ways import WayResult
from juxtum.progress import Progress

if TYPE_CHECKING:
    from juxtum.desk.stations.plan import PlanStation


class TargetEdits:
    """What can be done to the targets of a plan."""

    def __init__(self, station: PlanStation) -> None:
        self._station = station

    def _edit(self, title: str, make: Callable[[Planner, Progress], Plan]) -> None:
        station = self._station
        nominal = station.derived.part
        if nominal is None:
            return
        owned = station.shop.owned

        def edit(job: Job, progress: Progress) -> Job:
            return job.model_copy(
                update={"plan": make(topics.planner_for(job, nominal, station.grounds, owned), progress)}
            )

        station.session.edit_slowly(title, edit)

    @property
    def _next_number(self) -> int:
        return len(self._station.plan.targets) + 1

    def move(self, index: int, place: Floats) -> None:
        """Put a target at another place of the surface."""

        def make(planner: Planner, progress: Progress) -> Plan:
            target = snapped(planner.ground(progress), place, planner.rules())
            return planner.edited(moved(planner.plan, index, target).placed)

        self._edit(f"move target {index + 1}", make)

    def add(self, place: Floats) -> None:
        """Stick a target where a place of the part is."""

        def make(planner: Planner, progress: Progress) -> Plan:
            target = snapped(planner.ground(progress), place, planner.rules())
            return planner.edited((*planner.plan.placed, target))

        self._edit(f"add target {self._next_number}", make)

    def add_suggested(self) -> None:
        """Stick the target that Juxtum suggests."""
        made = self._station.made
        if isinstance(made, TargetsAnswer) and made.assessment.suggestion is not None:
            target = made.assessment.suggestion
            self._edit(
                f"add target {self._next_number}", lambda planner, _: planner.edited((*planner.plan.placed, target))
            )

    def delete(self) -> None:
        """Take the chosen target away."""
        handles = self._station.handles
        index = handles.selected
        if self._station.selected_target is not None:
            handles.selected = -1
            self._edit(
                f"delete target {index + 1}",
                lambda p, _: p.edited(tuple(t for k, t in enumerate(p.plan.placed) if k != index)),
            )

    def lock(self) -> None:
        """Lock the chosen target, or free it."""
        target, index = self._station.selected_target, self._station.handles.selected
        if target is not None:
            word = "free" if target.is_locked else "lock"

            def make(planner: Planner, _: Progress) -> Plan:
                targets = list(planner.plan.placed)
                targets[index] = with_lock(targets[index], locked=not targets[index].is_locked)
                return planner.edited(tuple(targets))

            self._edit(f"{word} target {index + 1}", make)

    def plan_all(self) -> None:
        """Place all targets anew; locked ones stay. A first plan stands on what the shop has."""
        if self._station.topic is not Topic.TARGETS:
            self._station.show_topic(Topic.TARGETS)
        self._edit("plan the targets", planned_first)

    def take_list(self, path: Path) -> None:
        """Targets of another program's list instead of those that are planned."""

        def make(planner: Planner, _: Progress) -> Plan:
            return planner.edited(read_targets(path, planner.nominal, planner.rules().diameter))

        self._edit(f"targets of {path.name}", make)

    def go(self, way: WayResult) -> None:
        """Go another way, with the targets and the equipment that it wants."""
        self._edit(f"targets {way.way}", lambda planner, _: with_way(planner, way))

    def use_equipment(self, name: str) -> None:
        """Put the part on other equipment, or blocks beside it or away; what ties its positions is looked at anew.

        Parameters
        ----------
        name : str
            Id of a plate or a turntable, nothing for none, or "blocks".
        """

        there = self._station.plan.equipment
        under, beside = (tuple(e for e in there if e.is_under is flag) for flag in (True, False))
        if name == "blocks":
            self._stand("corner blocks", (*under, *(() if beside else corner_blocks())))
        elif any(e.id == name for e in under):
            return
        else:
            own = [piece for piece in self._station.shop.owned.pieces if piece.id == name]
            self._stand("equipment", (*(own or ([equipment_named(name)] if name else [])), *beside))

    def put_on(self, made: Equipment) -> None:
        """Put the part on equipment from a document, or a block beside it."""
        there = self._station.plan.equipment
        kept = tuple(e for e in there if e.is_under is not made.is_under or (not made.is_under and e.id != made.id))
        self._stand(f"equipment {made.name}", (made, *kept))

    def _stand(self, title: str, items: tuple[Equipment, ...]) -> None:
        self._edit(title, lambda planner, progress: with_equipment(planner, items, progress))

    def improve(self) -> None:
        """Begin with what is placed, keep the locked ones and move the rest to better places."""
        if self._station.topic is not Topic.TARGETS:
            self._station.show_topic(Topic.TARGETS)
        self._edit("improve the targets", lambda planner, progress: planner.improved(progress))
