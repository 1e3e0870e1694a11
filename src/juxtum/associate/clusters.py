"""How well fitted numbers are known when neighbouring residuals go together: noise is not independent, form never is."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from juxtum.geometry.arrays import Floats, Ints

BLOCKS = (64, 32, 16, 8, 5)
"""Sides of the blocks within which errors may go together, as parts of the extent of the data."""
LEAST_BLOCKS = 12
"""With fewer blocks their spread says too little."""
MOST_BEYOND = 1.4
"""What the borders of blocks cut off is made up for by at most so much."""


def clustered_covariance(jacobian: Floats, residuals: Floats, places: Floats, floor: float) -> Floats:
    """Covariance (P, P) of least-squares parameters whose residuals are correlated over unknown distances.

    The scores of all points of a block are summed before they are squared, so that whatever goes together within a
    block counts once (Liang and Zeger 1986). What the borders of the blocks cut apart falls with their size: half the
    size says how much it is (Richardson's extrapolation). Several sizes of block are tried and the largest answer is
    kept, never less than that of residuals which go together over `floor` points.

    Parameters
    ----------
    jacobian : array (N, P)
        Weighted by the square roots of the weights.
    residuals : array (N,)
        Weighted likewise.
    places : array (N, 3)
        Where each residual was taken, mm.
    floor : float
        So many neighbouring points share their errors at least.
    """
    inverse = np.linalg.pinv(jacobian.T @ jacobian, rcond=1e-13, hermitian=True)
    variance = float(residuals @ residuals) / max(len(residuals) - jacobian.shape[1], 1)
    best = inverse * variance * max(floor, 1.0)
    scale = 1 / np.sqrt(np.maximum(np.diag(best), 1e-300))
    most, last = float(len(scale)), np.inf
    rows = np.ascontiguousarray(places.T)
    for sums in _over_blocks(rows - rows.min(1)[:, None], jacobian.T * residuals):
        count = len(sums)
        if count < LEAST_BLOCKS:
            break
        found = inverse @ (sums.T @ sums) @ inverse * count / (count - 1)
        size = float((np.diag(found) * scale**2).sum())
        rise = 1 - last / size if size > 0 else 0.0
        # A variance from so many blocks is known to the square root of 2 / count: less of a rise says nothing.
        beyond = min(1 + rise, MOST_BEYOND) if rise > 2 * np.sqrt(2 / count) else 1.0
        last = size
        if beyond * size > most:
            best, most = beyond * found, beyond * size
    return np.asarray(best)


def _over_blocks(local: Floats, scores: Floats) -> Iterator[Floats]:
    """Sums (B, P) of the scores (P, N) of places (3, N) over blocks, from small ones to large ones."""
    extent = max(float(np.linalg.norm(local.max(1))), 1e-10)
    # What was summed over a block once is summed over those of twice its side.
    finest = _summed((local * (BLOCKS[0] / extent)).astype(np.int64), scores)
    for parts in BLOCKS:
        if BLOCKS[0] % parts:
            yield _summed((local * (parts / extent)).astype(np.int64), scores)[1].T
        else:
            yield _summed(finest[0] // (BLOCKS[0] // parts), finest[1])[1].T


def _summed(cells: Ints, scores: Floats) -> tuple[Ints, Floats]:
    """Cells (3, B) that hold any of (3, N), and the sum of the scores (P, N) in each."""
    side = int(cells.max()) + 1
    keys = (cells[0] * side + cells[1]) * side + cells[2]
    held = np.flatnonzero(np.bincount(keys))
    sums: Floats = np.stack([np.bincount(keys, score)[held].astype(np.float64) for score in scores])
    return np.stack([held // (side * side), held // side % side, held % side]), sums
