"""Walls so thin that a point without a normal may belong to either side of them."""

from __future__ import annotations

import numpy as np

from juxtum.nominal import Nominal

SAMPLE = 3000
TELLING = 0.02
"""Share of the part's area that must be so thin before it is told."""


def thinnest_walls(nominal: Nominal, below: float) -> float | None:
    """Thickness (mm) of the walls of a part that are thinner than `below` mm; None where there are next to none.

    A wall is thin where the opposite side lies near: the nearest surface that looks the other way, straight inwards.
    """
    samples = nominal.samples
    rows = samples.even_rows(SAMPLE)
    places, normals = samples.centres[rows], samples.mesh.triangle_normals[rows]
    back = nominal.mesh.tree.query(places, -normals, limit=below, angle=30.0)
    feet = np.einsum("ij,ijk->ik", back.weights, nominal.mesh.corners[np.where(back.found, back.triangles, 0)])
    inwards = np.einsum("ij,ij->i", places - feet, normals)
    thin = back.found & (inwards > 0.8 * back.distances) & (back.distances > 0)
    return float(np.quantile(back.distances[thin], 0.05)) if thin.mean() > TELLING else None
