"""Ties between two scans: the pose in which they agree best where they overlap, and what holds it."""

from __future__ import annotations

from dataclasses import dataclass, replace

from juxtum.align.best_fit import free_motions
from juxtum.align.scans.overlap import Follower, Overlap, band, over, overlap_of, usual
from juxtum.align.scans.sheet import Sheet
from juxtum.geometry import RigidTransform
from juxtum.geometry.arrays import Floats, frozen
from juxtum.geometry.registration import Pulls, Rounds, register

COARSE, FINE = 1500, 12_000
"""Points that are laid, first and last."""
LEAST_SHARE = 0.04
"""Scans that have less than this in common are not tied by their shape."""
LEAST_COUNT = 60
MOST_AGAINST = 0.12
"""So many points beside the other surface, for each one on it, speak against a pose."""
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
        o = self.overlap
        return o.share >= LEAST_SHARE and o.count >= LEAST_COUNT and o.against <= MOST_AGAINST

    @property
    def objection(self) -> str:
        """Why it is not good, in words; empty when it is."""
        o = self.overlap
        if o.share < LEAST_SHARE or o.count < LEAST_COUNT:
            return f"they have {100 * o.share:.0f} % in common, which is too little"
        if o.against > MOST_AGAINST:
            return f"where they overlap {100 * o.against / (1 + o.against):.0f} % of the points lie beside the other surface"
        return ""

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
        return _weighted(moved[found.rows], two.normals[found.others], found.heights, scale)

    return register(pulls_at, start, Rounds(24, 3e-6 * one.size, one.size, least=10, free=FREE, largest_turn=TURNED))


def _weighted(points: Floats, normals: Floats, heights: Floats, least: float = 0.0) -> Pulls:
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
    return _weighted(points[found.rows], two.normals[found.others], found.heights)
