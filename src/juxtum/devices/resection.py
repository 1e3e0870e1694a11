"""The pose of a scanner from the targets that it sees, with its covariance."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from juxtum.geometry import RigidTransform
from juxtum.geometry.arrays import Floats, frozen
from juxtum.geometry.registration import rigid_from_pairs

MOVED = 25.0
"""A target whose squared residual is so many times what noise explains has moved."""


@dataclass(frozen=True, eq=False)
class Resection:
    """A pose and how well it is known.

    Parameters
    ----------
    pose : RigidTransform
        From the device to the map.
    centre : array (3,)
        Weighted middle of the targets in the map, about which the covariance holds.
    covariance : array (6, 6)
        Of a small shift (mm) and turn (rad) about the middle.
    chi : array (N,)
        Squared residual of each target in units of its variance.
    """

    pose: RigidTransform
    centre: Floats
    covariance: Floats
    chi: Floats

    def spread_at(self, place: Floats) -> float:
        """Largest standard uncertainty that the pose brings to a place (3,) of the map, mm."""
        x, y, z = np.asarray(place) - self.centre
        lever = np.array([[0, z, -y], [-z, 0, x], [y, -x, 0]])
        jacobian = np.hstack([np.eye(3), lever])
        return float(np.sqrt(max(np.linalg.eigvalsh(jacobian @ self.covariance @ jacobian.T)[-1], 0.0)))


def resect(observed: Floats, known: Floats, variances: Floats) -> Resection:
    """Weighted rigid registration of observed targets (N, 3) to the map (N, 3).

    The covariance follows from the normal equations of the small motion about the weighted middle: the shift has
    1 / sum(w), the turn the inverse of sum(w (|d|^2 I - d d^T)); see Arun, Huang, Blostein, "Least-squares fitting of
    two 3-D point sets" (1987) for the registration.

    Parameters
    ----------
    variances : array (N,)
        Of each coordinate of the difference, mm2.
    """
    w = 1 / variances
    total = float(w.sum())
    to_centre = w @ known / total
    b = known - to_centre
    pose = rigid_from_pairs(observed, known, w)
    residuals = known - pose.apply(observed)
    moment = np.einsum(
        "n,nij->ij", w, np.einsum("ni,ni->n", b, b)[:, None, None] * np.eye(3) - np.einsum("ni,nj->nij", b, b)
    )
    covariance = np.zeros((6, 6))
    covariance[:3, :3] = np.eye(3) / total
    covariance[3:, 3:] = np.linalg.pinv(moment, rcond=1e-12)
    return Resection(pose, frozen(to_centre), frozen(covariance), frozen((residuals**2).sum(1) / variances))


def resect_robust(observed: Floats, known: Floats, variances: Floats, least: int) -> tuple[Resection, list[int]]:
    """Registration that leaves out targets that have moved, while more than `least` remain; and their rows."""
    rows, moved = list(range(len(observed))), list[int]()
    while True:
        found = resect(observed[rows], known[rows], variances[rows])
        if len(rows) <= least or found.chi.max() < MOVED:
            return found, moved
        # The one without which the others agree best.
        sums = [
            resect(observed[r], known[r], variances[r]).chi.sum()
            for k in range(len(rows))
            for r in [rows[:k] + rows[k + 1 :]]
        ]
        worst = int(np.argmin(sums))
        if sums[worst] > 0.5 * found.chi.sum():
            return found, moved
        moved.append(rows.pop(worst))
