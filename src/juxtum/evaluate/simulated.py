"""A value drawn many times over: its budget checked by simulation (JCGM 101)."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np

from juxtum.align import Alignment
from juxtum.errors import FitError, InputError
from juxtum.evaluate.deviation import Deviation
from juxtum.evaluate.given import Given
from juxtum.evaluate.kinds.base import Characteristic
from juxtum.evaluate.kinds.toleranced import Toleranced
from juxtum.evaluate.places import cubes
from juxtum.evaluate.quantity import SideMeasured
from juxtum.evaluate.tiles import Tiles, make_tiles
from juxtum.evaluate.touched import AllTouched, Touched
from juxtum.evaluate.uncertainty import CONFIDENCE, Budget, LineOrigin
from juxtum.geometry import RigidTransform
from juxtum.geometry.arrays import Floats, Ints, frozen
from juxtum.progress import Progress, silent

DRAWS = 100
FEWEST = 25
"""With fewer draws that gave a value nothing is said of their scatter."""
ALIKE = 1.25
"""Budget and simulation agree when neither is more than this times the other: 100 draws tell no closer."""
Draw = np.random.Generator


@dataclass(frozen=True, eq=False)
class Simulated:
    """What came of drawing a value again and again.

    Parameters
    ----------
    line : str
        Id of the characteristic.
    value : float
        What was measured.
    values : array (K,)
        What the draws gave, in rising order.
    budget : Budget
        The one that is checked; without the instrument's lines where none is stated.
    unit : str
    lost : int
        Draws that gave no value.
    """

    line: str
    value: float
    values: Floats
    budget: Budget
    unit: str = "mm"
    lost: int = 0
    is_whole: bool = True
    """Whether an instrument is stated, so that its error was drawn as well."""

    @property
    def standard(self) -> float:
        """Standard deviation of the draws."""
        return float(self.values.std(ddof=1))

    @cached_property
    def half(self) -> float:
        """Half of the shortest interval that holds 95.45 % of them (JCGM 101, 7.7)."""
        held = min(int(np.ceil(CONFIDENCE * len(self.values))), len(self.values) - 1)
        return float((self.values[held:] - self.values[: len(self.values) - held]).min() / 2)

    @property
    def ratio(self) -> float:
        """The expanded uncertainty of the budget as a multiple of what the simulation gives."""
        return self.budget.expanded / max(self.half, 1e-12)


def simulate(
    characteristic: Characteristic, given: Given, draws: int = DRAWS, seed: int = 7, progress: Progress | None = None
) -> Simulated:
    """Draw what a scan of the same part could have been, and measure each draw as the scan itself was measured.

    Drawn are the scatter of the points, as the scan shows it beside its shape, alike within a tile as far as the tiles
    say; where the part lies, by the covariance of its alignment; and, onto the value, what the budget knows of the
    instrument, temperature, coat and joining, the instrument's error as a rectangular distribution.

    Raises
    ------
    InputError
        When the characteristic has no value, or most draws have none.
    """
    progress = progress or silent()
    result = characteristic.result(given)
    side = result.side
    if result.points == 0 or not np.isfinite(side.value):
        raise InputError(
            "without a value there is nothing to check", f"characteristic {characteristic.id}", "Scan more of it"
        )
    lines = side.budget.contributions
    budget = Budget(tuple(line for line in lines if np.isfinite(line.standard)))
    scatter, rng = _Scatter.of(given, _faces(characteristic)), np.random.default_rng(seed)
    values = []
    for number in range(draws):
        progress.phase(f"drawing scan {number + 1} of {draws}", number / draws)
        found = _again(characteristic, scatter.drawn(rng), side)
        if np.isfinite(found):
            values.append(found + _besides(budget, rng))
    if len(values) < min(FEWEST, draws):
        what = f"only {len(values)} of {draws} draws gave a value"
        raise InputError(what, f"characteristic {characteristic.id}", "Scan more of it")
    unit = characteristic.limits.unit
    return Simulated(
        characteristic.id, side.value, frozen(np.sort(values)), budget, unit, draws - len(values), side.budget.is_known
    )


def _faces(characteristic: Characteristic) -> tuple[int, ...]:
    """Faces whose points alone tell it; none where all do."""
    alone = isinstance(characteristic, Toleranced) and not characteristic.is_of_any_surface
    return characteristic.faces_named if alone or characteristic.tag == "profile" else ()


def _again(characteristic: Characteristic, given: Given, side: SideMeasured) -> float:
    try:
        sides = characteristic.measure(given).sides
    except (InputError, FitError):
        return float("nan")
    return next((one.value for one in sides if one.side == side.side), float("nan"))


def _besides(budget: Budget, rng: Draw) -> float:
    """What does not come of the data, for one draw."""
    whole = 0.0
    for line in budget.contributions:
        if line.origin is LineOrigin.LIMIT:
            whole += line.standard * np.sqrt(3) * rng.uniform(-1, 1)
        elif line.origin is LineOrigin.STATED:
            whole += line.standard * rng.normal()
    return float(whole)


@dataclass(frozen=True, eq=False)
class _Scatter:
    """What a scan is drawn from.

    Parameters
    ----------
    given : Given
        With the rows that count only, and with noise taken off by means over tiles.
    alone : array (N,)
        Standard deviation of each point for itself, mm.
    together : array (N,)
        Standard deviation of what all points of its cell share, mm.
    cells : array (N,)
    spread : array (6, 6)
        Times six normal numbers it is a motion of the part.
    """

    given: Given
    alone: Floats
    together: Floats
    cells: Ints
    spread: Floats

    @classmethod
    def of(cls, given: Given, faces: tuple[int, ...]) -> _Scatter:
        """By what the scan shows."""
        deviation = given.deviation
        rows = np.flatnonzero(deviation.found & ~deviation.strays)
        if faces:
            rows = rows[np.isin(deviation.faces[rows], np.array(faces) - 1)]
        _, keys = cubes(deviation, rows, deviation.tile)
        cells = np.unique(keys, return_inverse=True)[1]
        smooth, alone, together = deviation.distances[rows].copy(), np.zeros(len(rows)), np.zeros(len(rows))
        for face in np.unique(deviation.faces[rows]):
            at = np.flatnonzero(deviation.faces[rows] == face)
            tiles = make_tiles(deviation, rows[at], smooth[at])
            alone[at], together[at] = _scatter_of(tiles)
            smooth[at] = _smoothed(smooth[at], cells[at], cells[np.searchsorted(rows, tiles.rows)], tiles)
        flat = _at(deviation, rows, smooth - deviation.distances[rows])
        return cls(replace(given, deviation=flat), alone, together, cells, _root(given.judgement.alignment))

    def drawn(self, rng: Draw) -> Given:
        """One scan."""
        shared = rng.normal(size=int(self.cells.max(initial=0)) + 1)[self.cells]
        off = self.alone * rng.normal(size=len(self.cells)) + self.together * shared
        deviation, alignment = self.given.deviation, self.given.judgement.alignment
        move = RigidTransform.about(alignment.centre, self.spread @ rng.normal(size=6))
        slid = move.apply(deviation.points) - deviation.points
        off = off + np.einsum("ij,ij->i", slid, deviation.normals)
        across = slid - np.einsum("ij,ij->i", slid, deviation.normals)[:, None] * deviation.normals
        made = _at(replace(deviation, points=deviation.points + across), np.arange(len(off)), off)
        touches = self.given.touches
        return replace(
            self.given, deviation=made, touches=None if touches is None else _touched_again(touches, move, rng)
        )


def _scatter_of(tiles: Tiles) -> tuple[float, float]:
    """Standard deviation of a point for itself, and of what the points of a tile share, mm."""
    noise, spread = tiles.noise, float(np.sqrt(np.mean(tiles.spreads**2)))
    alone = min(spread, float(np.median(noise * np.sqrt(tiles.counts))))
    return alone, float(np.sqrt(max(np.median(noise**2 - alone**2 / tiles.counts), 0.0)))


def _smoothed(distances: Floats, cells: Ints, of_tiles: Ints, tiles: Tiles) -> Floats:
    """Deviations with those of each tile replaced by the mean of it and the tiles beside it."""
    means, _ = tiles.around
    order = np.argsort(of_tiles)
    place = np.searchsorted(of_tiles[order], cells).clip(0, len(order) - 1)
    known = of_tiles[order][place] == cells
    return np.where(known, means[order][place], distances)


def _at(deviation: Deviation, rows: Ints, shift: Floats) -> Deviation:
    """Some rows of a map, shifted along their normals; what was found of their strays and noise stays."""
    names = ("feet", "normals", "faces", "weights", "clear", "inner")
    normals = deviation.normals[rows]
    made = replace(
        deviation,
        points=deviation.points[rows] + shift[:, None] * normals,
        distances=deviation.distances[rows] + shift,
        **{name: getattr(deviation, name)[rows] for name in names},
    )
    made.__dict__["strays"] = np.zeros(len(rows), dtype=bool)
    made.__dict__["noise"] = deviation.noise
    return made


def _root(alignment: Alignment) -> Floats:
    """A square root (6, 6) of the covariance of a motion."""
    values, vectors = np.linalg.eigh(np.nan_to_num(alignment.covariance))
    return np.asarray(vectors * np.sqrt(np.maximum(values, 0.0)))


def _touched_again(touches: AllTouched, move: RigidTransform, rng: Draw) -> AllTouched:
    """The same touches, each with the scatter of its probe, on the part where it lies."""

    def again(one: Touched) -> Touched:
        off = one.scatter * rng.normal(size=len(one.points))
        return replace(one, points=move.apply(one.points + off[:, None] * one.normals))

    return replace(touches, features=[again(one) for one in touches.features], taken={})
