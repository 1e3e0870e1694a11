"""Points of a map sorted into places: small cubes of each face."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from juxtum.evaluate.deviation import Deviation

Rows = npt.NDArray[np.int64]


def cubes(deviation: Deviation, rows: Rows, size: float) -> tuple[Rows, Rows]:
    """The cube (N, 3) of `size` mm in which the foot of each row lies, and a number (N,) of it and its face."""
    cells = np.floor(deviation.feet[rows] / size).astype(np.int64)
    cells -= cells.min(0)
    span = cells.max(0) + 1
    return cells, ((deviation.faces[rows].astype(np.int64) * span[0] + cells[:, 0]) * span[1] + cells[:, 1]) * span[2] + cells[:, 2]


def sorted_into_places(deviation: Deviation, rows: Rows, size: float) -> tuple[Rows, Rows, Rows]:
    """Order (N,) of some rows by place and then by deviation, and where each place starts and how many it holds (K,)."""
    _, keys = cubes(deviation, rows, size)
    order = np.lexsort([deviation.distances[rows], keys])
    starts = np.flatnonzero(np.r_[True, np.diff(keys[order]) != 0])
    return order, starts, np.diff(np.r_[starts, len(order)])
