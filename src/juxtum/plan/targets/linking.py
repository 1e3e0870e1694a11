"""Whether views hang together: each new one has to share enough targets with those that came before it."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from juxtum.geometry.arrays import Bools, Ints, frozen
from juxtum.plan.targets.covering import Covered
from juxtum.plan.targets.ground import Ground
from juxtum.plan.targets.tracking import Tracking, track
from juxtum.plan.targets.views import Spots


@dataclass(frozen=True, eq=False)
class Linkage:
    """What can be reached from the first view on.

    Parameters
    ----------
    poses : array (P,)
        Poses that an order of views reaches, each by targets that are known by then.
    known : array (T,)
        Targets that are known in the end.
    counts : array (P,)
        Known targets in view of each pose.
    """

    poses: Bools
    known: Bools
    counts: Ints


@dataclass(frozen=True, eq=False)
class State:
    """How poses and places do with a set of targets."""

    tracking: Tracking
    linkage: Linkage
    covered: Covered

    @property
    def share(self) -> float:
        """Of the area, by place: seen from enough directions by views that hang together."""
        return self.covered.share

    @property
    def merit(self) -> tuple[float, float]:
        """For comparisons: that share, then how full the poses are that hang together."""
        return round(self.share, 9), float((self.tracking.fullness * self.linkage.poses).mean())


def link(ground: Ground, seen: Bools, spots: Spots, stays: Bools, holds: Bools) -> Linkage:
    """The largest part of the poses that hang together, one position of the part after the other.

    Parameters
    ----------
    seen : array (P, T)
        Which poses see which targets.
    stays : array (T,)
        Targets that move with the part; the others are known afresh in each position.
    holds : array (P,)
        Poses that track once all that they see is known.
    """
    nothing = Linkage(
        np.zeros(len(seen), dtype=bool), np.zeros(seen.shape[1], dtype=bool), np.zeros(len(seen), np.int64)
    )
    if not holds.any():
        return nothing
    if ground.is_mapped or ground.watch is not None:
        return Linkage(holds, np.ones(seen.shape[1], dtype=bool), seen.sum(1))
    setups = ground.views.setups
    first = int(setups[holds].min())
    best, most = nothing, -1.0
    left = holds & (setups == first)
    while left.any():
        start = int(np.argmax(np.where(left, seen.sum(1), -1)))
        made = _linked_from(ground, seen, spots, stays, start)
        left &= ~made.poses
        left[start] = False
        area = ground.cover.area(made.poses)
        if area > most:
            best, most = made, area
    return best


def _linked_from(ground: Ground, seen: Bools, spots: Spots, stays: Bools, start: int) -> Linkage:
    from juxtum.plan.targets import _tracking_kernels as kernels

    views, needs = ground.views, ground.needs
    reached, ever = kernels.linked_from(
        seen,
        spots.places,
        views.setups.astype(np.int64),
        views.looked_at,
        start,
        stays,
        needs.least,
        needs.noise,
        needs.pose_limit,
    )
    return Linkage(frozen(reached, bool), frozen(ever, bool), frozen((seen & ever).sum(1), np.int64))


def state_of(ground: Ground, seen: Bools, spots: Spots, stays: Bools) -> State:
    """How poses and places do with targets of which each pose sees some (P, T)."""
    return state_with(ground, track(ground.moments(seen, spots), ground.needs), seen, spots, stays)


def state_with(ground: Ground, tracking: Tracking, seen: Bools, spots: Spots, stays: Bools) -> State:
    """The same where it is known how each pose tracks by itself."""
    linkage = link(ground, seen, spots, stays, tracking.holds)
    return State(tracking, linkage, covered_by(ground, linkage.poses))


def covered_by(ground: Ground, held: Bools) -> Covered:
    """What poses give that know where they are.

    A tracker's targets tie its stations and positions together: there it is poses that count, not places.
    """
    covered = ground.cover.of(held)
    return covered if ground.watch is None else replace(covered, share=float(held.mean()))
