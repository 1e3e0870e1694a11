"""The scanner's own map of the targets: grown as it goes, or given beforehand."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from juxtum.devices.resection import Resection, resect_robust
from juxtum.geometry import RigidTransform
from juxtum.geometry.arrays import Floats
from juxtum.instruments.models import TargetNeeds

MOST_COUNTED = 40.0
"""A target seen so often is not known better for being seen again: what is left is common to all of it."""


@dataclass
class MappedTarget:
    """A target of the map: place (3,) in mm, and how many sightings it rests on."""

    place: Floats
    count: float


class TargetMap:
    """Targets by the handle that the scanner gives them.

    Parameters
    ----------
    needs : TargetNeeds
    start : RigidTransform
        Where the map puts its origin: from the part to the map. Used once, when nothing is mapped yet.
    """

    def __init__(self, needs: TargetNeeds, start: RigidTransform) -> None:
        self.needs = needs
        self.start = start
        self.targets: dict[int, MappedTarget] = {}
        self.is_fixed = False
        """Whether the map was given and is not to be changed, only added to."""
        self._given: frozenset[int] = frozenset()

    def give(self, rows: Floats, *, fixed: bool) -> None:
        """Take a map in: rows (N, 5) of handle, place, count."""
        self.targets = {int(r[0]): MappedTarget(np.array(r[1:4]), float(max(r[4], 1.0))) for r in rows}
        self.is_fixed = fixed
        self._given = frozenset(self.targets) if fixed else frozenset()

    def rows(self) -> list[list[float]]:
        """As rows of handle, place, count."""
        return [[float(k), *(round(float(v), 5) for v in t.place), t.count] for k, t in sorted(self.targets.items())]

    def known(self, seen: list[int]) -> list[int]:
        """Those of the handles that are mapped."""
        return [k for k in seen if k in self.targets]

    def variances(self, handles: list[int]) -> Floats:
        """Variance (N,) of the difference between an observed and a mapped place, mm2."""
        own = np.array([0.0 if k in self._given else 1 / self.targets[k].count for k in handles])
        return np.asarray(self.needs.noise**2 * (1 + own))

    def locate(self, handles: list[int], observed: Floats) -> tuple[Resection, list[int]]:
        """Pose from known targets, and the handles of those that have moved."""
        places = np.array([self.targets[k].place for k in handles])
        found, moved = resect_robust(observed, places, self.variances(handles), self.needs.least)
        return found, [handles[row] for row in moved]

    def forget(self, handles: list[int]) -> None:
        """Drop targets that have moved."""
        for handle in handles:
            self.targets.pop(handle, None)

    def learn(self, pose: RigidTransform, handles: list[int], observed: Floats) -> list[int]:
        """Add what is new and settle what is known; the handles that are new."""
        places, new = pose.apply(observed), []
        for handle, place in zip(handles, places, strict=True):
            held = self.targets.get(handle)
            if held is None:
                self.targets[handle] = MappedTarget(place, 1.0)
                new.append(handle)
            elif handle not in self._given and held.count < MOST_COUNTED:
                held.place = held.place + (place - held.place) / (held.count + 1)
                held.count += 1
        return new
