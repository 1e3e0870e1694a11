"""Alignment by reference targets whose partners are not known: found from the distances between them."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from juxtum.geometry import RigidTransform
from juxtum.geometry.arrays import Floats, Ints, frozen
from juxtum.geometry.kdtree import kd_tree
from juxtum.geometry.registration import rigid_from_pairs

TRIALS = 80
MOST_PARTNERS = 60
"""Congruent triangles that are looked at for each trial."""
LEAST_AGREEING = 4
MANY = 70
"""With more known targets than this only triangles of near neighbours are looked up."""
NEIGHBOURS = 24


@dataclass(frozen=True, eq=False)
class TargetMatch:
    """A transform and which targets belong together.

    Parameters
    ----------
    transform : RigidTransform
        From the measured to the known targets.
    pairs : array (N, 2)
        Rows of the measured and of the known targets.
    rms : float
        mm.
    """

    transform: RigidTransform
    pairs: Ints
    rms: float


def match_targets(measured: Floats, known: Floats, tolerance: float, seed: int = 0) -> TargetMatch | None:
    """Lay measured targets (N, 3) onto known ones (M, 3); extra and missing ones do no harm.

    Triangles of the measured targets are looked up among those of the known ones by their sides; the candidate with
    which most others agree wins. None when fewer than four agree, or when two different answers agree equally well.

    Parameters
    ----------
    tolerance : float
        How far a target may lie from its partner, mm.

    Examples
    --------
    >>> known = np.array([[0, 0, 0], [90, 5, 0], [20, 70, 3], [110, 95, 30], [60, 20, 55.0]])
    >>> moved = RigidTransform.about([0, 0, 0], [5, 6, 7, 0.3, 0.2, 0.1])
    >>> match = match_targets(moved.apply(known[1:]), known, 0.5)
    >>> bool(np.allclose(match.transform.matrix, moved.inverse.matrix)), len(match.pairs)
    (True, 4)
    """
    if min(len(measured), len(known)) < LEAST_AGREEING:
        return None
    found = _candidates(measured, known, tolerance, np.random.default_rng(seed))
    if not found:
        return None
    best = max(found, key=lambda f: (f[0], -f[1]))
    refined = _refined(best[2], measured, known, tolerance)
    if refined is None:
        return None
    rivals = [move for agreeing, _, move in found if agreeing >= len(refined.pairs)]
    return None if any(_differ(move, refined.transform, measured, tolerance) for move in rivals) else refined


def _candidates(
    measured: Floats, known: Floats, tolerance: float, rng: np.random.Generator
) -> list[tuple[int, float, RigidTransform]]:
    """Transforms from congruent triangles: how many targets agree with each, and how well."""
    triangles = _triangles(known)
    tree, partners = kd_tree(_sides(known, triangles)), kd_tree(known)
    found: list[tuple[int, float, RigidTransform]] = []
    for _ in range(TRIALS):
        corner = _some_corners(measured, len(known) > MANY, rng)
        own, order = _ordered(measured[corner])
        near = tree.query_ball_point(own, 2 * tolerance, p=np.inf)
        for row in near[:MOST_PARTNERS]:
            _, their_order = _ordered(known[triangles[row]])
            move = rigid_from_pairs(measured[corner][order], known[triangles[row]][their_order])
            distances = partners.query(move.apply(measured))[0]
            agreeing = int((distances < 2 * tolerance).sum())
            if agreeing >= LEAST_AGREEING:
                found.append((agreeing, float(distances[distances < 2 * tolerance].mean()), move))
        if found and max(f[0] for f in found) >= 0.9 * len(measured) and len(found) > 3:
            break
    return found


def _some_corners(measured: Floats, is_local: bool, rng: np.random.Generator) -> Ints:
    """Three measured targets; near each other where only triangles of near neighbours are looked up."""
    if not is_local:
        return rng.choice(len(measured), 3, replace=False)
    first = int(rng.integers(0, len(measured)))
    near = np.argsort(np.linalg.norm(measured - measured[first], axis=1))[1 : 1 + NEIGHBOURS // 4]
    return np.array([first, *rng.choice(near, 2, replace=False)])


def _refined(move: RigidTransform, measured: Floats, known: Floats, tolerance: float) -> TargetMatch | None:
    for reach in (2 * tolerance, 1.5 * tolerance, 1.5 * tolerance):
        moved = move.apply(measured)
        forth, back = kd_tree(known).query(moved), kd_tree(moved).query(known)
        rows = np.flatnonzero((forth[0] < reach) & (back[1][forth[1]] == np.arange(len(measured))))
        if len(rows) < LEAST_AGREEING:
            return None
        pairs = np.stack([rows, forth[1][rows]], 1)
        move = rigid_from_pairs(measured[pairs[:, 0]], known[pairs[:, 1]])
    residuals = np.linalg.norm(move.apply(measured[pairs[:, 0]]) - known[pairs[:, 1]], axis=1)
    return TargetMatch(move, frozen(pairs, np.int64), float(np.sqrt(np.mean(residuals**2))))


def _differ(a: RigidTransform, b: RigidTransform, points: Floats, tolerance: float) -> bool:
    return bool(np.linalg.norm(a.apply(points) - b.apply(points), axis=1).mean() > 4 * tolerance)


def _triangles(points: Floats) -> Ints:
    """All triples, or those of near neighbours where there are very many."""
    n = len(points)
    if n <= MANY:
        i, j, k = np.meshgrid(np.arange(n), np.arange(n), np.arange(n), indexing="ij")
        keep = (i < j) & (j < k)
        return np.stack([i[keep], j[keep], k[keep]], 1)
    near = kd_tree(points).query(points, k=NEIGHBOURS)[1]
    pairs = [(a, b) for a in range(1, NEIGHBOURS) for b in range(a + 1, NEIGHBOURS)]
    rows = [np.sort(np.stack([near[:, 0], near[:, a], near[:, b]], 1), axis=1) for a, b in pairs]
    return np.unique(np.concatenate(rows), axis=0)


def _sides(points: Floats, triangles: Ints) -> Floats:
    p = points[triangles]
    return np.asarray(np.sort(np.linalg.norm(p - np.roll(p, 1, axis=1), axis=2), axis=1))


def _ordered(corners: Floats) -> tuple[Floats, Ints]:
    """Sorted sides (3,) of a triangle, and its corners in the order of the sides that face them."""
    facing = np.array(
        [
            np.linalg.norm(corners[1] - corners[2]),
            np.linalg.norm(corners[2] - corners[0]),
            np.linalg.norm(corners[0] - corners[1]),
        ]
    )
    order = np.argsort(facing)
    return facing[order], order
