"""What a surface alone can hold: which motions of a scan over it would not be noticed."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from juxtum.align.best_fit import free_motion
from juxtum.geometry.arrays import Floats, frozen
from juxtum.nominal import Nominal
from juxtum.plan.task import rows_of

LOOSE = 0.02
"""A motion that changes the surface by less than this share of the distance moved is hardly held."""


@dataclass(frozen=True, eq=False)
class ShapeHold:
    """How well a surface holds each motion.

    Parameters
    ----------
    normal : array (6, 6)
        Mean of the outer products of the motions' effect, turns scaled by `size`, about `centre`.
    share : float
        Root mean square movement along the normals for a unit movement in the weakest direction, 0 to 1.
    free : tuple of str
        Motions that are hardly held, in words.
    """

    normal: Floats
    centre: Floats
    size: float
    share: float
    free: tuple[str, ...]

    @property
    def is_enough(self) -> bool:
        """Whether every motion is held."""
        return not self.free


def shape_hold(nominal: Nominal, faces: tuple[int, ...] = ()) -> ShapeHold:
    """Eigenvalues of the normal matrix of a point-to-surface fit over some faces.

    A motion with a small eigenvalue slides the surface along itself (Gelfand, Ikemoto, Rusinkiewicz and Levoy,
    "Geometrically stable sampling for the ICP algorithm", 3DIM 2003).
    """
    rows = rows_of(nominal, faces)
    mesh = nominal.mesh
    areas, normals = mesh.triangle_areas[rows], mesh.triangle_normals[rows]
    corners = mesh.corners[rows]
    total = max(float(areas.sum()), 1e-12)
    centres = corners.mean(1)
    middle = areas @ centres / total
    size = max(float(np.sqrt(areas @ ((centres - middle) ** 2).sum(1) / total)), 1e-9)
    # Three points inside each triangle integrate squares over it exactly.
    spots = np.einsum("qk,nkd->nqd", np.array([[4, 1, 1], [1, 4, 1], [1, 1, 4]]) / 6, corners) - middle
    repeated = np.broadcast_to(normals[:, None], spots.shape)
    rates = np.concatenate([repeated, np.cross(spots, repeated) / size], axis=2)
    normal = np.einsum("n,nqi,nqj->ij", areas, rates, rates) / (3 * total)
    values, vectors = np.linalg.eigh(normal)
    shares = np.sqrt(np.maximum(values, 0.0))
    scale = np.array([1, 1, 1, 1 / size, 1 / size, 1 / size])
    free = tuple(free_motion(vectors[:, k] * scale, middle) for k in range(6) if shares[k] < LOOSE)
    return ShapeHold(frozen(normal), frozen(middle), size, float(shares[0]), free)


def alignment_spread(hold: ShapeHold, area: float, noise: float, points: Floats) -> Floats:
    """Standard uncertainty (N,) that an alignment to a surface brings at places, in any direction, mm.

    Parameters
    ----------
    area : float
        Of the surface aligned to, mm2; neighbouring points share their errors over 1 mm.
    noise : float
        Of a single point, mm.
    """
    scale = np.array([1, 1, 1, 1 / hold.size, 1 / hold.size, 1 / hold.size])
    covariance = np.linalg.pinv(hold.normal, rcond=LOOSE**2, hermitian=True) * noise**2 / max(area, 1.0)
    covariance = covariance * scale[:, None] * scale
    arms = points - hold.centre
    zero = np.zeros(len(arms))
    x, y, z = arms.T
    cross = np.stack([np.stack([zero, z, -y], -1), np.stack([-z, zero, x], -1), np.stack([y, -x, zero], -1)], 1)
    jacobian = np.concatenate([np.broadcast_to(np.eye(3), cross.shape), cross], axis=2)
    spread = np.einsum("nij,jk,nlk->nil", jacobian, covariance, jacobian)
    return np.asarray(np.sqrt(np.maximum(np.linalg.eigvalsh(spread)[:, -1], 0.0)))
