"""From where to come with the scanner in each position of a part: the few sides that show its surface while tracking."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import product

import numpy as np

from juxtum.geometry.arrays import Bools, Floats, Ints, unit
from juxtum.plan.targets.covering import DIRECTIONS
from juxtum.plan.targets.ground import Ground

AROUND = (("left", "right"), ("front", "back"), ("below", "above"))
SIDES = np.array([way for way in product((-1, 0, 1), repeat=3) if any(way)], dtype=float)
PLAINER = 0.03
"""Of the area that a side between others must show more than a plain one, for each direction that it mixes."""
ENOUGH = 0.02
"""A side that would add less of the area than this is not named: the hand sweeps a little round each of them."""


@dataclass(frozen=True, eq=False)
class Approach:
    """A side from which a part is scanned.

    Parameters
    ----------
    position : int
        0 as the part stands, 1 turned over.
    way : array (3,)
        -1, 0 or 1 along X, Y and Z of the table as the part lies then: from the part towards the scanner.
    """

    position: int
    way: Floats

    @property
    def direction(self) -> Floats:
        """From the part towards the scanner, table coordinates, unit (3,)."""
        return unit(self.way)

    @property
    def words(self) -> str:
        """As said to whoever holds the scanner, such as "left above"."""
        return way_words(self.way)


def way_words(way: Floats | Sequence[int]) -> str:
    """A direction by the sides it mixes: -1, 0 or 1 along X, Y and Z."""
    return " ".join(AROUND[k][int(v > 0)] for k, v in enumerate(way) if v)


def approaches(ground: Ground, holds: Bools) -> tuple[Approach, ...]:
    """The sides, in the order of scanning: position by position, the fullest first and the nearest to it next.

    Parameters
    ----------
    holds : array (P,)
        Poses that track.
    """
    side, position = _sides(ground), ground.views.setups
    groups = sorted({(int(position[k]), int(side[k])) for k in np.flatnonzero(holds)})
    if not groups:
        return ()
    covers = np.stack([ground.covers[holds & (position == p) & (side == s)].any(0) for p, s in groups])
    chosen = _fewest(covers, ground.patches.areas, np.array([np.abs(SIDES[s]).sum() for _, s in groups]))
    made: list[Approach] = []
    for turn in range(len(ground.views.turned)):
        ways = [SIDES[groups[k][1]] for k in chosen if groups[k][0] == turn]
        made += [Approach(turn, way) for way in _one_after_the_other(ways)]
    return tuple(made)


def _one_after_the_other(ways: list[Floats]) -> list[Floats]:
    """What shows most comes first, since there targets are learnt that tie what follows; then the nearest each time."""
    order, left = ways[:1], ways[1:]
    while left:
        near = [float(unit(way) @ unit(order[-1])) for way in left]
        order.append(left.pop(int(np.argmax(near))))
    return order


def _sides(ground: Ground) -> Ints:
    """For each pose, the row of `SIDES` nearest to where it looks from, as the part lies then."""
    turns = np.stack([t.rotation for t in ground.views.turned])
    towards = np.einsum("pij,pj->pi", turns[ground.views.setups], -ground.views.axes)
    return np.asarray(np.argmax(towards @ unit(SIDES).T, axis=1))


def _fewest(covers: Bools, areas: Floats, mixes: Floats) -> list[int]:
    """Sides (rows of covers) that show every patch as often as they can, up to twice; by greedy choice, plain ones first."""
    lacks = np.minimum(covers.sum(0), DIRECTIONS).astype(float)
    total = float((areas * lacks).sum())
    chosen: list[int] = []
    while True:
        gains = covers @ (areas * (lacks > 0) * lacks) / max(total, 1e-12)
        gains[chosen] = 0
        worth = gains - PLAINER * gains.max(initial=0.0) * (mixes - 1)
        best = int(np.argmax(worth))
        if gains[best] < ENOUGH:
            return chosen
        chosen.append(best)
        lacks = np.maximum(lacks - covers[best], 0)
