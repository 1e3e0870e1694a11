"""What poses give that know where they are: from how many directions each place is seen."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
import numpy.typing as npt

from juxtum.geometry.arrays import Bools, Floats, Ints, frozen
from juxtum.plan.targets.views import Patches, Views, row_keys

DIRECTIONS = 2
"""From so many directions every place is wanted."""
ALLOWANCE = 0.02
"""What the loss of one target may cost, share of the area, before something is done or said about it."""
HARDLY = 0.001
"""Less of the area than this is not worth a word."""
APART = 0.4
"""Axes that differ by less than about this, rad, are one direction."""


@dataclass(frozen=True, eq=False)
class Covered:
    """From how many directions places are seen.

    Parameters
    ----------
    directions : array (K,)
        For each patch, up to `DIRECTIONS`.
    lacks : array (K,)
        Directions that it lacks of those that any pose could give.
    share : float
        Of the area that some pose sees, by place, that lacks none; 0 to 1.
    """

    directions: Ints
    lacks: Ints
    share: float


class Cover:
    """Which poses see which patches, ready for being asked again and again.

    Parameters
    ----------
    covers : array (P, K)
    """

    def __init__(self, covers: Bools, views: Views, patches: Patches) -> None:
        keys = row_keys(np.round(views.axes / APART).astype(np.int64))
        # Poses of one direction lie together, so that a sum over each run of them tells whether it sees a patch.
        self._order = np.argsort(keys, kind="stable")
        self._runs = np.cumsum(np.diff(keys[self._order], prepend=-1) != 0)
        self._covers, self._areas = covers, patches.areas
        self._sorted = np.ascontiguousarray(covers[self._order].T)
        self._most = self._directions(np.ones(len(covers), dtype=bool))
        self._reachable = float(patches.areas[self._most > 0].sum())

    def _directions(self, held: Bools) -> Ints:
        from juxtum.plan.targets import _tracking_kernels as kernels

        return np.asarray(kernels.directions(self._sorted, self._runs, held[self._order], DIRECTIONS))

    def of(self, held: Bools) -> Covered:
        """What some of the poses (P,) give."""
        there = self._directions(held)
        lacks = self._most - there
        full = float(self._areas[(lacks == 0) & (there > 0)].sum())
        return Covered(frozen(there, np.int64), frozen(lacks, np.int64), min(full / max(self._reachable, 1e-12), 1.0))

    @cached_property
    def _numbers(self) -> npt.NDArray[np.float32]:
        return self._covers.astype(np.float32)

    def wanted(self, covered: Covered) -> Floats:
        """Area (P,), mm2, that each pose would see and that still lacks a direction."""
        return np.asarray(self._numbers @ (self._areas * covered.lacks).astype(np.float32), dtype=np.float64)

    def area(self, held: Bools) -> float:
        """Area that some of the poses see at all, mm2."""
        return float(self._areas[self._covers[held].any(0)].sum())
