"""How well a feature is known where it can hardly be told from one that lies otherwise."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from juxtum.associate.solve import Fit
from juxtum.geometry.arrays import Floats
from juxtum.geometry.features import Feature

LEAST = 1e-12


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
