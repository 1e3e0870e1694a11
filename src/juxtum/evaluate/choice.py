"""What noise adds to the largest of many values by its choice, how far the largest scatters, and how well that is known."""

from __future__ import annotations

from dataclasses import dataclass, replace
from statistics import NormalDist

import numpy as np
from scipy.integrate import trapezoid
from scipy.special import log_ndtr

from juxtum.evaluate.tiles import Tiles
from juxtum.geometry.arrays import Floats

DRAWS = 400
AGAIN = 1 / (np.sqrt(2) - 1)
"""Noise that is put onto equal tiles a second time adds to their largest what it added at first, times the root of 2 less 1."""
BY_CHANCE = 0.01
"""A value stands out of the others when chance puts any of so many there with this probability."""
UNSURE, UNSURE_PLAIN = 0.34, 0.18
"""How well the correction is known, as a share of it: which part of the scatter is shape is itself an estimate. The second
holds where none of it is: of shape that is just too little to be told from noise an extreme of hundreds of tiles would show
up to a third of the correction more, and any share of that is as likely as another (rectangular)."""
DOUBTED = 1.5
"""What stands so many times as high as noise alone would make the largest may still be a place where noise was more than elsewhere."""
NOISES = 64
"""So many steps of noise are told apart."""


@dataclass(frozen=True)
class Correction:
    """What the choice of the largest adds to it, how much the largest scatters, and how well that addition is known, mm."""

    bias: float
    scatter: float
    unsure: float

    @property
    def standard(self) -> float:
        """Standard uncertainty of what is left once the addition is taken off, mm."""
        return float(np.hypot(self.scatter, self.unsure))


def choice_of_the_largest(tiles: Tiles, sign: float, seed: int = 7) -> Correction:
    """How far the largest of many noisy means lies beyond the largest true one, on average, and how much it scatters.

    The true means are estimated by drawing the noisy ones towards those beside them, and these towards their middle,
    as far as noise explains their scatter (empirical Bayes, as in James and Stein); then noise is put onto the estimate
    many times over (parametric bootstrap, Efron).

    Parameters
    ----------
    sign : float
        1 for the upper side, -1 for the lower one.
    """
    around, share = tiles.around
    return _largest(_Uncertain(sign * tiles.means, tiles.noise, sign * around, share, tiles.among), seed)


def choice_among(values: Floats, noise: Floats, seed: int = 7) -> Correction:
    """How far the largest of some uncertain values (K,), as of slices one beside the other, lies beyond the largest true one.

    By the same estimate as for tiles; `noise` holds the standard uncertainty of each value.
    """
    padded = np.pad(values, 1, constant_values=np.nan)
    three = np.stack([padded[:-2], padded[1:-1], padded[2:]])
    share = 1 / np.isfinite(three).sum(0)
    return _largest(_Uncertain(values, noise, np.nansum(three, axis=0) * share, share, len(values)), seed)


def choice_of_the_worst(values: Floats, noise: Floats, seed: int = 7) -> Correction:
    """The same of values (K,) of which none lies beside another, as of the holes of a pattern."""
    return _largest(_Uncertain(values, noise, values, np.ones(len(values)), len(values)), seed)


@dataclass(frozen=True, eq=False)
class _Uncertain:
    """Values (K,) with their noise, their means with those beside them, what share of the variance is left in those, and of how many they are."""

    values: Floats
    noise: Floats
    around: Floats
    share: Floats
    among: int


def _largest(of: _Uncertain, seed: int) -> Correction:
    noise, around, share = of.noise, of.around, of.share
    several = float(np.median(share))
    local, kept = _drawn_in(around, noise * np.sqrt(share), float(np.median(around)), (len(noise) * several, of.among))
    rest, kept_rest = _drawn_in(
        of.values - around, noise * np.sqrt(np.maximum(1 - share, 0.0)), 0.0, (len(noise), of.among)
    )
    drawn = local + rest
    # The estimate holds some noise itself: it makes its own largest too large, and takes its part of the scatter.
    left = noise * np.sqrt(kept**2 * share + kept_rest**2 * np.maximum(1 - share, 0.0))
    near = np.flatnonzero(drawn >= drawn.max() - 8 * float(noise.max()) - 1e-12)
    near = near[np.argsort(-drawn[near], kind="stable")][:3000]
    # What stands far out is kept whole, and no shape by that: all the others are what tells.
    is_plain = bool(np.median(kept) == 0.0 and np.median(kept_rest) == 0.0)
    found = _with_noise_put_on(drawn[near], noise[near], left[near], seed, UNSURE_PLAIN if is_plain else UNSURE)
    return _or_noise(found, by_noise_alone(noise), float(of.values.max() - np.median(around)))


def _or_noise(found: Correction, alone: float, height: float) -> Correction:
    """With what would have to be taken off besides if what stands out were noise: a place that few lines passed does not tell itself from a bump.

    The higher it stands beside what noise alone makes, the less likely that is; any share of it is as likely as another (rectangular).
    """
    more = max(alone - found.bias, 0.0) * min(1.0, DOUBTED * alone / max(height, 1e-12))
    return replace(found, unsure=float(np.hypot(found.unsure, more / np.sqrt(3))))


def by_noise_alone(noise: Floats) -> float:
    """How high noise alone makes the largest of equal values, on average, mm; `noise` (K,) holds the standard uncertainty of each.

    Examples
    --------
    >>> round(by_noise_alone(np.full(100, 0.01)), 4)
    0.0251
    """
    top = float(noise.max(initial=0.0))
    if top <= 0:
        return 0.0
    widths, numbers = np.unique(np.ceil(NOISES * noise / top), return_counts=True)
    heights = np.linspace(-6, 6, 481)
    below = np.exp(numbers @ log_ndtr(heights * NOISES / np.maximum(widths, 1.0)[:, None]))
    return top * float(6 - trapezoid(below, heights))


def _with_noise_put_on(estimate: Floats, noise: Floats, left: Floats, seed: int, unsure: float) -> Correction:
    """What noise (K,) adds to the largest of an estimate (K,) that still holds some of it, `left` (K,); by many draws."""
    normal = np.random.default_rng(seed).normal(size=(DRAWS, len(estimate)))
    noisy = (estimate + np.sqrt(np.maximum(noise**2 - left**2, 0.0)) * normal).max(1)
    inflated = AGAIN * float((estimate + left * normal).max(1).mean() - estimate.max())
    bias = float(noisy.mean()) - (float(estimate.max()) - inflated)
    scatter = float((estimate + noise * normal).max(1).std(ddof=1))
    return Correction(bias, scatter, unsure * abs(bias))


def _drawn_in(values: Floats, noise: Floats, centre: float, counts: tuple[float, int]) -> tuple[Floats, Floats]:
    """Values drawn towards a centre as far as noise explains their scatter, and the share of each that is kept.

    What stands far out stays as it is. Scatter beyond the noise counts as shape only when it is more than chance would
    give among so many independent values.

    Parameters
    ----------
    counts : (float, int)
        How many are independent, and among how many they had a chance to stand out.
    """
    independent, among = counts
    off = values - centre
    scatter = (1.4826 * float(np.median(np.abs(off)))) ** 2
    expected = float(np.median(noise)) ** 2
    signal = scatter - expected if scatter > expected * (1 + 4 / np.sqrt(max(independent, 1.0))) else 0.0
    far = np.abs(off) > -NormalDist().inv_cdf(BY_CHANCE / (2 * among)) * np.sqrt(signal + noise**2) + 1e-12
    kept = np.where(far, 1.0, signal / (signal + noise**2 + 1e-18))
    return centre + off * kept, kept
