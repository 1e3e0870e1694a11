"""The patches of a capture and what they cover; nothing here knows of a device."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from juxtum.capture.live.counting import erase, recount
from juxtum.capture.live.coverage import Cells, Coverage, make_cells
from juxtum.capture.live.joining import guessed, located_by_shape, plate_under
from juxtum.capture.live.patch import Patch, State, Zone
from juxtum.capture.live.points import Budget, PointStore
from juxtum.capture.live.targetmap import TargetMap
from juxtum.devices.protocol import DeviceError, Message, Points
from juxtum.geometry import RigidTransform
from juxtum.instruments.models import Mode
from juxtum.plan.planner import Planner

LONGEST_PATCH = 60.0
"""Seconds after which a patch is kept by itself: what runs is not yet on disk."""
MOST_HAPPENINGS = 5000
TRIED_AGAIN = 1.4
"""Where the shape did not decide it, it is asked again with so many times the points."""
ROOMY = 0.9
"""From this share of the memory on it counts as full."""


class Gathering:
    """Patches that begin, are kept, let go, refined and counted.

    Parameters
    ----------
    planner : Planner
        Tells what is measured, how fine, and where the targets should be.
    memory : float
        Bytes that points may use.
    """

    def __init__(self, planner: Planner, memory: float, spacing: float | None = None) -> None:
        self.planner = planner
        self.mode: Mode = planner.mode
        self.spacing = spacing or planner.spacing()
        self.cells: Cells = make_cells(planner.nominal, planner.task.measured_faces(planner.nominal), self.spacing)
        self.coverage = Coverage(self.cells, self.spacing)
        self.budget = Budget(memory)
        self.patches: list[Patch] = []
        self.current: Patch | None = None
        self.state, self.why = State.READY, ""
        self.position = 0
        planned = np.array([target.place for target in planner.plan.placed]).reshape(-1, 3)
        self.map = TargetMap(planned, self._count_again, planner.plan.equipment)
        self.to_map = RigidTransform.identity()
        """From the device's map to the session's: another one after the device began anew."""
        self._home: RigidTransform | None = None
        """Where the part was in the map before the device began anew; None while nothing was begun anew."""
        self._fresh: list[Patch] = []
        """Patches in a map of the device that is not tied to the session's yet."""
        self._tried = 0
        """How many points they had when their shape did not decide where the part is."""

    @property
    def goal(self) -> float:
        """Share of the measured area that the plan expects, 0 to 1."""
        expected = self.planner.plan.expected
        return expected.coverage if expected is not None else 0.95

    def begin(self, zone: Zone | None = None, spacing: float | None = None) -> Patch:
        """Start a new patch; one that runs is accepted."""
        self.accept()
        number = 1 + max((p.number for p in self.patches), default=0)
        counts, store = np.zeros(len(self.coverage.counts)), PointStore(self.budget)
        patch = Patch(number, self.position, self.mode.name, spacing or self.spacing, store, counts, zone)
        self.patches.append(patch)
        self.current = patch
        if self.state in (State.READY, State.JUMP):
            self.state, self.why = State.SCANNING, ""
        return patch

    def accept(self) -> Patch | None:
        """Stop the patch that runs and keep it; an empty one is dropped."""
        patch, self.current = self.current, None
        if self.state in (State.SCANNING, State.WEAK, State.PAUSED):
            self.state, self.why = State.READY, ""
        if patch is not None and len(patch.store) == 0:
            self.patches.remove(patch)
            return None
        if patch is not None and self.planner.plan.equipment and self.map.to_part is None:
            self._fresh = [p for p in (*self._fresh, patch) if len(p.store) and not p.has_jumped]
            if sum(len(p.store) for p in self._fresh) >= TRIED_AGAIN * self._tried:
                self._locate_by_shape()
        return patch

    @property
    def is_joined_by_shape(self) -> bool:
        """Whether the part is found by its shape in each position, and not by targets on it."""
        return self.planner.plan.joined == "by shape" and bool(self.planner.plan.equipment)

    def _locate_by_shape(self) -> None:
        """Find the part in the device's map; where another position came before, bring what is new into its map."""
        ground = self.planner.ground()
        if ground.gear is None:
            return
        guess = guessed(self.map.gear, ground.gear, self.position)
        plate = plate_under(self.map.gear, ground.gear)
        found = None if guess is None else located_by_shape(self._fresh, self.planner.nominal, guess, plate)
        self._tried = sum(len(p.store) for p in self._fresh) if found is None else 0
        if found is None:
            return
        if self._home is not None:
            self.to_map = self._home.inverse @ found
            for patch in self._fresh:
                patch.store.move(self.to_map)
            self.map.move(self.to_map)
            found, self._home = self._home, None
        self._fresh = []
        self.map.locate(found)

    def discard(self, number: int) -> None:
        """Let a patch go.

        Raises
        ------
        DeviceError
            When there is none of this number.
        """
        patch = next((p for p in self.patches if p.number == number), None)
        if patch is None:
            raise DeviceError(f"there is no patch {number}", "capture", "Choose one of the list")
        if not patch.has_jumped:
            self.coverage.counts -= patch.counts
        patch.store.clear()
        self.patches.remove(patch)
        if patch is self.current:
            self.current = None
            self.state = State.READY

    def turn_over(self) -> Message | None:
        """The part was laid on its other side: a new patch follows; what the device must be told, if anything.

        Raises
        ------
        DeviceError
            Where positions are joined by shape and the part was not recognised in this one: nothing could be joined to it.
        """
        self.accept()
        if self.is_joined_by_shape and self.map.to_part is None:
            self._locate_by_shape()
        if self.is_joined_by_shape and self.map.to_part is None:
            raise DeviceError(
                "the part is not recognised yet, and the other position would not be joined to this one",
                "turn over",
                "Scan more of it here, from several sides",
            )
        self.position = (self.position + 1) % len(self.planner.ground().views.turned)
        self.map.turned_over(self.position)
        if not self.is_joined_by_shape:
            return None
        self._home, self.to_map = self.map.to_part, RigidTransform.identity()
        self.map.begin_anew()
        return Message("map", {"targets": []})

    def refine(self, zone: Zone, spacing: float) -> Patch:
        """Erase the coarse points of a zone and take only fine ones there.

        Raises
        ------
        DeviceError
            Before the part is recognised: nobody knows yet where the zone is.
        """
        if self.map.to_part is None:
            raise DeviceError("the part is not recognised yet", "refine", "Scan until its targets are known")
        self.accept()
        for patch in erase(self.patches, zone, self.map.to_part):
            self.recount(patch)
        there = zone.holds(self.cells.places)
        self.coverage.needed = np.where(there, np.maximum(self.cells.areas / spacing**2, 3.0), self.coverage.needed)
        return self.begin(zone, spacing)

    def restore(self, patch: Patch, points: Points) -> None:
        """Take up a patch that was captured earlier."""
        patch.store.add(points, RigidTransform.identity())
        self.patches.append(patch)
        if self.map.to_part is not None:
            self.recount(patch)

    def _count_again(self) -> None:
        """What was captured before it was known where the part is counts now."""
        for patch in self.patches:
            if len(patch.store) and not patch.has_jumped:
                self.recount(patch)

    def recount(self, patch: Patch) -> None:
        """Count a patch again where it is known where the part is."""
        assert self.map.to_part is not None
        recount(self.coverage, patch, self.map.to_part)

    @property
    def good(self) -> Sequence[Patch]:
        """Patches that count."""
        return [p for p in self.patches if not p.has_jumped and len(p.store)]

    @property
    def seconds(self) -> float:
        """Time of all patches."""
        return float(sum(p.seconds for p in self.patches))

    @property
    def points(self) -> int:
        """Points of all patches that count."""
        return sum(len(p.store) for p in self.good)
