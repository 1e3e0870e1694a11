"""Which targets of a map belong to the equipment under the part: known by their distances from its document."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import numpy as np

from juxtum.align.targets import match_targets
from juxtum.geometry import RigidTransform
from juxtum.geometry.arrays import Floats
from juxtum.geometry.kdtree import kd_tree
from juxtum.instruments.equipment import Equipment

WITHIN = 0.5
"""How far a target of the equipment may seem to lie from its place in the document, mm."""


class GearMap:
    """The equipment's targets among those of the map, in the position of the part at hand.

    Parameters
    ----------
    equipment : sequence of Equipment
    """

    def __init__(self, equipment: Sequence[Equipment] = ()) -> None:
        self._items = tuple(equipment)
        self._firsts = np.cumsum([0, *(len(item.targets) for item in self._items)])
        self._before: set[int] = set()
        """Handles that were known before the part was laid as it lies now."""
        self._position = 0
        self._rows: dict[int, dict[int, int]] = {}
        self._ways: dict[int, dict[int, RigidTransform]] = {}

    @property
    def rows(self) -> dict[int, int]:
        """For each handle of the equipment in this position, its row among all of its targets."""
        return self._rows.setdefault(self._position, {})

    @property
    def ways(self) -> dict[int, RigidTransform]:
        """From the map to each piece that was met in this position."""
        return self._ways.setdefault(self._position, {})

    @ways.setter
    def ways(self, ways: dict[int, RigidTransform]) -> None:
        self._ways[self._position] = ways

    def begin_anew(self) -> None:
        """Nothing is known any more."""
        self._before, self._rows, self._ways = set(), {}, {}

    @property
    def all_handles(self) -> set[int]:
        """Handles of targets of the equipment, in whichever position they were met."""
        return {k for rows in self._rows.values() for k in rows}

    def turned_over(self, position: int, targets: Mapping[int, Floats]) -> None:
        """What is met from now on is met in another position of the part, or again in one that was left."""
        self._before, self._position = set(targets), position

    def look_among(self, targets: Mapping[int, Floats]) -> None:
        """Find the equipment's targets among those of the map (map coordinates, mm)."""
        for index, item in enumerate(self._items):
            free = [k for k in sorted(targets) if k not in self._before and k not in self.rows]
            if not free:
                return
            places = np.array([targets[k] for k in free])
            if index not in self.ways:
                match = match_targets(places, item.places, WITHIN)
                if match is None:
                    continue
                self.ways[index] = match.transform
            away, rows = kd_tree(item.places).query(self.ways[index].apply(places))
            for k, d, row in zip(free, away, rows, strict=True):
                if d < 2 * WITHIN:
                    self.rows[k] = int(self._firsts[index] + row)
                    self.all_handles.add(k)
