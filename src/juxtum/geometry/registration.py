"""Registration: between partner points in closed form, onto planes step by step. Everything that registers uses these two."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from juxtum.geometry.arrays import Floats, cross
from juxtum.geometry.transform import RigidTransform


def rigid_from_pairs(measured: Floats, target: Floats, weights: Floats | None = None) -> RigidTransform:
    """The rigid transform that brings points (N, 3) nearest to their partners (Kabsch 1976, without scale).

    Parameters
    ----------
    weights : array (N,), optional
        Of the squared distances; all alike when not given.

    Examples
    --------
    >>> corners = np.array([[0.0, 0, 0], [1, 0, 0], [0, 1, 0]])
    >>> rigid_from_pairs(corners, corners + [1, 2, 3]).offset.round(9).tolist()
    [1.0, 2.0, 3.0]
    """
    w = np.ones(len(measured)) if weights is None else weights
    total = float(w.sum())
    a, b = w @ measured / total, w @ target / total
    u, _, vt = np.linalg.svd(((target - b) * w[:, None]).T @ (measured - a))
    rotation = u @ np.diag([1, 1, np.sign(np.linalg.det(u @ vt))]) @ vt
    return RigidTransform.from_parts(rotation, b - rotation @ a)


@dataclass(frozen=True, eq=False)
class Pulls:
    """Points and the planes that they are drawn to.

    Parameters
    ----------
    points : array (N, 3)
        As they lie now, mm.
    normals : array (N, 3)
        Unit directions along which each point is drawn.
    distances : array (N,)
        How far each point lies from its plane along that direction, signed, mm.
    weights : array (N,), optional
        Of the squared distances; all alike when not given.
    allowed : tuple of bool, optional
        Which of the shifts along X, Y, Z and turns about them (through the centre) may be made; all when not given.
    """

    points: Floats
    normals: Floats
    distances: Floats
    weights: Floats | None = None
    allowed: tuple[bool, ...] | None = None

    @property
    def centre(self) -> Floats:
        """Mean of the points (3,), about which turns are counted."""
        return np.asarray(self.points.mean(0))

    def rows(self, size: float) -> Floats:
        """Weighted Jacobian (N, 6): mm of distance for each mm of shift and for each turn that moves a place at `size` by 1 mm."""
        turns = cross(self.points - self.centre, self.normals) / size
        rows = np.concatenate([self.normals, turns], axis=1)
        if self.allowed is not None:
            rows *= self.allowed
        return rows if self.weights is None else rows * np.sqrt(self.weights)[:, None]

    @property
    def residuals(self) -> Floats:
        """Weighted distances (N,)."""
        return self.distances if self.weights is None else self.distances * np.sqrt(self.weights)

    def motions(self, size: float, least: float) -> tuple[Floats, Floats, Floats]:
        """Squares (K,) and directions (6, K) of the motions that the planes hold, and (6, 6 - K) of those left free.

        A motion is free when the squares along it are less than `least` of the largest.
        """
        rows = self.rows(size)
        values, vectors = np.linalg.eigh(rows.T @ rows)
        held = values >= least * values[-1]
        return values[held], vectors[:, held], vectors[:, ~held]

    def step(self, size: float, least: float) -> Floats:
        """The Gauss-Newton step (6,): shift, mm, and turn about the centre, radians. What is free stays as it is."""
        values, held, _ = self.motions(size, least)
        gradient = self.rows(size).T @ self.residuals
        return np.asarray(-(held @ ((held.T @ gradient) / values)) * np.repeat([1, 1 / size], 3))


@dataclass(frozen=True)
class Rounds:
    """How a registration goes about it.

    Parameters
    ----------
    most, least : int
        Rounds at most, and before it may end.
    settled : float
        It ends when no place of the size moves by more than this, mm.
    size : float
        Half the extent of what is registered, mm: so far off a turn is counted.
    free : float
        A motion whose squares are less than this share of the largest is left as it is.
    largest_turn : float
        A step turns by no more than this, radians.
    """

    most: int
    settled: float
    size: float
    least: int = 1
    free: float = 1e-5
    largest_turn: float = 0.3


def register(
    pulls_at: Callable[[RigidTransform, int], Pulls | None], start: RigidTransform, rounds: Rounds
) -> RigidTransform | None:
    """Gauss-Newton from points to planes, for whatever tells each point its plane (Chen and Medioni 1992).

    Parameters
    ----------
    pulls_at : callable
        The planes of the points as a transform lays them, in a round (0, 1, ...); None where too few have any.

    Returns
    -------
    RigidTransform or None
        None when a round had too few points.

    Examples
    --------
    >>> places, planes = np.eye(3)[[0, 0, 0, 1, 1, 2]] + 0.3 * np.eye(3)[[0, 1, 2, 0, 2, 1]], np.eye(3)[[0, 0, 0, 1, 1, 2]]
    >>> def planes_at(transform, round):
    ...     laid = transform.apply(places)
    ...     return Pulls(laid, planes, np.einsum("ij,ij->i", laid - places - 0.1, planes))
    >>> register(planes_at, RigidTransform.identity(), Rounds(9, 1e-9, 1.0)).offset.round(6).tolist()
    [0.1, 0.1, 0.1]
    """
    transform = start
    for index in range(rounds.most):
        pulls = pulls_at(transform, index)
        if pulls is None:
            return None
        step = pulls.step(rounds.size, rounds.free)
        step[3:] = np.clip(step[3:], -rounds.largest_turn, rounds.largest_turn)
        transform = RigidTransform.about(pulls.centre, step) @ transform
        moved = np.linalg.norm(step[:3]) + rounds.size * np.linalg.norm(step[3:])
        if index + 1 >= rounds.least and moved < rounds.settled:
            break
    return transform
