"""Whether reference targets are still in a scan: the places that stand out of the part most are thin round discs."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from juxtum.assemble.finishing.discs import Disc, discs_near
from juxtum.evaluate.characteristics import counting_rows
from juxtum.evaluate.deviation import Deviation
from juxtum.evaluate.extrema import APART, prominent
from juxtum.evaluate.tiles import make_tiles
from juxtum.geometry.arrays import Ints

LOOKED_AT = 20
"""So many of the highest places are looked at."""
DIAMETERS = (6.0, 8.0, 10.0, 12.5)
"""Of whole targets, mm; each search finds those a fifth larger and smaller too."""
LEAST = 0.03
"""What rises by less hides in no tolerance that matters, mm."""
ENOUGH = 400_000
"""Of more points some tell the highest places as well."""
AROUND = 2.0
"""The surface about a place is looked at as far as so many diameters."""


@dataclass(frozen=True, eq=False)
class Stuck:
    """Discs that were found among the highest places of a map."""

    discs: tuple[Disc, ...]

    @property
    def sentence(self) -> str:
        """What they are like, where the highest is, and what to do."""
        highest = max(self.discs, key=lambda disc: disc.height)
        across = float(np.median([disc.diameter for disc in self.discs]))
        where = " ".join(f"{x:.0f}" for x in highest.place)
        some = f"{len(self.discs)} of the highest places are" if len(self.discs) > 1 else "one of the highest places is"
        return (
            f"{some} round, {across:.1f} mm across and up to {highest.height:.2f} mm high, as reference targets are (at {where}): "
            "they count as the part's surface; take targets off at Assemble, or with 'juxtum finish --targets-off by-shape'"
        )


def find_stuck(deviation: Deviation) -> Stuck | None:
    """Discs at the highest places; None where there are none.

    A disc that the drawing has is no high place of the map.
    """
    high = _highest(deviation)
    if not len(high):
        return None
    starts = deviation.points[high], deviation.normals[high]
    near = np.zeros(len(deviation.points), dtype=bool)
    for place in starts[0]:
        near |= (np.abs(deviation.points - place) < AROUND * DIAMETERS[-1]).all(1)
    near &= deviation.found
    surface = deviation.points[near], deviation.normals[near]
    best: tuple[Disc, ...] = ()
    for diameter in DIAMETERS:
        found = discs_near(surface, starts, diameter)
        best = found if len(found) > len(best) else best
        if 2 * len(best) >= len(high):
            break
    return Stuck(best) if best else None


def _highest(deviation: Deviation) -> Ints:
    """Rows of the places that stand out most, the highest first."""
    rows = counting_rows(deviation, ())
    rows = rows[:: max(1, len(rows) // ENOUGH)]
    if len(rows) == 0:
        return rows
    tiles = make_tiles(deviation, rows, deviation.distances[rows])
    high = np.flatnonzero(tiles.means > LEAST)
    if len(high) == 0:
        return high
    means, reach = tiles.means[high], APART * deviation.tile
    chosen = np.array(prominent(deviation.feet[tiles.rows[high]], means, reach, LEAST))
    return np.asarray(tiles.rows[high[chosen[np.argsort(-means[chosen])[:LOOKED_AT]]]])
