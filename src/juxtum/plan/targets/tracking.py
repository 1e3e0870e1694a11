"""Whether poses track: how many targets they see and how well the pose follows from them."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np

from juxtum.geometry.arrays import Bools, Floats, Ints, frozen
from juxtum.instruments.models import TargetNeeds

LOST = 1e3
"""Stands for a spread that cannot be computed, mm."""


@dataclass(frozen=True, eq=False)
class Tracking:
    """What poses see of a set of targets.

    Parameters
    ----------
    counts : array (P,)
        Targets in view.
    spreads : array (P,)
        Standard uncertainty that the pose brings to the place looked at, mm; large where it cannot be had.
    needs : TargetNeeds
    """

    counts: Ints
    spreads: Floats
    needs: TargetNeeds

    @cached_property
    def holds(self) -> Bools:
        """Poses (P,) that see enough targets, well enough spread."""
        return frozen((self.counts >= self.needs.least) & (self.spreads <= self.needs.pose_limit), bool)

    @cached_property
    def well_placed(self) -> Ints:
        """Targets in view (P,); a pattern that does not hold the pose counts as one less than the bare minimum."""
        weak = self.spreads > self.needs.pose_limit
        return frozen(np.where(weak, np.minimum(self.counts, self.needs.bare - 1), self.counts), np.int32)

    @property
    def share(self) -> float:
        """Share of poses that track, 0 to 1."""
        return float(self.holds.mean()) if len(self.holds) else 0.0

    @property
    def worst(self) -> int:
        """Well-placed targets at the worst pose."""
        return int(self.well_placed.min()) if len(self.well_placed) else 0

    @property
    def merit(self) -> tuple[float, float]:
        """For comparisons: share tracked, then how full the poses are up to two more than needed."""
        return round(self.share, 9), float(self.fullness.mean()) if len(self.counts) else 0.0

    @cached_property
    def fullness(self) -> Floats:
        """How full each pose (P,) is, from 0 to 1, up to two targets more than needed."""
        most = self.needs.least + 2
        return frozen(np.minimum(self.well_placed, most) / most)


@dataclass(frozen=True, eq=False)
class Moments:
    """Sums over the targets in view of each pose, from which everything else follows; they add and subtract.

    Parameters
    ----------
    counts : array (P,)
    sums : array (P, 3)
        Of the places relative to the place looked at.
    squares : array (P, 3, 3)
        Of their outer products.
    """

    counts: Floats
    sums: Floats
    squares: Floats

    def __add__(self, other: Moments) -> Moments:
        return Moments(self.counts + other.counts, self.sums + other.sums, self.squares + other.squares)

    def __sub__(self, other: Moments) -> Moments:
        return Moments(self.counts - other.counts, self.sums - other.sums, self.squares - other.squares)

    def rows(self, rows: Ints | Bools) -> Moments:
        """Of some poses."""
        return Moments(self.counts[rows], self.sums[rows], self.squares[rows])


def moments(seen: Bools, places: Floats, setups: Ints, looked_at: Floats) -> Moments:
    """Moments of targets.

    Parameters
    ----------
    seen : array (P, T)
    places : array (S, T, 3)
        For each set-up.
    setups : array (P,)
    looked_at : array (P, 3)
    """
    count, sums, squares = np.zeros(len(seen)), np.zeros((len(seen), 3)), np.zeros((len(seen), 3, 3))
    for setup in range(len(places)):
        rows = np.flatnonzero(setups == setup)
        if len(rows) == 0:
            continue
        middle = looked_at[rows].mean(0)
        x = places[setup] - middle
        v = seen[rows].astype(np.float64)
        n, first = v.sum(1), v @ x
        second = (v @ np.einsum("ti,tj->tij", x, x).reshape(len(x), 9)).reshape(-1, 3, 3)
        # Shifted from the common middle to each pose's own place.
        q = looked_at[rows] - middle
        cross = np.einsum("pi,pj->pij", first, q)
        count[rows], sums[rows] = n, first - n[:, None] * q
        squares[rows] = second - cross - cross.transpose(0, 2, 1) + n[:, None, None] * np.einsum("pi,pj->pij", q, q)
    return Moments(count, sums, squares)


def track(m: Moments, needs: TargetNeeds) -> Tracking:
    """Counts and the spread of a rigid fit of the targets, carried to the place looked at.

    The covariance of a place at r from the targets' centre is sigma^2 (I/n + [r]x S^-1 [r]x^T) with
    S = sum(|d|^2 I - d d^T) over the targets about their centre (rigid registration by least squares, small angles);
    targets in one line make S singular.
    """
    from juxtum.plan.targets import _tracking_kernels as kernels

    spreads = kernels.spreads(m.counts, m.sums, m.squares, needs.noise, needs.bare, LOST)
    return Tracking(frozen(m.counts.round(), np.int32), frozen(spreads), needs)
