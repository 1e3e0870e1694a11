"""Tiles: small squares of a surface over which deviations are averaged, since single points carry noise."""

from __future__ import annotations

from dataclasses import dataclass, fields, replace
from functools import cached_property
from typing import Any

import numpy as np
import numpy.typing as npt

from juxtum.evaluate.deviation import Deviation
from juxtum.evaluate.places import cubes
from juxtum.geometry.arrays import Floats

LEAST_POINTS = 4
FILLED = 0.4
"""A tile counts when it holds this share of the points that a full one would."""
SHAPED, ROUGHEST = 10.0, 5.0
"""Means of tiles side by side that differ, in squares, by so many times what the scatter within them explains differ by shape: of a
slope it is 24 and more. Nor is scatter noise that is so many times the usual: seen from the side it becomes three times as much."""
ABOUT, TOLD, TURNING = 4, 12, -0.15
"""Means that go up and down are looked at so many tiles about, in so many threes at least; more than chance gives of so many, and less
alike from one to the next than this (-2/3 where they are white noise, above 0 where they are shape), they are noise."""
STRAIGHT = 0.85
"""A direction along which noise is this much less than along all is one in which the shape does not bend."""
Rows = npt.NDArray[np.int64]


@dataclass(frozen=True, eq=False)
class Told:
    """Standard uncertainty of some means (K,), mm, degrees of freedom with which it is known, and of how many they are a part."""

    noise: Floats
    freedom: float
    among: int


@dataclass(frozen=True, eq=False)
class Tiles:
    """Means over tiles of each face.

    Parameters
    ----------
    means : array (K,)
        mm.
    counts : array (K,)
    rows : array (K,)
        The point nearest to each tile's middle, as a row of the deviation.
    cells : array (K, 3)
        Number of the cube that makes each tile.
    faces : array (K,)
    spreads : array (K,)
        Standard deviation of the points within each tile, mm; of a single one that of single points anywhere.
    told : Told, optional
        How noisy they are by all the tiles of which these are a part; None where they tell it themselves.
    """

    means: Floats
    counts: Rows
    rows: Rows
    cells: Rows
    faces: Rows
    spreads: Floats
    told: Told | None = None

    def some(self, rows: npt.NDArray[Any]) -> Tiles:
        """Some of them, by row or by a mask, which tell their noise themselves."""
        return Tiles(*(getattr(self, field.name)[rows] for field in fields(self) if field.name != "told"))

    def part(self, rows: npt.NDArray[Any], times: float = 1.0) -> Tiles:
        """Some of them, by row or by a mask, as noisy as all together tell: few tell it badly, and the worst of many slices is the one that errs.

        Parameters
        ----------
        times : float
            So many times as noisy: of widths, which have the noise of two sides, the root of 2.
        """
        return replace(self.some(rows), told=Told(times * self.noise[rows], self.freedom, self.among))

    @property
    def among(self) -> int:
        """So many chances there were for one to stand out."""
        return self.told.among if self.told is not None else len(self.means)

    @cached_property
    def noise(self) -> Floats:
        """Standard uncertainty of each mean (K,), mm.

        Two tiles side by side differ by the noise of both and by the shape, which is smooth; so the median size of
        that difference, taken over all neighbours, tells the noise of a mean whatever the correlation of its points.
        Where there are too few neighbours, it follows from the spread within, as if points were independent.
        """
        if self.told is not None:
            return self.told.noise
        # Of few points the spread about their own mean is too small, by n / (n - 1); of one it is that of all.
        within = float(np.sqrt(np.mean(self.spreads**2 / np.where(self.counts > 1, self.counts - 1, 1))))
        first, second = self._beside
        if len(first) < 12:
            return np.asarray(within * np.sqrt(np.median(self.counts) / self.counts) * 1.4)
        size = np.sqrt(1 / self.counts[first] + 1 / self.counts[second])
        unit_noise = 1.4826 * float(np.median(np.abs(self.means[first] - self.means[second]) / size))
        unit_noise = min(unit_noise, self._noise_along_lines())
        unit_noise = max(unit_noise, 0.5 * within * np.sqrt(np.median(self.counts)))
        return np.asarray(unit_noise * self._rougher() / np.sqrt(self.counts))

    def _rougher(self) -> Floats:
        """How much noisier each tile (K,) is than most: where a surface was seen from the side its points scatter more.

        Of the scatter within it and the tiles beside it; what chance would give of so many points says nothing. Nor does
        scatter where the means themselves differ by more than it explains: that is the shape of a bump or a dent.
        """
        (first, second), (to, of), n = self._beside, self._together, len(self.means)
        counts = np.bincount(to, self.counts[of], n)
        within = np.bincount(to, self.counts[of] * self.spreads[of] ** 2, n) / counts
        apart = (self.means[first] - self.means[second]) ** 2 / (1 / self.counts[first] + 1 / self.counts[second])
        ends = np.concatenate([first, second])
        between = np.bincount(ends, np.tile(apart, 2), n) / np.maximum(np.bincount(ends, minlength=n), 1)
        ratio = np.sqrt(within) / max(float(np.median(self.spreads)), 1e-12)
        is_noise = (ratio > 1 + 2 / np.sqrt(counts)) & (ratio < ROUGHEST) & (between < SHAPED * within)
        return np.maximum(np.where(is_noise, ratio, 1.0), self._restless())

    def _restless(self) -> Floats:
        """How much noisier each tile (K,) is than most by how means go up and down about it: where few lines passed, points of a tile err alike.

        Of three in a row the middle lies off the mean of the others. Noise changes its side from one three to the next (white,
        by -2/3) and knows nothing of the row beside it; a bump does not, and a step is the same in the row beside it.
        """
        n, (to, of) = len(self.means), self._together
        squares, alike, number = (np.zeros(n) for _ in range(3))
        beside = _beside_along(self.cells, self.faces)
        for before, middle, after in _rows_of_three(self.cells, self.faces):
            off = np.zeros(n)
            off[middle] = self._off_the_mean(before, middle, after)
            squares += off**2
            number[middle] += 1
            for following in beside:
                alike += np.where(following >= 0, off * off[following], 0.0)
        sums: Floats = np.stack([squares, alike, number])
        for _ in range(ABOUT):
            sums = np.stack([np.bincount(to, values[of], n) for values in sums])
        squares, alike, number = sums
        rms = np.sqrt(squares / np.maximum(number, 1))
        ratio = rms / max(float(np.median(rms)), 1e-12)
        # Nearer threes count more often: of so many about the root are worth one each.
        chance = 2 / np.sqrt(2 * np.sqrt(np.maximum(number, 1)))
        is_noise = (number >= TOLD) & (ratio > 1 + chance) & (ratio < ROUGHEST) & (alike < TURNING * squares)
        return np.where(is_noise, ratio, 1.0)

    def _noise_along_lines(self) -> float:
        """The same from three tiles in a row, whose middle lies off the mean of the others by noise alone where the shape is steep.

        Where one direction has clearly less of it than all together, it alone counts: along a wall the shape does not
        bend, across it does.
        """
        ratios = [np.abs(self._off_the_mean(*rows)) for rows in _rows_of_three(self.cells, self.faces)]
        together = np.concatenate(ratios)
        if len(together) < 12:
            return float("inf")
        least = min((float(np.median(ratio)) for ratio in ratios if len(ratio) >= 24), default=np.inf)
        whole = float(np.median(together))
        return 1.4826 * (least if least < STRAIGHT * whole else whole)

    def _off_the_mean(self, before: Rows, middle: Rows, after: Rows) -> Floats:
        off = self.means[middle] - (self.means[before] + self.means[after]) / 2
        return off / np.sqrt(1 / self.counts[middle] + (1 / self.counts[before] + 1 / self.counts[after]) / 4)

    @cached_property
    def freedom(self) -> float:
        """Degrees of freedom of that noise: of a median from as many pairs, or of the spreads within, points going together in fours."""
        if self.told is not None:
            return self.told.freedom
        first, _ = self._beside
        return float(max(0.37 * len(first) if len(first) >= 12 else (self.counts - 1).sum() / 4, 1.0))

    @cached_property
    def around(self) -> tuple[Floats, Floats]:
        """Mean of each tile and those beside it (K,), and the share of its noise's variance that is left in that (K,)."""
        (to, of), n = self._together, len(self.means)
        count = np.bincount(to, minlength=n)
        return np.bincount(to, self.means[of], n) / count, 1 / count

    @cached_property
    def _together(self) -> tuple[Rows, Rows]:
        """Each tile with itself and with those beside it: to which, of which."""
        first, second = self._beside
        own = np.arange(len(self.means))
        return np.concatenate([own, first, second]), np.concatenate([own, second, first])

    @cached_property
    def _beside(self) -> tuple[Rows, Rows]:
        return _neighbours(self.cells, self.faces)


def _beside_along(cells: Rows, faces: Rows) -> list[Rows]:
    """For each axis the tile (K,) of the same face in the next cube along it; -1 where there is none."""
    low = cells.min(0) - 1
    span = cells.max(0) - low + 2
    keys = ((faces * span[0] + cells[:, 0] - low[0]) * span[1] + cells[:, 1] - low[1]) * span[2] + cells[:, 2] - low[2]
    order = np.argsort(keys)
    ordered = keys[order]
    found = []
    for step in (1, span[2], span[1] * span[2]):
        place = np.searchsorted(ordered, keys + step).clip(0, len(keys) - 1)
        found.append(np.where(ordered[place] == keys + step, order[place], -1))
    return found


def _neighbours(cells: Rows, faces: Rows) -> tuple[Rows, Rows]:
    """Pairs of tiles of one face whose cubes touch with a side."""
    following = _beside_along(cells, faces)
    firsts = [np.flatnonzero(after >= 0) for after in following]
    return np.concatenate(firsts), np.concatenate([after[rows] for after, rows in zip(following, firsts, strict=True)])


def _rows_of_three(cells: Rows, faces: Rows) -> list[tuple[Rows, Rows, Rows]]:
    """For each axis the tiles of one face whose cubes lie one after the other along it: first, middle and last of each three."""
    found = []
    for after in _beside_along(cells, faces):
        first = np.flatnonzero(after >= 0)
        first = first[after[after[first]] >= 0]
        found.append((first, after[first], after[after[first]]))
    return found


def make_tiles(deviation: Deviation, rows: Rows, distances: Floats) -> Tiles:
    """Average deviations over tiles; a face too narrow for a full tile keeps the fullest that it has.

    Parameters
    ----------
    rows : array (N,)
        Points that count, as rows of the deviation.
    distances : array (N,)
        Their deviations, coats taken off, mm.
    """
    size = deviation.tile
    cells, keys = cubes(deviation, rows, size)
    _, first, inverse, counts = np.unique(keys, return_index=True, return_inverse=True, return_counts=True)
    weights = np.maximum(deviation.weights[rows], 1e-12)
    total = np.bincount(inverse, weights)
    means = np.bincount(inverse, weights * distances) / total
    spreads = np.sqrt(np.bincount(inverse, weights * (distances - means[inverse]) ** 2) / total)
    # One point tells no spread; points of a heap tell none either where there are but heaps.
    spreads[counts == 1] = deviation.scatter
    if not np.isfinite(deviation.noise):
        spreads = np.maximum(spreads, deviation.scatter)
    faces = deviation.faces[rows][first].astype(np.int64)
    keep = _full(counts, faces, size**2 / max(deviation.spacing**2, 1e-9))
    return Tiles(means[keep], counts[keep], rows[first][keep], cells[first][keep], faces[keep], spreads[keep])


def _full(counts: Rows, faces: Rows, expected: float) -> npt.NDArray[np.bool_]:
    enough = counts >= max(FILLED * expected, LEAST_POINTS)
    most = np.zeros(int(faces.max()) + 1, dtype=np.int64)
    np.maximum.at(most, faces, counts)
    has_full = np.zeros(len(most), dtype=bool)
    has_full[faces[enough]] = True
    lean = ~has_full[faces] & (counts >= np.maximum(0.6 * most[faces], min(LEAST_POINTS, counts.max())))
    return np.asarray(enough | lean)
