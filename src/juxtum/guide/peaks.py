"""Words about places at which the map is worst."""

from __future__ import annotations

from juxtum.evaluate.extrema import Peak
from juxtum.wording import signed


def peak_words(peak: Peak, index: int, count: int) -> str:
    """One of the worst places in a sentence.

    Examples
    --------
    >>> import numpy as np
    >>> peak_words(Peak(-0.3, np.array([1.0, 2, 3]), np.array([0.0, 0, 1]), 12, 0, 0.5), 0, 8)
    '1 of 8: −0.300 mm on face 12 at 1.0, 2.0, 3.0; beyond the limits of the map'
    """
    place = ", ".join(f"{x:.1f}" for x in peak.place).replace("-", "\u2212")
    beyond = "; beyond the limits of the map" if peak.excess > 0 else ""
    return f"{index + 1} of {count}: {signed(peak.value, 3)} mm on face {peak.face} at {place}{beyond}"
