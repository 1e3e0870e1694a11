"""How two scans overlap as they are laid: how much of them is common, how well it agrees, and what contradicts it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from juxtum.align.scans.sheet import Sheet
from juxtum.geometry import RigidTransform
from juxtum.geometry.arrays import Bools, Floats, Ints

LOOKED_AT = 3000
MANY = 20_000
ALIKE = 0.7
"""Cosine from which two directions count as the same side of one surface."""
STILL = 0.1
"""Points that went no farther than this share of the spacing keep their neighbours."""
LEAST_SHARE = 0.04
"""Scans that have less than this in common are not tied by their shape."""
LEAST_COUNT = 60
MOST_AGAINST = 0.12
"""So many points beside the other surface, for each one on it, speak against a pose."""
BESIDE = 1.6
"""A point lies over another scan when it is no farther from one of its points along the surface than so many spacings."""


@dataclass(frozen=True)
class Overlap:
    """What two scans have in common.

    Parameters
    ----------
    share : float
        Of the smaller one's area, 0 to 1.
    rms : float
        Of the heights between them there, mm.
    against : float
        Points that lie beside the other's surface, near and facing alike but not on it, for each point that lies on it.
    count : int
        Points that were looked at and lie on the other.
    """

    share: float
    rms: float
    against: float
    count: int

    @property
    def objection(self) -> str:
        """Why faces do not bear it, in words; empty where they do."""
        if self.share < LEAST_SHARE or self.count < LEAST_COUNT:
            return f"they have {100 * self.share:.0f} % in common, which is too little"
        if self.against > MOST_AGAINST:
            beside = 100 * self.against / (1 + self.against)
            return f"where they overlap {beside:.0f} % of the points lie beside the other surface"
        return ""


@dataclass(frozen=True, eq=False)
class Over:
    """Points of one scan over another: their rows, the rows of the other's points, and heights along its normals, mm."""

    rows: Ints
    others: Ints
    heights: Floats


class Follower:
    """Which points of another scan lie nearest, as some points move over it round by round.

    Most rounds move them by next to nothing: their neighbours are asked for anew only where one has gone farther than a
    share of the spacing. What is measured is always measured where the points are.

    Parameters
    ----------
    onto : Sheet
    """

    def __init__(self, onto: Sheet) -> None:
        self._onto = onto
        self._asked: Floats | None = None
        self._reach = 0.0
        self._others: Ints = np.empty(0, dtype=np.int64)
        self._found: Bools = np.empty(0, dtype=bool)

    def over(self, moved: Floats, turned: Floats, reach: float, *, anew: bool = False) -> Over:
        """Which of the points (N, 3), with directions (N, 3), lie over the scan, facing alike, within a reach in mm.

        Parameters
        ----------
        anew : bool
            Whether neighbours are asked for however little the points moved.
        """
        onto = self._onto
        slack = STILL * onto.spacing
        if anew or self._asked is None or reach > self._reach or self._went(moved) > slack**2:
            limit = float(np.hypot(reach, BESIDE * onto.spacing)) + (0.0 if anew else slack)
            # Threads cost more than they bring where few places are asked.
            workers = -1 if len(moved) > MANY else 1
            distances, others = onto.tree.query(moved, distance_upper_bound=limit, workers=workers)
            self._found = np.isfinite(distances)
            self._others = np.where(self._found, others, 0)
            self._asked, self._reach = moved, reach
        others, found = self._others, self._found.copy()
        arms, normals = moved - onto.points[others], onto.normals[others]
        heights = np.einsum("ij,ij->i", arms, normals)
        squares = np.einsum("ij,ij->i", arms, arms)
        found &= (np.einsum("ij,ij->i", turned, normals) > ALIKE) & (np.abs(heights) <= reach)
        found &= (squares - heights**2 < (BESIDE * onto.spacing) ** 2) & ~onto.border[others]
        rows = np.flatnonzero(found)
        return Over(rows, others[rows], heights[rows])

    def _went(self, moved: Floats) -> float:
        """Square of how far the farthest point has gone since its neighbours were asked for, mm2."""
        steps = moved - (moved if self._asked is None else self._asked)
        return float(np.einsum("ij,ij->i", steps, steps).max(initial=0.0))


def over(moved: Floats, turned: Floats, onto: Sheet, reach: float) -> Over:
    """Which of some points (N, 3), with directions (N, 3), lie over another scan, facing alike, within a reach in mm."""
    return Follower(onto).over(moved, turned, reach, anew=True)


def usual(heights: Floats) -> float:
    """Robust standard deviation of heights about zero, mm."""
    return 1.4826 * float(np.median(np.abs(heights))) if len(heights) else 0.0


def overlap_of(first: Sheet, second: Sheet, move: RigidTransform, noise: float = 0.0) -> Overlap:
    """How the first scan, moved, and the second overlap; looked at from both.

    Parameters
    ----------
    noise : float
        What heights may be without contradicting, standard deviation in mm; estimated from them when 0.
    """
    one, two = _seen_from(first, second, move, noise), _seen_from(second, first, move.inverse, noise)
    share = max(one[0], two[0])
    count, squares = one[1] + two[1], one[2] + two[2]
    return Overlap(share, float(np.sqrt(squares / max(count, 1))), (one[3] + two[3]) / max(count, 1), count)


def _seen_from(first: Sheet, second: Sheet, move: RigidTransform, noise: float) -> tuple[float, int, float, int]:
    """Share, count and squares of what lies on the other, and how many points contradict."""
    some = first.some(LOOKED_AT)
    points, normals = move.apply(first.points[some]), move.turn(first.normals[some])
    reach = band(first, second)
    near = over(points, normals, second, reach)
    if len(near.rows) == 0:
        return 0.0, 0, 0.0, 0
    on = lies_on(near.heights, noise or usual(near.heights), reach)
    return len(on.nonzero()[0]) / len(points), int(on.sum()), float((near.heights[on] ** 2).sum()), int((~on).sum())


def band(first: Sheet, second: Sheet) -> float:
    """Within this of a surface a point that does not lie on it speaks against the pose, mm."""
    return max(5 * max(first.spacing, second.spacing), min(first.size, second.size) / 60)


def lies_on(heights: Floats, noise: float, reach: float) -> Bools:
    """Heights (N,) that noise explains."""
    return np.asarray(np.abs(heights) <= min(max(4 * noise, reach / 50), reach / 4))
