"""How much of the measured surface is captured: cells of it, each with the points it has and the points it needs."""

from __future__ import annotations

from dataclasses import dataclass
from enum import IntEnum
from functools import cached_property
from typing import TYPE_CHECKING

import numpy as np

from juxtum.geometry.arrays import Bools, Floats, Ints, frozen, unit
from juxtum.geometry.kdtree import kd_tree
from juxtum.nominal import Nominal, faces_mask
from juxtum.plan.targets.views import row_keys

if TYPE_CHECKING:
    from scipy.spatial import cKDTree

ONE_PASS, ENOUGH = 0.3, 0.9
"""Points of a cell, as a share of those it needs at the planned spacing, that make one pass and enough."""
LOOKED_AT = 2500
"""Points of a frame that are looked up; the rest counts by their share."""
POINTS_ACROSS = 4.0


class Seen(IntEnum):
    """What there is of a cell."""

    NOT_YET = 0
    ONE_PASS = 1
    ENOUGH = 2


@dataclass(frozen=True, eq=False)
class Cells:
    """Pieces of the measured surface, part coordinates.

    Parameters
    ----------
    places, normals : array (C, 3)
    areas : array (C,)
        mm2.
    faces : array (C,)
        Numbers of the faces.
    samples, owners : array (N,)
        Rows of the nominal's samples that they are made of, and the cell of each.
    size : float
        mm.
    """

    places: Floats
    normals: Floats
    areas: Floats
    faces: Ints
    samples: Ints
    owners: Ints
    size: float

    @cached_property
    def tree(self) -> cKDTree:
        """For asking which cell is near."""
        return kd_tree(self.places)


def make_cells(nominal: Nominal, faces: tuple[int, ...], spacing: float) -> Cells:
    """Cells on some faces, a few points of the planned spacing wide."""
    samples = nominal.samples
    size = max(POINTS_ACROSS * spacing, 1.2 * samples.size, nominal.diagonal / 260)
    rows = np.flatnonzero(faces_mask(samples.faces, faces))
    centres, normals, areas = (
        samples.centres[rows],
        samples.mesh.triangle_normals[rows],
        samples.mesh.triangle_areas[rows],
    )
    octant = ((normals > 0.5).astype(np.int64) - (normals < -0.5)) + 1
    keys = row_keys(np.column_stack([samples.faces[rows], np.floor(centres / size).astype(np.int64), octant]))
    _, first, owners = np.unique(keys, return_index=True, return_inverse=True)
    total = np.bincount(owners, areas)
    means = np.stack([np.bincount(owners, areas * centres[:, k]) / total for k in range(3)], 1)
    facing = unit(np.stack([np.bincount(owners, areas * normals[:, k]) for k in range(3)], 1))
    numbers = frozen(samples.faces[rows][first] + 1, np.int32)
    return Cells(
        frozen(means), frozen(facing), frozen(total), numbers, frozen(rows, np.int64), frozen(owners, np.int64), size
    )


class Coverage:
    """Counts points cell by cell as they come.

    Parameters
    ----------
    cells : Cells
    spacing : float
        Planned between points, mm.
    """

    def __init__(self, cells: Cells, spacing: float) -> None:
        self.cells, self.spacing = cells, spacing
        self.needed = np.maximum(cells.areas / spacing**2, 3.0)
        self.counts = np.zeros(len(cells.areas))

    def rows_of(self, places: Floats, normals: Floats) -> Ints:
        """The cell (N,) that each place (N, 3) in part coordinates belongs to, -1 for none."""
        _, rows = self.cells.tree.query(places, distance_upper_bound=0.9 * self.cells.size)
        found = rows < len(self.cells.areas)
        near = np.where(found, rows, 0)
        found &= np.einsum("ij,ij->i", self.cells.normals[near], normals) > 0.3
        return np.where(found, near, -1)

    def count(self, places: Floats, normals: Floats) -> Floats:
        """Points (C,) that a frame adds to each cell; does not take them yet."""
        step = max(1, -(-len(places) // LOOKED_AT))
        return self.count_all(places[::step], normals[::step]) * step

    def count_all(self, places: Floats, normals: Floats) -> Floats:
        """As `count`, looking every point up."""
        rows = self.rows_of(places, normals)
        return np.bincount(rows[rows >= 0], minlength=len(self.counts)).astype(np.float64)

    @property
    def seen(self) -> Ints:
        """What there is of each cell (C,), values of `Seen`."""
        share = self.counts / self.needed
        return np.where(share >= ENOUGH, Seen.ENOUGH, np.where(share >= ONE_PASS, Seen.ONE_PASS, Seen.NOT_YET)).astype(
            np.int8
        )

    def share(self, least: Seen = Seen.ENOUGH, among: Bools | None = None) -> float:
        """Share of the area of which there is at least so much, 0 to 1."""
        areas = self.cells.areas if among is None else np.where(among, self.cells.areas, 0.0)
        total = float(areas.sum())
        return min(float(areas[self.seen >= least].sum() / total), 1.0) if total > 0 else 1.0

    def missing_by_face(self) -> dict[int, float]:
        """Area of each face that is not yet seen enough, mm2, most first."""
        lost = np.bincount(self.cells.faces, self.cells.areas * (self.seen < Seen.ENOUGH))
        return {int(f): float(lost[f]) for f in np.argsort(-lost) if lost[f] > 0}
