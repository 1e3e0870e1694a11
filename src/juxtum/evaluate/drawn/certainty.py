"""How well a feature is known where it can hardly be told from one that lies otherwise."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from juxtum.associate.fit import inliers
from juxtum.associate.solve import Fit, covariance_of, independent_among
from juxtum.geometry.arrays import Floats, orthonormal_frame
from juxtum.geometry.features import Feature
from juxtum.geometry.features.base import Axial

LEAST = 1e-12
MOST_BEND = 0.25
"""Share of what a tilt does to distances that may be bent before a fit by many steps is no longer believed."""
SETTLING = 6
UNKNOWN = 0.1
"""Standard deviation of a direction that was not told, radians, at least."""


def at_least_as_drawn(fit: Fit[Feature], nominal: Feature, points: Floats, feet: Floats) -> Fit[Feature]:
    """A fit whose covariance is nowhere less than what the same places tell of the feature as it was drawn.

    A narrow chamfer tells a tilt of its axis from a shift by its width alone. A fit that noise has tilted sees it wider
    than it is, and believes itself: 60 scans of one scattered by 1.7 times what each said (2.4 with noise that is alike over
    some millimetres). Where noise moves a feature little, both are the same.

    Parameters
    ----------
    nominal : Feature
    points, feet : array (N, 3)
        Measured places, and those places on the drawn surface that belong to them.
    """
    measured = fit.feature
    axis, drawn = getattr(measured, "axis", None), getattr(nominal, "axis", None)
    if axis is None or drawn is None or len(points) < fit.covariance.shape[0]:
        return fit
    turn = _turn(drawn, axis if float(drawn @ axis) > 0 else -axis)
    laid = measured.point + (feet - nominal.anchored(measured.point).point) @ turn.T
    as_found, as_drawn = (measured.linearised(places)[1] for places in (points, laid))
    return replace(fit, covariance=_larger(fit.covariance, as_found, as_drawn))


def freed_of_oval(fit: Fit[Feature], nominal: Feature, points: Floats, feet: Floats) -> Fit[Feature]:
    """A fit that does not tilt a narrow feature to explain that it is oval.

    A band of a chamfer tells a tilt from a shift by its width alone, but both together, far along what it does not tell, look
    like an oval: a fit goes there for an oval of a thousandth. A chamfer 2.8 mm wide, scanned by a head, was "0.69 +- 0.28 mm
    off the bore's axis" where it was on it. So where a tilt bends what distances do, an oval is found beside the feature.

    Parameters
    ----------
    nominal : Feature
        As it was drawn.
    points, feet : array (N, 3)
        Measured places, and those places on the drawn surface that belong to them.
    """
    measured = fit.feature
    if nominal.tilts == slice(0, 0) or nominal.rows > 1 or not isinstance(measured, Axial):
        return fit
    mine = inliers(measured.distances(points))
    points, feet = points[mine], feet[mine]
    if len(points) < 2 * fit.covariance.shape[0] or _bend(nominal, feet, measured.distances(points)) < MOST_BEND:
        return fit
    laid: Feature = measured
    for index in range(SETTLING):
        rows = np.column_stack([laid.linearised(points)[1], _oval(laid, points)])
        left = laid.distances(points)
        step = _step(rows, left)
        if index == 0:
            known = fit.rms / np.sqrt(independent_among(points))
            leaning = _leaning(rows, laid.tilts, known * np.sqrt(len(points)))
            if _curved(laid, leaning, points) > 2 * known:
                return _as_drawn_directed(fit, nominal, points, leaning)
        laid = laid.stepped(step[:-2]).anchored(points.mean(0))
    return replace(fit, feature=laid, covariance=covariance_of(rows, left + rows @ step, points)[:-2, :-2])


def _leaning(rows: Floats, tilts: slice, noise: float) -> Floats:
    """Standard deviation of each tilt, radians, by what its column says that no other says; a radian where that is nothing."""
    spreads = []
    for column in range(*tilts.indices(rows.shape[1])):
        others = np.delete(rows, column, axis=1)
        alone = rows[:, column] - others @ np.linalg.lstsq(others, rows[:, column], rcond=1e-9)[0]
        spreads.append(min(noise / max(float(np.linalg.norm(alone)), LEAST), 1.0))
    return np.array(spreads)


def _curved(laid: Feature, leaning: Floats, points: Floats) -> float:
    """By how much distances bend within one standard deviation of a tilt, root mean square, mm."""
    at, bends = laid.distances(points), []
    for column, spread in enumerate(leaning, laid.tilts.start):
        step = np.zeros(laid.linearised(points[:1])[1].shape[1])
        step[column] = spread
        there, back = (laid.stepped(sign * step).distances(points) for sign in (1, -1))
        bends.append(float(np.sqrt(np.mean((there + back - 2 * at) ** 2))) / 2)
    return max(bends)


def _as_drawn_directed(fit: Fit[Feature], nominal: Feature, points: Floats, leaning: Floats) -> Fit[Feature]:
    """A fit in the direction that was drawn: a row of points round a shaft tells its size, and nothing of how its axis leans."""
    laid, others = nominal.anchored(points.mean(0)), np.ones(len(fit.covariance), dtype=bool)
    others[nominal.tilts] = False
    for _ in range(SETTLING):
        rows, left = laid.linearised(points)[1][:, others], laid.distances(points)
        step = np.zeros(len(others))
        step[others] = _step(rows, left)
        laid = laid.stepped(step)
    covariance = np.zeros_like(fit.covariance)
    covariance[np.ix_(others, others)] = covariance_of(rows, left + rows @ step[others], points)
    leans = np.flatnonzero(~others)
    covariance[leans, leans] = np.maximum(leaning, UNKNOWN) ** 2
    return replace(fit, feature=laid, covariance=covariance)


def _oval(laid: Feature, points: Floats) -> Floats:
    """How distances (N, 2) go with an oval along two directions."""
    assert isinstance(laid, Axial)
    x, y, _ = orthonormal_frame(laid.axis) @ (points - laid.point).T
    turn = 2 * np.arctan2(y, x)
    return np.column_stack([np.cos(turn), np.sin(turn)])


def _step(jacobian: Floats, residuals: Floats) -> Floats:
    return np.asarray(-np.linalg.lstsq(jacobian, residuals, rcond=1e-9)[0], dtype=np.float64)


def _bend(nominal: Feature, feet: Floats, residuals: Floats) -> float:
    """How much is bent of what distances do within two standard deviations of a tilt, all else going along with it; 0 when all is straight."""
    covariance = covariance_of(nominal.linearised(feet)[1], residuals, feet)
    at = nominal.distances(feet)
    bends = []
    for column in range(*nominal.tilts.indices(len(covariance))):
        step = 2 * covariance[:, column] / np.sqrt(max(covariance[column, column], LEAST))
        there, back = (nominal.stepped(sign * step).distances(feet) for sign in (1, -1))
        bends.append(np.linalg.norm(there + back - 2 * at) / max(float(np.linalg.norm(there - back)), LEAST))
    return float(max(bends))


def _turn(one: Floats, other: Floats) -> Floats:
    """The smallest turn (3, 3) of a direction onto another one (Rodrigues)."""
    across, cosine = np.cross(one, other), float(one @ other)
    cross = np.array([[0, -across[2], across[1]], [across[2], 0, -across[0]], [-across[1], across[0], 0]])
    return np.asarray(np.eye(3) + cross + cross @ cross / (1 + cosine))


def _larger(covariance: Floats, found: Floats, drawn: Floats) -> Floats:
    """A covariance (P, P) stretched along every direction in which the second set of rows tells less than the first.

    What the second set tells nothing of at all counts as told very little, not as known.
    """
    scale = np.maximum(np.sqrt(np.diag(found.T @ found)), LEAST)
    one, other = (_powers(rows / scale) for rows in (found, drawn))
    held, loose = one
    ratios, ways = np.linalg.eigh(held @ other[1] @ other[1].T @ held.T)
    stretch = loose @ (ways * np.sqrt(np.maximum(ratios, 1.0))) @ ways.T @ held
    stretch = stretch / scale[:, None] * scale[None, :]
    return np.asarray(stretch @ covariance @ stretch.T)


def _powers(rows: Floats) -> tuple[Floats, Floats]:
    """Square root of the normal matrix of some rows, and its inverse (P, P); never quite singular."""
    values, ways = np.linalg.eigh(rows.T @ rows)
    roots = np.sqrt(np.maximum(values, LEAST * max(float(values[-1]), LEAST)))
    return (ways * roots).T, ways / roots
