"""One least-squares solver for all features: Levenberg-Marquardt on what the feature itself says of its residuals."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Generic, TypeVar

import numpy as np

from juxtum.associate.clusters import clustered_covariance
from juxtum.errors import FitError, InputError
from juxtum.geometry import RigidTransform
from juxtum.geometry.arrays import Floats, orthonormal_frame
from juxtum.geometry.features import Feature

F = TypeVar("F", bound=Feature)
ROUNDS, FEW_ROUNDS, FIRST_ROUNDS = 200, 12, 6
SAMPLE, GLANCE = 2000, 500
"""Points that are looked at first where there are many more, and where one of several starts is chosen."""
CLOSE = 1e-9
"""Damping near the answer."""
SETTLED = 1e-13
"""The last step moves no point by more than this share of the size of the data."""
LOOSE = 1e-7
"""The points leave a feature free when some change of it moves them by less than this share of what others do."""
PLAIN = 1e-8
"""Of the squares of that; above it they are not lost in the digits."""
BENT = 16.0
"""What bends by chance in squares, many times over: a radius is known to a quarter of itself then."""
CORRELATION_LENGTH = 1.0
"""Neighbouring points of one scan closer than this, mm, are taken to share their errors."""


@dataclass(frozen=True, eq=False)
class Fit(Generic[F]):
    """A feature associated with points, and how well it is known.

    Parameters
    ----------
    feature : Feature
        Its reference point lies at the middle of the points.
    count : int
        Points used.
    rms : float
        Root mean square of the distances, mm.
    form : float
        Largest less smallest distance, mm.
    covariance : array (P, P)
        Of a step of the feature; mm and radians.
    """

    feature: F
    count: int
    rms: float
    form: float
    covariance: Floats

    @property
    def standards(self) -> dict[str, float]:
        """Standard uncertainty of each of its sizes, mm or radians; sizes come last in a step."""
        names = list(self.feature.sizes)
        spread = np.sqrt(np.maximum(np.diag(self.covariance), 0.0))
        return dict(zip(names, spread[len(spread) - len(names) :].tolist(), strict=True))


@dataclass(frozen=True, eq=False)
class _State(Generic[F]):
    feature: F
    residuals: Floats
    jacobian: Floats

    @classmethod
    def of(cls, feature: F, points: Floats) -> _State[F]:
        return cls(feature, *feature.linearised(points))

    @cached_property
    def cost(self) -> float:
        return float(self.residuals @ self.residuals)

    @cached_property
    def normal(self) -> tuple[Floats, Floats, Floats]:
        """Matrix and right side of the normal equations, scaled, and the scale of each unknown."""
        matrix = self.jacobian.T @ self.jacobian
        scale = np.sqrt(np.diag(matrix))
        scale = np.maximum(scale, 1e-9 * float(scale.max()))
        return matrix / np.outer(scale, scale), self.jacobian.T @ self.residuals / scale, scale


def gauss(start: F, points: Floats, others: Sequence[F] = ()) -> Fit[F]:
    """The feature with the least sum of squared distances (Gauss), near a start.

    Parameters
    ----------
    start : Feature
        Of the kind that is wanted, near the answer.
    points : array (N, 3)
    others : sequence of Feature
        More starts, where one may lead astray; the best answer counts.

    Raises
    ------
    FitError
        With too few points, or when they leave the feature free.

    Examples
    --------
    >>> from juxtum.geometry import Cylinder
    >>> turn = np.arange(12.0)
    >>> wall = np.column_stack([3 * np.cos(turn), 3 * np.sin(turn), turn % 4])
    >>> round(gauss(Cylinder(np.zeros(3), np.array([0, 0, 1]), 2), wall).feature.radius, 9)
    3.0
    """
    points = np.asarray(points, dtype=np.float64)
    centre, local, size = _about_middle(start, points)
    if start.least > 1 and float(np.abs(local).max()) < 1e-12:
        raise FitError(start.loose[0], next=start.loose[1])
    begun = [_brought(seed, centre) for seed in (start, *others)]
    some = local[:: max(1, len(local) // SAMPLE)]
    if len(some) < len(local):
        # Which start leads to the best answer, and nearly to where, a few of very many points tell.
        near = _settled(_State.of(_likeliest(begun, local, size), some), some, size)
        best = _settled(_State.of(near.feature, local), local, size, CLOSE)
    else:
        best = min((_settled(_State.of(seed, local), local, size) for seed in begun), key=lambda state: state.cost)
    _check(best, size)
    _check_bent(best, local)
    feature = best.feature.moved(RigidTransform.translation(centre))
    return _fit(feature, points, best)


def _likeliest(begun: Sequence[F], local: Floats, size: float) -> F:
    """Of several starts the one that leads to the best answer, by a few of the points (N, 3)."""
    if len(begun) == 1:
        return begun[0]
    few = local[:: max(1, len(local) // GLANCE)]
    led = [_settled(_State.of(seed, few), few, size, rounds=FIRST_ROUNDS) for seed in begun]
    return min(led, key=lambda state: state.cost).feature


def approached(start: F, points: Floats) -> F:
    """The feature after a dozen rounds towards the least sum of squares: as right as a region that still grows needs it.

    Raises
    ------
    FitError
        With too few points, or when they leave the feature free.
    """
    centre, local, size = _about_middle(start, points)
    begun = _brought(start, centre)
    best = _settled(_State.of(begun, local), local, size, rounds=FEW_ROUNDS)
    _check(best, size)
    return best.feature.moved(RigidTransform.translation(centre))


def _about_middle(start: Feature, points: Floats) -> tuple[Floats, Floats, float]:
    """The middle (3,) of points (N, 3), the points about it, and how far they lie from it, root mean square."""
    if len(points) < start.least:
        raise FitError(f"{len(points)} points do not make a {start.name}", next=f"Give at least {start.least}")
    centre = points.mean(0)
    # Each coordinate by itself in memory, as residuals are worked out.
    local = np.asfortranarray(points - centre)
    return centre, local, float(np.linalg.norm(local) / np.sqrt(len(local))) or 1.0


def _brought(start: F, centre: Floats) -> F:
    return start.moved(RigidTransform.translation(-centre)).anchored(np.zeros(3))


def _settled(state: _State[F], local: Floats, size: float, damping: float = 1e-3, rounds: int = ROUNDS) -> _State[F]:
    for _ in range(rounds):
        step = _damped_step(state, damping)
        if float(np.abs(state.jacobian @ step).max()) < SETTLED * size:
            break
        try:
            after = _State.of(state.feature.stepped(step).anchored(np.zeros(3)), local)
        except InputError:
            after = None
        if after is not None and after.cost <= state.cost:
            state, damping = after, max(damping / 10, 1e-12)
        elif damping > 1e10:
            break
        else:
            damping *= 10
    return state


def _damped_step(state: _State[F], damping: float) -> Floats:
    matrix, side, scale = state.normal
    return np.asarray(-np.linalg.solve(matrix + damping * np.eye(len(scale)), side) / scale)


def _check(state: _State[F], size: float) -> None:
    """Whether the points hold the feature at all."""
    endless = any(name.endswith("radius") and value > 1e4 * size for name, value in state.feature.sizes.items())
    if not np.isfinite(state.cost) or endless or _least_held(state) < LOOSE:
        raise FitError(state.feature.loose[0], next=state.feature.loose[1])


def _check_bent(state: _State[F], local: Floats) -> None:
    """Whether points (N, 3) of something round leave a plane along its axis by more than chance: a degree of an arc fits any radius."""
    if state.feature.rows > 1 or not hasattr(state.feature, "radius") or hasattr(state.feature, "minor_radius"):
        return
    axis = getattr(state.feature, "axis", None)
    across = local if axis is None else local @ orthonormal_frame(axis)[:2].T
    left = state.cost / len(local)
    flat = float(np.linalg.eigvalsh(across.T @ across)[0]) / len(local)
    if left > 0 and (flat - left) / left * independent_among(local) < BENT:
        raise FitError(state.feature.loose[0], next=state.feature.loose[1])


def _least_held(state: _State[F]) -> float:
    """How little the points move by the change of the feature that moves them least, as a share of what moves them most."""
    scale = np.linalg.norm(state.jacobian, axis=0)
    if scale.min() == 0 or not np.isfinite(scale).all():
        return 0.0
    squares = np.linalg.eigvalsh(state.normal[0])
    if squares[0] > PLAIN * squares[-1]:
        return float(np.sqrt(squares[0] / squares[-1]))
    # What is nearly free is lost in the squares; the rows themselves still tell.
    values = np.linalg.svd(state.jacobian / scale, compute_uv=False)
    return float(values[-1] / values[0])


def _fit(feature: F, points: Floats, state: _State[F]) -> Fit[F]:
    distances = state.residuals if feature.rows == 1 else feature.distances(points)
    places = points if feature.rows == 1 else np.repeat(points, feature.rows, axis=0)
    covariance = covariance_of(state.jacobian, state.residuals, places)
    return Fit(feature, len(points), float(np.sqrt(np.mean(distances**2))), float(np.ptp(distances)), covariance)


def covariance_of(jacobian: Floats, residuals: Floats, places: Floats) -> Floats:
    """Covariance (P, P) of a step whose residuals (R,) were taken at places (R, 3) of one surface."""
    return clustered_covariance(jacobian, residuals, places, len(places) / independent_among(places))


def independent_among(points: Floats) -> float:
    """How many independent points some points (N, 3) of one surface are worth."""
    return effective_count(len(points), _area(points))


def _area(points: Floats) -> float:
    """About how much surface points lie on, mm2, by the cubes that hold any of them.

    A surface of unit area crosses 1.5 unit cubes, on average over all directions.
    """
    side = 2 * CORRELATION_LENGTH
    rows = np.ascontiguousarray(points.T)
    x, y, z = ((rows - rows.min(1)[:, None]) / side).astype(np.int64)
    keys = (x * (y.max() + 1) + y) * (z.max() + 1) + z
    held = np.count_nonzero(np.bincount(keys)) if keys.max() < 8 * len(keys) else len(np.unique(keys))
    return float(held * side**2 / 1.5)


def effective_count(count: int, area: float, length: float = CORRELATION_LENGTH) -> float:
    """How many independent points a patch of `area` mm2 with `count` points is worth."""
    return float(max(min(count, area / length**2), 1.0))
