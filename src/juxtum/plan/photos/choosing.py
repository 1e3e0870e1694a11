"""Which photos to take: first enough rays to everything, then those that make the lengths surer, until that is enough."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from juxtum.geometry.arrays import Bools, Floats, Ints
from juxtum.plan.photos import _bundle_rows as rows
from juxtum.plan.photos.bundle import Adjusted, Network
from juxtum.plan.targets.views import Views

AT_ONCE = 4
"""Photos that are added before the whole network is predicted again."""
WORTH = 0.002
"""A photo that makes the lengths less than this share surer is not taken."""


@dataclass(frozen=True, eq=False)
class Wanted:
    """Lengths that matter, and how sure the longest has to be.

    Parameters
    ----------
    pairs : array (K, 2)
        Targets between which they run, the longest first.
    expanded : float
        U of the longest that is enough (k = 2), mm.
    """

    pairs: Ints
    expanded: float

    def is_met(self, prediction: Adjusted) -> bool:
        """Whether a network holds the longest length well enough."""
        first, second = self.pairs[0]
        return 2 * prediction.length_uncertainty(int(first), int(second)) <= self.expanded


def surer(
    chosen: Ints, pool: Network, wanted: Wanted, most: int, predicted: Callable[[Ints], Adjusted]
) -> tuple[Ints, Adjusted]:
    """Photos added to some that were chosen, each where it makes the lengths surest, and what they then give.

    Parameters
    ----------
    chosen : array (M,)
        Photos of the pool to begin with.
    pool : Network
        All photos that could be taken, with all their rays.
    predicted : callable
        What some photos of the pool give.
    """
    directions = _directions(pool.points, wanted.pairs)
    rays = [np.flatnonzero(pool.rays.photos == k) for k in range(len(pool.photos.centres))]
    rates = rows.derivatives(pool)
    now, prediction = list(map(int, chosen)), predicted(chosen)
    while len(now) < most and not wanted.is_met(prediction):
        covariance, added = np.array(prediction.covariance), 0
        for _ in range(min(AT_ONCE, most - len(now))):
            worth = [
                0.0 if k in now or len(own) < 4 else _gain(covariance, directions, rows_of_photo(pool, rates, own))
                for k, own in enumerate(rays)
            ]
            best = int(np.argmax(worth))
            if worth[best] < WORTH:
                break
            columns, said = rows_of_photo(pool, rates, rays[best])
            covariance = with_photo(covariance, columns, said)
            now.append(best)
            added += 1
        if not added:
            break
        prediction = predicted(np.array(now))
    return _without_needless(now, min(AT_ONCE, len(now) - len(chosen)), wanted, predicted, prediction)


def _without_needless(
    now: list[int], count: int, wanted: Wanted, predicted: Callable[[Ints], Adjusted], prediction: Adjusted
) -> tuple[Ints, Adjusted]:
    """Those of the last photos left out without which the lengths are sure enough still."""
    for photo in now[::-1][:count] if wanted.is_met(prediction) else ():
        fewer = [k for k in now if k != photo]
        without = predicted(np.array(fewer))
        if wanted.is_met(without):
            now, prediction = fewer, without
    return np.array(now), prediction


def _directions(points: Floats, pairs: Ints) -> Floats:
    """How lengths change with the coordinates of all points (3T, K)."""
    result = np.zeros((3 * len(points), len(pairs)))
    for k, (first, second) in enumerate(pairs):
        way = points[first] - points[second]
        way = way / max(float(np.linalg.norm(way)), 1e-12)
        result[3 * first : 3 * first + 3, k] += way
        result[3 * second : 3 * second + 3, k] -= way
    return result


def rows_of_photo(pool: Network, rates: tuple[Floats, Floats], own: Ints) -> tuple[Ints, Floats]:
    """What a photo's rays say of points once its own pose is taken out: columns and rows in units of the noise."""
    by_point, by_pose = (r[own] for r in rates)
    count = len(own)
    pose = by_pose.reshape(2 * count, 6)
    q, _ = np.linalg.qr(pose)
    said = np.zeros((2 * count, 3 * count))
    for k in range(count):
        said[2 * k : 2 * k + 2, 3 * k : 3 * k + 3] = by_point[k]
    said -= q @ (q.T @ said)
    columns = (3 * pool.rays.targets[own][:, None] + np.arange(3)).ravel()
    return columns, said / pool.rays.noise


def _gain(covariance: Floats, directions: Floats, says: tuple[Ints, Floats]) -> float:
    """By what share of their variance a photo makes the lengths surer, on the average."""
    columns, said = says
    toward = covariance[columns] @ directions
    inner = np.eye(len(said)) + said @ covariance[np.ix_(columns, columns)] @ said.T
    shown = said @ toward
    taken = np.einsum("ik,ik->k", shown, np.linalg.solve(inner, shown))
    whole = np.einsum("ik,ij,jk->k", directions, covariance, directions)
    return float(np.mean(taken / np.maximum(whole, 1e-30)))


def with_photo(covariance: Floats, columns: Ints, said: Floats) -> Floats:
    """The covariance with what a further photo says."""
    across = said @ covariance[columns]
    inner = np.eye(len(said)) + across[:, columns] @ said.T
    return np.asarray(covariance - across.T @ np.linalg.solve(inner, across))


def in_walking_order(pool: Views, rows: Ints) -> Ints:
    """Round the part, so that the photographer walks once."""
    middle = pool.eyes.mean(0)
    offset = pool.eyes[rows] - middle
    turn = np.round(np.degrees(np.arctan2(offset[:, 1], offset[:, 0])) / 15)
    return rows[np.lexsort([offset[:, 2], turn])]


def hanging_together(rows: Ints, seen: Bools, least: int) -> Ints:
    """Photos in walking order, but each shows enough targets that one before it showed, where there is such a one."""
    left, known = list(map(int, rows)), np.zeros(seen.shape[1], dtype=bool)
    order: list[int] = []
    while left:
        shared = (seen[left] & known).sum(1)
        # More than is asked for: what is shared may be the ends of bars, which are no codes of the part.
        enough = [k for k, count in enumerate(shared) if count >= least + 2]
        first = int(np.argmax(seen[left].sum(1))) if not order else int(np.argmax(shared))
        now = left.pop(enough[0] if enough else first)
        order.append(now)
        known |= seen[now]
    return np.array(order)
