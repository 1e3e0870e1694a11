"""Fewest of some candidates that serve what is wanted: a set cover, proven where time allows."""

from __future__ import annotations

import numpy as np

from juxtum.geometry.arrays import Bools, Ints

MOST_STATIONS = 12
SECONDS_TO_SOLVE = 8.0
MOST_TRIED = 3
"""All choices of so many candidates are gone through, which proves without a clock; more are left to the solver."""
MOST_CANDIDATES = 400


def fewest_rows(seen: Bools, needed: int) -> tuple[Ints, bool]:
    """The fewest rows of candidates (S, P) that serve so many poses, and whether fewer is proven impossible."""
    reachable = seen.any(0)
    greedy = _greedy(seen, needed)
    for count in range(1, min(len(greedy) - 1, MOST_TRIED if len(seen) <= MOST_CANDIDATES else 1) + 1):
        found = _some(seen, count, needed)
        if found is not None:
            return found, True
        if count == len(greedy) - 1:
            return greedy, True
    if len(greedy) == 1:
        return greedy, True
    columns, weights = np.unique(seen[:, reachable].T, axis=0, return_counts=True)
    n, m = len(seen), len(columns)
    # Imported when it is asked for: a fifth of a second that a window need not wait for.
    from scipy.optimize import Bounds, LinearConstraint, milp
    from scipy.sparse import csr_matrix, hstack, identity

    covered = hstack([csr_matrix(columns.astype(float)), -identity(m)]).tocsr()
    enough = csr_matrix(np.concatenate([np.zeros(n), weights])[None])
    answer = milp(
        np.concatenate([np.ones(n), np.zeros(m)]),
        constraints=[LinearConstraint(covered, 0, np.inf), LinearConstraint(enough, needed, np.inf)],
        integrality=np.concatenate([np.ones(n), np.zeros(m)]),
        bounds=Bounds(0, 1),
        options={"time_limit": SECONDS_TO_SOLVE},
    )
    if answer.x is None:
        return greedy, False
    rows = np.flatnonzero(answer.x[:n] > 0.5)
    proven = answer.status == 0 or answer.mip_dual_bound > len(greedy) - 1 + 1e-6
    return (rows if len(rows) < len(greedy) else greedy), bool(proven)


def _some(seen: Bools, count: int, needed: int) -> Ints | None:
    """So many rows that serve enough, of one or two those that serve most; None where no such choice does."""
    alone = seen.sum(1)
    if count == 1:
        return np.array([np.argmax(alone)]) if alone.max() >= needed else None
    if count == 2:
        shown = seen.astype(np.float32)
        both = alone[:, None] + alone - np.rint(shown @ shown.T).astype(np.int64)
        best = np.unravel_index(int(np.argmax(both)), both.shape)
        return np.array(best) if both[best] >= needed else None
    for first in np.argsort(-alone, kind="stable"):
        rest = seen & ~seen[first]
        if alone[first] + (count - 1) * int(rest.sum(1).max()) < needed:
            continue
        others = _some(rest, count - 1, needed - int(alone[first]))
        if others is not None:
            return np.array([first, *others])
    return None


def _greedy(seen: Bools, needed: int) -> Ints:
    rows: list[int] = []
    served = np.zeros(seen.shape[1], dtype=bool)
    while served.sum() < needed and len(rows) < MOST_STATIONS:
        gains = (seen & ~served).sum(1)
        best = int(np.argmax(gains))
        if gains[best] == 0:
            break
        rows.append(best)
        served |= seen[best]
    return np.array(rows)
