"""Words about readings that belong together."""

from __future__ import annotations

import numpy as np

from juxtum.evaluate import Reading
from juxtum.job.steps import GridStep
from juxtum.wording import signed


def grid_of(label: str, steps: tuple[object, ...]) -> GridStep | None:
    """The grid that a reading belongs to."""
    return next((s for s in steps if isinstance(s, GridStep) and label.startswith(f"{s.label}.")), None)


def grid_words(grid: GridStep, readings: tuple[Reading, ...]) -> str:
    """What a grid says of its face: as stock before machining, least, largest, mean and volume."""
    mine = [r for r in readings if r.label.startswith(f"{grid.label}.")]
    seen = np.array([r.deviation for r in mine if r.is_seen])
    if len(seen) == 0:
        return f"{grid.label}: nothing of it was seen."
    area = len(seen) * grid.spacing**2
    volume = float(seen.mean()) * area
    words = f"{grid.label}: {signed(float(seen.min()))} to {signed(float(seen.max()))}, mean {signed(float(seen.mean()))} mm"
    rest = f"; {len(mine) - len(seen)} of {len(mine)} not seen" if len(seen) < len(mine) else ""
    return f"{words}; {signed(volume, 0)} mm\u00b3 over {area:.0f} mm\u00b2{rest}."
