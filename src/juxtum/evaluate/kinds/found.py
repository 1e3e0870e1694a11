"""Values of single features and what stands behind them: the widest, the farthest, the worst of several."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from juxtum.evaluate.characteristics import extreme_of
from juxtum.evaluate.choice import choice_among, choice_of_the_worst
from juxtum.evaluate.tiles import Tiles
from juxtum.geometry.arrays import Floats

FEW_SLICES = 6
"""Of fewer it cannot be told how much they scatter."""


@dataclass(frozen=True, eq=False)
class Found:
    """One value and what stands behind it.

    Parameters
    ----------
    value : float
        mm, or degrees.
    standard : float
        Standard uncertainty by the data, in the unit of the value.
    length : float
        Over which it is measured, mm.
    place : array (3,)
    meaning : str
        What it is, in words.
    allowed : float
        What the size of the feature adds to the zone, mm.
    freedom : float
        Degrees of freedom of the standard uncertainty.
    framed : float
        Standard uncertainty by where the datums, or the alignment, put it.
    depends : str
        Why nothing can be decided; empty where something can.
    alike : float
        The share of the standard uncertainty that is the same in all slices of a surface.
    ways : int
        In how many ways across each other it may lie off, where it is the length of an offset: 2 of an axis, 3 of a centre.
    """

    value: float
    standard: float
    length: float
    place: Floats
    meaning: str
    allowed: float | None = None
    freedom: float = np.inf
    depends: str = ""
    framed: float = 0.0
    alike: float = 0.0
    ways: int = 1


@dataclass(frozen=True)
class Width:
    """Between the highest and the lowest of some heights, with its standard uncertainty and what of that all slices share, mm; which tile is the highest."""

    value: float
    standard: float
    tile: int
    alike: float


def chosen_among(every: Sequence[Found], rooms: Floats, worst: int) -> Found:
    """The worst of a pattern, as unsure as it is by having been chosen: of several alike the one counts that errs most.

    Its value stays what was measured of it; what its choice adds, on average, is unsure.
    """
    noise = np.array([one.standard for one in every])
    if len(every) < 2 or not np.isfinite(rooms).all() or not noise.any():
        return every[worst]
    chosen = choice_of_the_worst(-rooms, noise)
    unsure = float(np.hypot(chosen.scatter, chosen.bias))
    return replace(every[worst], standard=max(every[worst].standard, unsure))


def worst_of(found: Sequence[Found]) -> Found | None:
    """The largest of what was found in slices or strips, one beside the other, what noise adds by its choice taken off; None of none.

    What one of them lies below nothing, by chance and what was taken off it, counts as it is: none is a width yet.
    """
    worst = farthest_among(found, 1.0)
    return worst if worst is None else replace(worst, value=max(worst.value, 0.0))


def farthest_among(found: Sequence[Found], sign: float) -> Found | None:
    """The largest (sign 1) or the smallest (-1) of values in slices or strips, what noise adds by its choice taken off."""
    if not found:
        return None
    values = np.array([sign * one.value for one in found])
    # What is not known of all alike makes none of them the worst, and they scatter no more than they are seen to.
    noise = np.sqrt(np.maximum([one.standard**2 - one.alike**2 for one in found], 0.0))
    worst = found[int(np.argmax(values))]
    if len(found) == 1 or not noise.any():
        return worst
    chosen = choice_among(values, noise * min(1.0, _seen_scatter(values) / max(float(np.median(noise)), 1e-12)))
    return replace(
        worst,
        value=worst.value - sign * chosen.bias,
        standard=max(float(np.hypot(chosen.standard, worst.alike)), worst.standard),
    )


def _seen_scatter(values: Floats) -> float:
    """How much values (K,) one beside the other scatter, a smooth change of them left out; unlimited where few tell."""
    if len(values) < FEW_SLICES:
        return np.inf
    bent = (values[1:-1] - (values[:-2] + values[2:]) / 2) / np.sqrt(1.5)
    return 1.4826 * float(min(np.median(np.abs(values - np.median(values))), np.median(np.abs(bent))))


def width_of(tiles: Tiles, heights: Floats) -> tuple[float, float, int]:
    """Width between the highest and the lowest of some heights (K,) over tiles, what noise adds by their choice taken off.

    Returns
    -------
    width, standard : float
        mm, with its standard uncertainty.
    highest : int
        Which tile is the highest.
    """
    made = unbounded_width_of(tiles, heights)
    return max(made.value, 0.0), made.standard, made.tile


def unbounded_width_of(tiles: Tiles, heights: Floats) -> Width:
    """The same, and below zero where more was taken off than there was."""
    made = replace(tiles, means=heights)
    top, bottom = extreme_of(made, 1.0, None), extreme_of(made, -1.0, None)
    return Width(top.value - bottom.value, top.across(bottom), top.tile, top.unsure + bottom.unsure)


def farthest_of(tiles: Tiles, heights: Floats) -> tuple[float, float, int]:
    """The largest of some heights (K,), either way, without sign; with its standard uncertainty and which tile it is."""
    made = replace(tiles, means=heights)
    top, bottom = extreme_of(made, 1.0, None), extreme_of(made, -1.0, None)
    worse = top if top.value >= -bottom.value else bottom
    return max(abs(worse.value), 0.0), worse.standard, worse.tile
