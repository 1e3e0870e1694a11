"""The axis of two cylinders together, each with a radius of its own."""

from __future__ import annotations

import numpy as np

from juxtum.associate.solve import Fit, gauss
from juxtum.geometry.arrays import Floats
from juxtum.geometry.features import Cylinder, Line

MOST = 8000
"""Points of each that the axis is fitted to: both count alike."""
ROUNDS = 8


def fit_coaxial(one: Floats, two: Floats, start: Cylinder) -> Fit[Line]:
    """The axis of least squares of two cylinders about one line, each with a radius of its own.

    The second is brought to the radius of the first along the way out from the axis found so far; then both are one
    cylinder, and so on until the axis stays.

    Parameters
    ----------
    one, two : array (N, 3), (M, 3)
        Points on each, mm; each counts alike.
    start : Cylinder
        Near the first.

    Examples
    --------
    >>> turn = np.linspace(0, 6, 40)
    >>> ring = np.column_stack([np.cos(turn), np.sin(turn), np.zeros(40)])
    >>> made = fit_coaxial(4 * ring, 7 * ring + [0, 0, 90], Cylinder(np.zeros(3), np.array([0.0, 0, 1]), 4))
    >>> np.round(np.abs(made.feature.axis), 9).tolist()
    [0.0, 0.0, 1.0]
    """
    count = min(len(one), len(two), MOST)
    one, two = (points[np.linspace(0, len(points) - 1, count).astype(np.int64)] for points in (one, two))
    axis = start
    for _ in range(ROUNDS):
        first, second = (float(Line(axis.point, axis.axis).distances(p).mean()) for p in (one, two))
        foot = axis.point + np.outer((two - axis.point) @ axis.axis, axis.axis)
        out = two - foot
        brought = two + (first - second) * out / np.maximum(np.linalg.norm(out, axis=1), 1e-12)[:, None]
        fit = gauss(Cylinder(axis.point, axis.axis, first), np.concatenate([one, brought]))
        ends = np.stack([one.mean(0), two.mean(0)])
        moved = max(np.linalg.norm(fit.feature.anchored(p).point - axis.anchored(p).point) for p in ends)
        axis = fit.feature
        if moved < 1e-10:
            break
    return Fit(Line(axis.point, axis.axis), fit.count, fit.rms, fit.form, fit.covariance[:4, :4])
