"""Lines on a surface where values reach a level: found triangle by triangle, so that other levels cost next to nothing."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np

from juxtum.geometry.arrays import Floats, Ints


@dataclass(frozen=True, eq=False)
class Field:
    """Values on a surface, smoothed once for whatever levels are asked for.

    Parameters
    ----------
    points : array (N, 3)
    triangles : array (M, 3)
    values : array (N,)
        NaN where there is none: no line goes there.
    """

    points: Floats
    triangles: Ints
    values: Floats

    def along(self, level: float) -> Floats:
        """Segments (K, 2, 3) along which the values reach a level.

        Examples
        --------
        >>> corners = np.array([[0.0, 0, 0], [2, 0, 0], [0, 2, 0]])
        >>> Field(corners, np.array([[0, 1, 2]]), np.array([0.0, 1, 0])).along(0.5).tolist()
        [[[1.0, 1.0, 0.0], [1.0, 0.0, 0.0]]]
        """
        low, high = self._reach
        # A triangle with a corner that has no value has no reach either.
        rows = self.triangles[(low <= level) & (high > level)]
        corners = self.values[rows] > level
        count = corners.sum(1)
        # The corner that lies alone on its side; the line cuts the two edges that meet there.
        alone = np.where((count == 1)[:, None], corners, ~corners).argmax(1)
        line = np.arange(len(rows))
        first = rows[line, alone]
        ends = [self._between(first, rows[line, (alone + step) % 3], level) for step in (1, 2)]
        return np.stack(ends, axis=1)

    @cached_property
    def _reach(self) -> tuple[Floats, Floats]:
        """The lowest and highest value in each triangle (M,)."""
        a, b, c = (self.values[corner] for corner in self.triangles.T)
        return np.minimum(np.minimum(a, b), c), np.maximum(np.maximum(a, b), c)

    def _between(self, first: Ints, second: Ints, level: float) -> Floats:
        a, b = self.values[first], self.values[second]
        share = ((level - a) / np.where(a == b, 1.0, b - a))[:, None]
        return np.asarray(self.points[first] + share * (self.points[second] - self.points[first]))


def smoothed(values: Floats, triangles: Ints, rounds: int = 4) -> Floats:
    """Values (N,) evened out over their neighbours; NaN stays NaN."""
    from scipy.sparse import coo_matrix

    n = len(values)
    rows, columns = triangles.ravel(), np.roll(triangles, -1, axis=1).ravel()
    ends = np.r_[rows, columns], np.r_[columns, rows]
    graph = coo_matrix((np.ones(len(ends[0]), np.float32), ends), shape=(n, n)).tocsr()
    degree = np.maximum(np.asarray(graph.sum(1)).ravel(), 1)
    smooth = np.nan_to_num(values, nan=0.0)
    for _ in range(rounds):
        smooth = 0.4 * smooth + 0.6 * (graph @ smooth) / degree
    return np.asarray(np.where(np.isfinite(values), smooth, np.nan))
