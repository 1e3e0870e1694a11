"""What a tracker sees of reference targets while it follows the scanner."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from juxtum.geometry.arrays import Bools, Floats, frozen, unit
from juxtum.instruments.models import TrackerNeeds
from juxtum.plan.stations import StationPlan, blocked_between, in_volume
from juxtum.plan.targets.ground import Ground
from juxtum.plan.targets.views import Spots

LIFT = 0.5
"""Sight lines begin so far off the surface, mm."""


@dataclass(frozen=True, eq=False)
class Watch:
    """The planned stations, looking at targets instead of the scanner's cage."""

    ground: Ground
    tracker: TrackerNeeds
    stations: StationPlan

    def seen(self, spots: Spots) -> Bools:
        """For each pose, which targets (P, T) the tracker that serves it sees.

        A target counts only where it is seen in every position of the part: it has to tie them together.
        """
        from_each = self._from_each(spots)
        ties = from_each.any(0).all(0)
        serving, setups = self.stations.seen, self.ground.views.setups
        # The station that serves most poses serves a pose that several could: the tracker is moved rarely.
        order = np.argsort(-serving.sum(1), kind="stable")
        station = order[np.argmax(serving[order], axis=0)]
        return np.asarray(from_each[station, setups] & ties & np.asarray(serving.any(0))[:, None])

    def _from_each(self, spots: Spots) -> Bools:
        """What each station sees in each position (S, positions, T)."""
        turned = self.ground.views.turned
        seen = np.zeros((len(self.stations.stations), len(turned), spots.places.shape[1]), dtype=bool)
        for number, station in enumerate(self.stations.stations):
            for setup, move in enumerate(turned):
                eye = move.inverse.apply(station.place[None])[0]
                there = in_volume(self.tracker, station.place, station.axis, move.apply(spots.places[setup]))
                seen[number, setup] = there & self._faces(eye, spots.places[setup], spots.normals[setup])
        return seen

    def _faces(self, eye: Floats, places: Floats, normals: Floats) -> Bools:
        """Targets turned towards an eye with nothing in between, part coordinates."""
        towards = unit(eye - places)
        facing = np.asarray(
            np.einsum("ij,ij->i", towards, normals) > np.cos(np.radians(self.ground.needs.incidence)), dtype=bool
        )
        rows = np.flatnonzero(facing)
        starts = places[rows] + LIFT * normals[rows] + LIFT * towards[rows]
        facing[rows] = ~blocked_between(self.ground.caster, starts, eye)
        return facing


def watched(ground: Ground, stations: StationPlan) -> Ground:
    """The ground of a tracked scanner: poses see the targets that their tracker sees."""
    assert ground.model.tracker is not None
    watch = Watch(ground, ground.model.tracker, stations)
    return replace(ground, watch=lambda spots: frozen(watch.seen(spots), bool))
