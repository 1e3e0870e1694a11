"""How well fitted numbers are known when neighbouring residuals go together: noise is not independent, form never is."""

from __future__ import annotations

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
    scores = jacobian * residuals[:, None]
    low, extent = places.min(0), float(np.linalg.norm(np.ptp(places, axis=0)))
    for parts in BLOCKS:
        labels, count = _blocks((places - low) / max(extent / parts, 1e-12), parts)
        if count < LEAST_BLOCKS:
            break
        sums = np.stack([np.bincount(labels, column, count) for column in scores.T], axis=1)
        found = inverse @ (sums.T @ sums) @ inverse * count / (count - 1)
        size = float((np.diag(found) * scale**2).sum())
        rise = 1 - last / size if size > 0 else 0.0
        # A variance from so many blocks is known to the square root of 2 / count: less of a rise says nothing.
        beyond = min(1 + rise, MOST_BEYOND) if rise > 2 * np.sqrt(2 / count) else 1.0
        last = size
        if beyond * size > most:
            best, most = beyond * found, beyond * size
    return np.asarray(best)


def _blocks(scaled: Floats, parts: int) -> tuple[Ints, int]:
    """In which block of side one each place (N, 3) lies, and how many blocks there are."""
    cells = np.floor(scaled).astype(np.int64)
    keys = (cells[:, 0] * (parts + 1) + cells[:, 1]) * (parts + 1) + cells[:, 2]
    _, labels = np.unique(keys, return_inverse=True)
    return labels, int(labels.max()) + 1
