"""Ties between two scans: the pose in which they agree best where they overlap, and what holds it."""

from __future__ import annotations

from dataclasses import dataclass, replace

from juxtum.align.best_fit import free_motions
from juxtum.align.scans.overlap import LEAST_COUNT, Follower, Overlap, band, over, overlap_of, usual
from juxtum.align.scans.sheet import Sheet
from juxtum.geometry import RigidTransform
from juxtum.geometry.arrays import Floats, frozen
from juxtum.geometry.registration import Pulls, Rounds, register

COARSE, FINE = 1500, 12_000
"""Points that are laid, first and last."""
TURNED = 0.3
FREE = 2e-4
"""A motion that is held by less than this share of what holds the best held one is free."""


@dataclass(frozen=True, eq=False)
class Tie:
    """One scan laid onto another.

    Parameters
    ----------
    first, second : int
        Their places in the list.
    move : RigidTransform
        From the first scan's frame into the second's.
    overlap : Overlap
    free : tuple of str
        Motions that their overlap leaves free, in words.
    is_used : bool
        Whether it takes part in joining all.
    reason : str
        Why it does not, or how it came about.
    """

    first: int
    second: int
    move: RigidTransform
    overlap: Overlap
    free: tuple[str, ...] = ()
    is_used: bool = True
    reason: str = ""
    is_given: bool = False
    """Whether a person or targets gave it: then it is not asked whether the shape alone would hold it."""

    @property
    def is_good(self) -> bool:
        """Whether shape alone bears it."""
        return not self.overlap.objection

    def without(self, reason: str) -> Tie:
        """The same, left out for a reason."""
        return replace(self, is_used=False, reason=reason)


def tied(sheets: list[Sheet], first: int, second: int, start: RigidTransform, reach: float | None = None) -> Tie | None:
    """Lay a scan onto another, beginning near the right pose.

    Parameters
    ----------
    start : RigidTransform
        From the first scan's frame into the second's.
    reach : float, optional
        How far off the start may be, mm; from the scans' own spacing when not given.

    Returns
    -------
    Tie or None
        None when they do not overlap there at all.
    """
    one, two = sheets[first], sheets[second]
    far = band(one, two) if reach is None else reach
    fine = max(3.0 * max(one.spacing, two.spacing), 1e-6)
    found = _laid(one, two, start, far, fine, COARSE)
    found = None if found is None else _laid(one, two, found, fine, fine / 2, FINE)
    if found is None:
        return None
    pulls = pulls_between(one, two, found, fine)
    free = () if pulls is None else free_motions(pulls, one.size, FREE)
    return Tie(first, second, found, overlap_of(one, two, found), free)


def _laid(one: Sheet, two: Sheet, start: RigidTransform, far: float, near: float, count: int) -> RigidTransform | None:
    some = one.some(count)
    points, normals, follower = one.points[some], one.normals[some], Follower(two)

    def pulls_at(move: RigidTransform, index: int) -> Pulls | None:
        reach = max(near, far * 0.7**index)
        moved = move.apply(points)
        found = follower.over(moved, move.turn(normals), reach)
        if len(found.rows) < LEAST_COUNT // 2:
            return None
        # While it is still off, the few points that tell so must not count as strays.
        scale = far / 2 * 0.7**index
        return weighted(moved[found.rows], two.normals[found.others], found.heights, scale)

    return register(pulls_at, start, Rounds(24, 3e-6 * one.size, one.size, least=10, free=FREE, largest_turn=TURNED))


def weighted(points: Floats, normals: Floats, heights: Floats, least: float = 0.0) -> Pulls:
    """Onto the other's planes; what lies off by more than noise counts less (Geman and McClure 1987)."""
    scale = max(3 * usual(heights), least, 1e-9) ** 2
    return Pulls(points, normals, heights, frozen((scale / (scale + heights**2)) ** 2))


def pulls_between(one: Sheet, two: Sheet, move: RigidTransform, reach: float) -> Pulls | None:
    """The planes of the second scan on which points of the first lie."""
    some = one.some(FINE)
    points, normals = move.apply(one.points[some]), move.turn(one.normals[some])
    found = over(points, normals, two, reach)
    if len(found.rows) < LEAST_COUNT // 2:
        return None
    return weighted(points[found.rows], two.normals[found.others], found.heights)
