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


@dataclass(frozen=True, eq=False)
class Over:
    """Points of one scan over another: their rows, the rows of the other's points, and heights along its normals, mm."""

    rows: Ints
    others: Ints
    heights: Floats


def over(moved: Floats, turned: Floats, onto: Sheet, reach: float) -> Over:
    """Which of some points (N, 3), with directions (N, 3), lie over another scan, facing alike, within a reach in mm."""
    limit = float(np.hypot(reach, BESIDE * onto.spacing))
    # Threads cost more than they bring where few places are asked.
    workers = -1 if len(moved) > MANY else 1
    distances, others = onto.tree.query(moved, distance_upper_bound=limit, workers=workers)
    found = np.isfinite(distances)
    others = np.where(found, others, 0)
    heights = np.einsum("ij,ij->i", moved - onto.points[others], onto.normals[others])
    beside = np.sqrt(np.maximum(distances**2 - heights**2, 0.0, where=found, out=np.zeros(len(found))))
    found &= (np.einsum("ij,ij->i", turned, onto.normals[others]) > ALIKE) & (np.abs(heights) <= reach)
    found &= (beside < BESIDE * onto.spacing) & ~onto.border[others]
    rows = np.flatnonzero(found)
    return Over(rows, others[rows], heights[rows])


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
