"""What comes of work on a surface: the surface, what is to be told, and how far it moved."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np

from juxtum.geometry import TriangleMesh
from juxtum.geometry.arrays import Floats

PATCH = 5.0
"""Distances between points that a patch is wide, over which noise is averaged."""
FEWEST = 8
"""Points that a patch needs."""


@dataclass(frozen=True, eq=False)
class Worked:
    """A surface after some work.

    Parameters
    ----------
    mesh : TriangleMesh
    notes : tuple of str
        What was found and done, each of them a clause.
    moved : array (N,), optional
        How far each place of it lies from the surface before, mm, along its normal: positive outwards. None where
        nothing that was measured moved.
    largest : float
        The largest displacement of anything measured, mm; it may lie beside the points of the new surface.
    """

    mesh: TriangleMesh
    notes: tuple[str, ...] = ()
    moved: Floats | None = None
    largest: float = 0.0

    @cached_property
    def shift(self) -> float:
        """Standard deviation, mm, of how far areas of the surface moved: what single points moved by for noise is not in it.

        Of patches some points wide the mean displacement is taken; from the scatter of those means goes what the scatter
        within a patch would make of it by chance.
        """
        if self.moved is None or len(self.moved) == 0:
            return 0.0
        main = np.abs(self.mesh.normals).argmax(1)
        cells = np.floor(self.mesh.points / max(PATCH * self.mesh.spacing, 1e-9)).astype(np.int64)
        _, owner, counts = np.unique(np.column_stack([cells, main]), axis=0, return_inverse=True, return_counts=True)
        owner = owner.ravel()
        means = np.bincount(owner, self.moved) / counts
        within = np.bincount(owner, (self.moved - means[owner]) ** 2) / np.maximum(counts - 1, 1)
        full = counts >= FEWEST
        if not full.any():
            return float(np.sqrt((self.moved**2).mean()))
        by_chance = within[full] / counts[full]
        return float(np.sqrt(max(np.average(means[full] ** 2 - by_chance, weights=counts[full]), 0.0)))
