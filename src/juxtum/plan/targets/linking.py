"""Whether views hang together: each new one has to share enough targets with those that came before it."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from juxtum.geometry.arrays import Bools, Floats, Ints, frozen
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
    known_in : array (S, T)
        Targets that are known in the end, in each position of the part.
    counts : array (P,)
        Targets in view of each pose that are known in its position of the part.
    """

    poses: Bools
    known_in: Bools
    counts: Ints

    @property
    def known(self) -> Bools:
        """Targets that are known in the end in some position (T,)."""
        return np.asarray(self.known_in.any(0))

    def and_also(self, other: Linkage) -> Linkage:
        """Both, of different positions of the part."""
        return Linkage(self.poses | other.poses, self.known_in | other.known_in, np.maximum(self.counts, other.counts))


@dataclass(frozen=True, eq=False)
class Sighted:
    """Targets on the part and those of the equipment after them, with what is seen of them.

    Parameters
    ----------
    spots : Spots
    seen : array (P, T)
    stays : array (T,)
        Whether they move with the part.
    """

    spots: Spots
    seen: Bools
    stays: Bools


def sighted(ground: Ground, points: Floats, normals: Floats) -> Sighted:
    """Targets on the part (N, 3) together with those of the equipment, if there is any."""
    spots, seen = ground.spots(points, normals), ground.seen_targets(points, normals)
    return with_gear(ground, Sighted(spots, seen, np.ones(len(points), dtype=bool)))


def with_gear(ground: Ground, sighted: Sighted) -> Sighted:
    """The same and the targets of the equipment."""
    if ground.gear is None:
        return sighted
    return Sighted(
        sighted.spots.with_more(ground.gear.spots),
        np.concatenate([sighted.seen, ground.gear_seen], 1),
        np.r_[sighted.stays, np.zeros(len(ground.gear), dtype=bool)],
    )


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


def link(ground: Ground, targets: Sighted, holds: Bools) -> Linkage:
    """The largest part of the poses that hang together, one position of the part after the other.

    Parameters
    ----------
    targets : Sighted
        Those that do not move with the part are known afresh in each position.
    holds : array (P,)
        Poses that track once all that they see is known.
    """
    seen, spots, stays = targets.seen, targets.spots, targets.stays
    nothing = Linkage(
        np.zeros(len(seen), dtype=bool), np.zeros(spots.places.shape[:2], dtype=bool), np.zeros(len(seen), np.int64)
    )
    if not holds.any():
        return nothing
    if ground.is_mapped or ground.watch is not None:
        return Linkage(holds, np.ones(spots.places.shape[:2], dtype=bool), seen.sum(1))
    setups = ground.views.setups
    made = _best_from(ground, seen, spots, stays, holds & (setups == int(setups[holds].min())))
    for setup in range(len(ground.views.turned)) if ground.is_joined_by_shape else ():
        afresh = holds & (setups == setup)
        if afresh.any() and not made.poses[setups == setup].any():
            # Nothing that is known came along: this position begins with a map of its own.
            made = made.and_also(_best_from(ground, seen, spots, np.zeros_like(stays), afresh))
    return made


def _best_from(ground: Ground, seen: Bools, spots: Spots, stays: Bools, starts: Bools) -> Linkage:
    """What the start with most area brings, of some poses that track."""
    best: Linkage | None = None
    most, left = -1.0, starts.copy()
    while left.any():
        start = int(np.argmax(np.where(left, seen.sum(1), -1)))
        made = _linked_from(ground, seen, spots, stays, start)
        left &= ~made.poses
        left[start] = False
        area = ground.cover.area(made.poses)
        if best is None or area > most:
            best, most = made, area
    assert best is not None
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
    counts = (seen & ever[views.setups]).sum(1)
    return Linkage(frozen(reached, bool), frozen(ever, bool), frozen(counts, np.int64))


def state_of(ground: Ground, targets: Sighted) -> State:
    """How poses and places do with some targets."""
    return state_with(ground, track(ground.moments(targets.seen, targets.spots), ground.needs), targets)


def state_with(ground: Ground, tracking: Tracking, targets: Sighted) -> State:
    """The same where it is known how each pose tracks by itself."""
    linkage = link(ground, targets, tracking.holds)
    return State(tracking, linkage, covered_by(ground, linkage.poses))


def covered_by(ground: Ground, held: Bools) -> Covered:
    """What poses give that know where they are.

    A tracker's targets tie its stations and positions together: there it is poses that count, not places.
    """
    covered = ground.cover.of(held)
    return covered if ground.watch is None else replace(covered, share=float(held.mean()))
