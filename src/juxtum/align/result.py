"""What every alignment reports."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from juxtum.geometry import RigidTransform
from juxtum.geometry.arrays import Floats, cross, frozen

AXES = ("Tx", "Ty", "Tz", "Rx", "Ry", "Rz")


@dataclass(frozen=True, eq=False)
class Alignment:
    """A transform from the scan into part coordinates, and how well it is known.

    Parameters
    ----------
    transform : RigidTransform
        Scan in mm to part in mm.
    method : str
        Rough, pairs, best fit or datums; as the user reads it.
    rms : float
        Of the residuals that were minimised, mm.
    used : int
        Points that took part.
    covariance : array (6, 6)
        Of three shifts (mm2) and three turns (rad2) about `centre`, in part axes.
    centre : array (3,)
        Where the covariance is taken, part coordinates.
    locked : dict
        For each of Tx Ty Tz Rx Ry Rz what locks it.
    notes : tuple of str
        Anything that the user should know, such as an ambiguity.
    alternatives : tuple of RigidTransform
        Other poses that fit as well.
    anchors : array (K, 3), optional
        Middles of the datum features, from which lengths count; part coordinates.
    """

    transform: RigidTransform
    method: str
    rms: float
    used: int
    covariance: Floats
    centre: Floats
    locked: dict[str, str] = field(default_factory=dict)
    notes: tuple[str, ...] = ()
    alternatives: tuple[RigidTransform, ...] = ()
    anchors: Floats | None = None

    def point_uncertainty(self, points: Floats, normals: Floats) -> Floats:
        """Standard uncertainty (N,) along the normals that the alignment alone brings, mm.

        The covariance is carried to each point by the Jacobian of its distance (GUM, propagation of uncertainty).
        """
        arms = np.asarray(points) - self.centre
        jacobian = np.concatenate([normals, cross(arms, normals)], axis=1)
        variance = np.einsum("ij,jk,ik->i", jacobian, self.covariance, jacobian)
        return np.asarray(np.sqrt(np.maximum(variance, 0.0)))


def no_alignment(transform: RigidTransform | None = None) -> Alignment:
    """The scan taken as it lies, which is taken to be known exactly."""
    t = transform or RigidTransform.identity()
    locked = dict.fromkeys(AXES, "given")
    return Alignment(t, "none", 0.0, 0, frozen(np.zeros((6, 6))), frozen(np.zeros(3)), locked)
