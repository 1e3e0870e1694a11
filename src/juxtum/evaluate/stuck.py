"""Whether reference targets are still in a scan: the places that stand out of the part most are thin round discs."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from juxtum.assemble.finishing.discs import Disc, discs_near
from juxtum.evaluate.deviation import Deviation
from juxtum.evaluate.extrema import find_peaks
from juxtum.geometry.arrays import Floats

LOOKED_AT = 20
"""So many of the highest places are looked at."""
DIAMETERS = (6.0, 8.0, 10.0, 12.5)
"""Of whole targets, mm; each search finds those a fifth larger and smaller too."""
LEAST = 0.03
"""What rises by less hides in no tolerance that matters, mm."""
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
    from scipy.spatial import cKDTree

    peaks = [peak for peak in find_peaks(deviation, 0.0, 0.0) if peak.value > LEAST][:LOOKED_AT]
    if not peaks:
        return None
    rows = np.flatnonzero(deviation.found)
    tree = cKDTree(deviation.points[rows])
    starts = np.array([deviation.points[peak.row] for peak in peaks]), np.array([peak.normal for peak in peaks])
    best: tuple[Disc, ...] = ()
    for diameter in DIAMETERS:
        near = tree.query_ball_point(starts[0], AROUND * diameter)
        mine = rows[np.unique(np.concatenate(near).astype(np.int64))]
        surface: tuple[Floats, Floats] = deviation.points[mine], deviation.normals[mine]
        found = discs_near(surface, starts, diameter)
        best = found if len(found) > len(best) else best
        if 2 * len(best) >= len(peaks):
            break
    return Stuck(best) if best else None
