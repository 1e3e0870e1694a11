"""Points of a map sorted into places: small cubes of each face."""

from __future__ import annotations

from typing import Protocol

import numpy as np
import numpy.typing as npt

from juxtum.geometry.arrays import Bools, Floats, Ints
from juxtum.nominal import Nominal

Rows = npt.NDArray[np.int64]
TILE, SMALL, SHRINKING = 2.0, 40.0, 1.5
"""Side of a tile over which deviations are averaged, mm; on parts smaller than so many mm it is smaller by this power of the
size: of 5 mm, 0.1 mm. Its faces have to hold some dozens of them."""
FINE, COARSE = 5.0, 2.5
"""So many spacings is a tile wide at least: as many of a smaller part's, and of the spacing of a coarse scan."""


def tile_size(spacing: float, size: float) -> float:
    """Side of a tile for the spacing of a scan and the size of the part, mm."""
    return float(max(min(TILE, max(TILE * (size / SMALL) ** SHRINKING, FINE * spacing)), COARSE * spacing))


class MapPoints(Protocol):
    """What strays, noise and places ask of a map; it does not know them."""

    @property
    def points(self) -> Floats:
        """Part coordinates (N, 3), mm."""

    @property
    def feet(self) -> Floats:
        """Nearest points of the nominal (N, 3), mm."""

    @property
    def normals(self) -> Floats:
        """Of the nominal at the feet (N, 3)."""

    @property
    def distances(self) -> Floats:
        """Deviations (N,), mm."""

    @property
    def faces(self) -> Ints:
        """Rows of the nominal's faces (N,); -1 where there is no deviation."""

    @property
    def found(self) -> Bools:
        """Where there is a deviation (N,)."""

    @property
    def clear(self) -> Bools:
        """Clear of sharp edges (N,)."""

    @property
    def spacing(self) -> float:
        """Of the points, mm."""

    @property
    def nominal(self) -> Nominal:
        """The part as drawn."""


def cubes(deviation: MapPoints, rows: Rows, size: float) -> tuple[Rows, Rows]:
    """The cube (N, 3) of `size` mm in which the foot of each row lies, and a number (N,) of it and its face."""
    cells = np.floor(deviation.feet[rows] / size).astype(np.int64)
    cells -= cells.min(0)
    span = cells.max(0) + 1
    return cells, ((deviation.faces[rows].astype(np.int64) * span[0] + cells[:, 0]) * span[1] + cells[:, 1]) * span[
        2
    ] + cells[:, 2]


def sorted_into_places(deviation: MapPoints, rows: Rows, size: float) -> tuple[Rows, Rows, Rows]:
    """Order (N,) of some rows by place and then by deviation, and where each place starts and how many it holds (K,)."""
    _, keys = cubes(deviation, rows, size)
    order = np.lexsort([deviation.distances[rows], keys])
    starts = np.flatnonzero(np.r_[True, np.diff(keys[order]) != 0])
    return order, starts, np.diff(np.r_[starts, len(order)])
