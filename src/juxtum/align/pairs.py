"""Alignment by picked pairs of points."""

from __future__ import annotations

import numpy as np

from juxtum.align.result import AXES, Alignment
from juxtum.errors import AlignmentError
from juxtum.geometry.arrays import Floats, frozen
from juxtum.geometry.registration import rigid_from_pairs


def align_pairs(measured: Floats, nominal: Floats) -> Alignment:
    """Alignment by at least three pairs.

    Parameters
    ----------
    measured, nominal : array (N, 3)
        Partners in scan and part coordinates, mm.

    Raises
    ------
    AlignmentError
        With fewer than three pairs, or when they lie (almost) on one line.
    """
    measured, nominal = np.asarray(measured, dtype=np.float64), np.asarray(nominal, dtype=np.float64)
    if len(measured) != len(nominal) or len(measured) < 3:
        raise AlignmentError(f"{len(measured)} pairs do not fix the part", "pairs", "Pick at least three")
    for points, side in ((measured, "scan"), (nominal, "nominal")):
        values = np.linalg.svd(points - points.mean(0), compute_uv=False)
        if values[1] < 0.02 * max(values[0], 1e-12):
            what = f"the points picked on the {side} lie on one line, so the part is free to turn about it"
            raise AlignmentError(what, "pairs", "Pick a point to the side of that line")
    transform = rigid_from_pairs(measured, nominal)
    residuals = np.linalg.norm(transform.apply(measured) - nominal, axis=1)
    rms = float(np.sqrt(np.mean(residuals**2)))
    centre = nominal.mean(0)
    covariance = pairs_covariance(nominal - centre, residuals)
    locked = dict.fromkeys(AXES, "pairs")
    return Alignment(transform, "pairs", rms, len(measured), frozen(covariance), frozen(centre), locked)


def pairs_covariance(arms: Floats, residuals: Floats) -> Floats:
    """Normal matrix of three coordinates at each point; the variance comes from the residuals."""
    normal = np.zeros((6, 6))
    for x, y, z in arms:
        skew = np.array([[0, z, -y], [-z, 0, x], [y, -x, 0]])
        jacobian = np.hstack([np.eye(3), skew])
        normal += jacobian.T @ jacobian
    freedom = max(3 * len(arms) - 6, 1)
    return np.asarray(np.linalg.inv(normal) * float(residuals @ residuals) / freedom)
