"""The map of targets that a scanner tracks by, and through it where the part is."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np

from juxtum.align.targets import TargetMatch, match_targets
from juxtum.capture.live.gearmap import GearMap
from juxtum.geometry import RigidTransform
from juxtum.geometry.arrays import Floats
from juxtum.geometry.kdtree import kd_tree
from juxtum.instruments.equipment import Equipment

BY_HAND = 2.0
"""How far a target may be stuck from where the plan wants it and still be taken for it, mm."""


class TargetMap:
    """Targets by the device's handles.

    Parameters
    ----------
    planned : array (T, 3)
        Where the plan wants them, part coordinates, mm.
    recognised : callable
        Called when it became known where the part is.
    equipment : sequence of Equipment
        What stands about the part: its targets are known from its document, by their distances.
    """

    def __init__(self, planned: Floats, recognised: Callable[[], None], equipment: Sequence[Equipment] = ()) -> None:
        self._planned, self._recognised = planned, recognised
        self.gear = GearMap(equipment)
        self.targets: dict[int, Floats] = {}
        """Map coordinates, mm."""
        self.to_part: RigidTransform | None = None
        """From the map to the part; None until enough targets are recognised."""
        self.is_given = False
        self._match: TargetMatch | None = None

    def give(self, rows: Sequence[Sequence[float]]) -> None:
        """Take over a map that was measured better beforehand, rows of handle, x, y, z, sightings; the device is told on connecting."""
        self.is_given = True
        self.targets = {int(row[0]): np.array(row[1:4], dtype=np.float64) for row in rows}
        self._recognise()

    def add(self, found: dict[int, Floats]) -> None:
        """Targets that the device found, or placed anew."""
        self.targets |= found
        self.gear.look_among(self.targets)
        self._recognise()

    def turned_over(self, position: int) -> None:
        """The part was laid in another position: what the equipment shows there is met anew."""
        self.gear.turned_over(position, self.targets)

    def begin_anew(self) -> None:
        """The device begins another map: nothing of this one is known there, and the part is not found yet."""
        self.targets, self.to_part, self._match = {}, None, None
        self.gear.begin_anew()

    def move(self, move: RigidTransform) -> None:
        """Bring every target into another map."""
        self.targets = {k: move.apply(place) for k, place in self.targets.items()}
        self.gear.ways = {index: way @ move.inverse for index, way in self.gear.ways.items()}

    def rows(self) -> list[list[float]]:
        """The map as a device takes it back after it was restarted."""
        return [[float(k), *map(float, place), 10.0] for k, place in sorted(self.targets.items())]

    @property
    def planned_rows(self) -> dict[int, int]:
        """For each handle that is a planned target, its row in the plan; those of the equipment, in this position, come after."""
        first = len(self._planned)
        of_gear = {k: first + row for k, row in self.gear.rows.items()}
        order = [k for k in sorted(self.targets) if k not in self.gear.all_handles]
        if self.to_part is None or not order or not len(self._planned):
            return of_gear
        places = self.to_part.apply(np.array([self.targets[k] for k in order]))
        away, rows = kd_tree(self._planned).query(places)
        return of_gear | {k: int(row) for k, row, d in zip(order, rows, away, strict=True) if d < 2 * BY_HAND}

    def _recognise(self) -> None:
        """Find the planned targets among those of the map, and with them the part."""
        own = [k for k in sorted(self.targets) if k not in self.gear.all_handles]
        measured = np.array([self.targets[k] for k in own]).reshape(-1, 3)
        if self._match is not None and len(measured) < 1.2 * len(self._match.pairs) + 1:
            return
        match = match_targets(measured, self._planned, BY_HAND)
        if match is None or (self._match is not None and len(match.pairs) < len(self._match.pairs)):
            return
        self.locate(match.transform)
        self._match = match

    def locate(self, to_part: RigidTransform) -> None:
        """Say where the part is in the map."""
        self.to_part = to_part
        self._recognised()
