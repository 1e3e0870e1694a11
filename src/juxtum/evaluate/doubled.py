"""Whether a scan shows the part twice: two layers of surface, one over the other."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from juxtum.evaluate.deviation import Deviation
from juxtum.evaluate.places import sorted_into_places
from juxtum.geometry.arrays import Floats

LEAST_SHARE = 0.05
"""Steps and ledges show two heights in a few places; a doubled scan does so wherever both layers reach."""
LEAST_IN_CELL = 8
LEAST_GAP = 0.05
"""mm."""
CLEARLY = 6.0
"""A gap this many times as wide as either layer is thick parts two layers."""
BOTH = 0.3
"""Both layers hold at least this share of a cell's points."""


@dataclass(frozen=True)
class Doubling:
    """How much of the seen area lies in two layers (0 to 1), and how far they are apart, mm."""

    share: float
    apart: float

    @property
    def sentence(self) -> str:
        """What is wrong, and where it may come from."""
        return (
            f"the scan is double over {100 * self.share:.0f} % of its area: two layers about {self.apart:.2f} mm apart"
        )


def find_doubling(deviation: Deviation) -> Doubling | None:
    """Two layers in the deviations of one place, in more places than steps of a surface would show them."""
    rows = np.flatnonzero(deviation.clear)
    if len(rows) < 10 * LEAST_IN_CELL:
        return None
    order, starts, counts = sorted_into_places(deviation, rows, 4 * max(deviation.spacing, 0.05))
    d = deviation.distances[rows][order]
    gaps = _gaps(d, starts, counts)
    large = counts >= LEAST_IN_CELL
    double = large & np.isfinite(gaps)
    share = float(counts[double].sum() / max(counts[large].sum(), 1))
    return Doubling(share, float(np.median(gaps[double]))) if share > LEAST_SHARE else None


def _gaps(d: Floats, starts: npt.NDArray[np.int64], counts: npt.NDArray[np.int64]) -> Floats:
    """Distance between the two layers of each cell; NaN where there is one layer. Values rise within each cell."""
    result = np.full(len(starts), np.nan)
    cell = np.repeat(np.arange(len(starts)), counts)
    place = np.arange(len(d)) - starts[cell]
    step = np.diff(d, append=np.nan)
    inner = (place >= BOTH * counts[cell] - 1) & (place < (1 - BOTH) * counts[cell])
    step = np.where(inner, step, -1.0)
    widest = np.maximum.reduceat(step, starts)
    for index in np.flatnonzero((widest > LEAST_GAP) & (counts >= LEAST_IN_CELL)):
        mine = d[starts[index] : starts[index] + counts[index]]
        cut = int(np.argmax(step[starts[index] : starts[index] + counts[index]])) + 1
        low, high = mine[:cut], mine[cut:]
        if widest[index] > CLEARLY * max(float(low.std()), float(high.std())):
            result[index] = float(high.mean() - low.mean())
    return result
