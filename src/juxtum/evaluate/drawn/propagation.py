"""Uncertainty of a value from that of the features it is made of, to first order (GUM 5.1.2)."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np

from juxtum.geometry.arrays import Floats
from juxtum.geometry.features import Feature

STEP = 1e-4
"""Of a derivative, mm or radians."""


def of_length(standard: float, length: float) -> float:
    """Standard uncertainty of the length of an offset whose parts along and across it are each as unsure.

    What is across makes a short offset longer, and a long one hardly so: of one that is nothing in truth the length
    scatters by both (Rayleigh).

    Examples
    --------
    >>> round(of_length(0.01, 0.0), 4), round(of_length(0.01, 1.0), 4)
    (0.0141, 0.01)
    """
    return float(standard * np.sqrt(1 + min(1.0, standard / max(length, 1e-12)) ** 2))


def spread_of(
    value: Callable[[Sequence[Feature]], float], features: Sequence[Feature], covariances: Sequence[Floats]
) -> float:
    """Standard uncertainty of a value, in its unit.

    Parameters
    ----------
    value : callable
        Of the features.
    covariances : sequence of array (P, P)
        Of a step of each.

    Examples
    --------
    >>> from juxtum.geometry import Plane
    >>> two = [Plane(np.array([0.0, 0, z]), np.array([0.0, 0, 1])) for z in (0, 5)]
    >>> round(spread_of(lambda f: float(f[1].point[2] - f[0].point[2]), two, [np.diag([9e-6, 0, 0]), np.diag([16e-6, 0, 0])]), 6)
    0.005
    """
    at, variance = value(features), 0.0
    for index, (feature, covariance) in enumerate(zip(features, covariances, strict=True)):
        slopes = []
        for row in STEP * np.eye(len(covariance)):
            stepped = [feature.stepped(row) if k == index else other for k, other in enumerate(features)]
            slopes.append((value(stepped) - at) / STEP)
        jacobian = np.array(slopes)
        variance += float(jacobian @ covariance @ jacobian)
    return float(np.sqrt(max(variance, 0.0)))
