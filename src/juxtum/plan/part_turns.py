"""The part turned before one tracker position, where turning it is less work than carrying the tracker round it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from juxtum.geometry.arrays import Bools, Floats, Ints, frozen
from juxtum.plan.covering import fewest_rows


@dataclass(frozen=True, eq=False)
class Ring:
    """Candidate places of a tracker at one distance and one height, evenly round the middle of the part.

    Parameters
    ----------
    rows : array (R,)
        Of the candidates, in the order of their angles.
    step : float
        Degrees between two.
    """

    rows: Ints
    step: float


@dataclass(frozen=True, eq=False)
class PartTurns:
    """One place for the tracker, and how far the part is turned before it, step by step.

    Parameters
    ----------
    place, axis : array (3,)
        Of the tracker, table coordinates.
    degrees : tuple of float
        About the vertical through the part's middle, counter-clockwise as seen from above; the first is 0.
    share : float
        Of all poses that are served then.
    is_proven : bool
        Whether it is proven that fewer turns cannot do at this distance and height.
    """

    place: Floats
    axis: Floats
    degrees: tuple[float, ...]
    share: float
    is_proven: bool

    @property
    def words(self) -> str:
        """For a list."""
        count = len(self.degrees)
        if count == 1:
            return "one position serves it as it stands"
        steps = ", ".join(f"{angle:.0f}\u00b0" for angle in self.degrees)
        often = "once" if count == 2 else f"{count - 1} times"
        return f"one position, and the part turned before it {often}: {steps}"


def turns_before_one(
    seen: Bools, rings: Sequence[Ring], places: tuple[Floats, Floats], needed: int
) -> PartTurns | None:
    """Fewest turns of the part before one place; none where no ring serves the wanted poses.

    A tracker that is carried round by an angle and a part that is turned back by it see the same, as long as nothing but
    the part stands in the way: so the places of one ring that serve all poses together are the turns that are needed.

    Parameters
    ----------
    seen : array (S, P)
        Which candidates see the cage at which poses, with nothing in the way but the part.
    places : pair of array (S, 3)
        Candidates and where they look.
    needed : int
        So many poses must be served.

    Examples
    --------
    >>> seen = np.array([[True, False, False], [False, True, False], [False, False, True], [True, True, False]])
    >>> ring = Ring(np.array([0, 1, 2, 3]), 90.0)
    >>> made = turns_before_one(seen, [ring], (np.eye(4, 3), np.eye(4, 3)), 3)
    >>> made.degrees, made.share, made.words
    ((0.0, 270.0), 1.0, 'one position, and the part turned before it once: 0°, 270°')
    """
    best: PartTurns | None = None
    for ring in rings:
        mine = seen[ring.rows]
        if int(mine.any(0).sum()) < needed:
            continue
        chosen, proven = fewest_rows(mine, needed)
        if best is not None and len(chosen) >= len(best.degrees):
            continue
        order = np.sort(chosen)
        first = ring.rows[order[0]]
        # Carried on counter-clockwise, the tracker would see what it sees when the part is turned clockwise.
        angles = tuple(float((-(k - order[0]) * ring.step) % 360) for k in order)
        share = float(mine[order].any(0).mean())
        best = PartTurns(
            frozen(places[0][first]), frozen(places[1][first]), tuple(sorted(angles)), share, proven
        )  # fmt: skip
    return best
