"""The tolerance ruler: where zone, guard bands, value and whisker lie, in parts of its length."""

from __future__ import annotations

import math
from dataclasses import dataclass


@dataclass(frozen=True)
class Ruler:
    """Places on a ruler from 0 to 1.

    Parameters
    ----------
    zone : tuple
        Ends of the tolerance zone.
    safe : tuple
        Ends of the zone without its guard bands.
    ticks : tuple
        The limits.
    dot, whisker : optional
        The value and the ends of its expanded uncertainty; None when there is no value.
    """

    zone: tuple[float, float]
    safe: tuple[float, float]
    ticks: tuple[float, ...]
    dot: float | None
    whisker: tuple[float, float] | None


def lay_out(lower: float | None, upper: float | None, value: float, expanded: float, margin: float = 0.22) -> Ruler:
    """Lay a ruler out: the zone fills its middle, values far outside rest at its ends.

    Without any limit there is nothing to lay out. A zone with one limit reaches as far to the other side of zero.

    Examples
    --------
    >>> lay_out(-0.2, 0.2, 0.0, 0.02, margin=0.25).dot
    0.5
    """
    if lower is None and upper is None:
        return Ruler((0.0, 0.0), (0.0, 0.0), (), None, None)
    size = max(abs(upper or 0.0), abs(lower or 0.0), 1e-9)
    low = lower if lower is not None else -size if (upper or 0) > -size else (upper or 0) - size
    high = upper if upper is not None else size if (lower or 0) < size else (lower or 0) + size
    span = (high - low) / (1 - 2 * margin)
    start = low - margin * span

    def place(x: float) -> float:
        return min(max((x - start) / span, 0.0), 1.0)

    band = expanded if math.isfinite(expanded) else 0.0
    safe_low = place(low + band) if lower is not None else place(low)
    safe_high = place(high - band) if upper is not None else place(high)
    ticks = tuple(place(x) for x in (lower, upper) if x is not None)
    if not math.isfinite(value):
        return Ruler((place(low), place(high)), (safe_low, safe_high), ticks, None, None)
    whisker = (place(value - band), place(value + band))
    return Ruler((place(low), place(high)), (safe_low, max(safe_high, safe_low)), ticks, place(value), whisker)
