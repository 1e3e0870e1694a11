"""Signed distances of a scan from the nominal surface."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np

from juxtum.geometry import RigidTransform
from juxtum.geometry.arrays import Bools, Floats, Ints, frozen
from juxtum.geometry.mesh import Scan
from juxtum.nominal import Nominal
from juxtum.progress import Progress, silent

CHUNK = 400_000


@dataclass(frozen=True)
class SearchRule:
    """Beyond which the nominal is not looked for: a distance in mm and an angle in degrees."""

    limit: float = 3.0
    angle: float = 60.0


@dataclass(frozen=True, eq=False)
class Deviation:
    """A scan held against the nominal, in part coordinates.

    Parameters
    ----------
    points : array (N, 3)
        Measured points, mm.
    distances : array (N,)
        Along the outward nominal normal, + proud, - shy, mm; NaN where there is no nominal within the search limits.
    feet, normals : array (N, 3)
        Nearest points of the nominal and its outward normals there.
    faces : array (N,)
        Index of the nominal face, -1 for none.
    weights : array (N,)
        Area that each point stands for, mm2.
    clear : array (N,)
        Where the foot keeps clear of sharp edges, which scanners round.
    seen : array (K,)
        Which of the nominal's samples have data.
    nominal : Nominal
    spacing : float
        Of the scan, mm.
    """

    points: Floats
    distances: Floats
    feet: Floats
    normals: Floats
    faces: Ints
    weights: Floats
    clear: Bools
    seen: Bools
    nominal: Nominal
    spacing: float

    @property
    def found(self) -> Bools:
        """Where there is a deviation (N,)."""
        return np.asarray(self.faces >= 0)

    @cached_property
    def area_seen(self) -> float:
        """Fraction of the nominal area that has data, 0 to 1."""
        return self.area_seen_of(())

    def area_seen_of(self, numbers: tuple[int, ...]) -> float:
        """The same for some faces by their numbers; all when empty."""
        samples = self.nominal.samples
        areas = samples.mesh.triangle_areas
        if numbers:
            areas = np.where(np.isin(samples.faces, np.array(numbers) - 1), areas, 0.0)
        total = float(areas.sum())
        return float(areas[self.seen].sum() / total) if total > 0 else 0.0

    @cached_property
    def foot_tree(self) -> Any:
        """Nearest-neighbour tree over the feet of the points that have a deviation, and their rows."""
        from scipy.spatial import cKDTree

        rows = np.flatnonzero(self.found)
        return cKDTree(self.feet[rows]) if len(rows) else None, rows


def measure_deviation(
    scan: Scan,
    nominal: Nominal,
    transform: RigidTransform,
    rule: SearchRule | None = None,
    progress: Progress | None = None,
) -> Deviation:
    """Hold a scan against the nominal.

    Parameters
    ----------
    scan : TriangleMesh or PointCloud
        In its own frame, mm.
    transform : RigidTransform
        Scan to part.
    """
    rule, progress = rule or SearchRule(), progress or silent()
    points = transform.apply(scan.points)
    directions = None if scan.normals is None else transform.turn(scan.normals)
    pieces = []
    for start in range(0, len(points), CHUNK):
        progress.phase("measuring the distance to the nominal", start / len(points))
        part = slice(start, start + CHUNK)
        near = None if directions is None else directions[part]
        pieces.append(nominal.projector.project(points[part], near, limit=rule.limit, angle=rule.angle))
    distances = np.concatenate([p.distances for p in pieces])
    feet = np.concatenate([p.feet for p in pieces])
    normals = np.concatenate([p.normals for p in pieces])
    faces = np.concatenate([p.faces for p in pieces])
    border = np.concatenate([p.on_border for p in pieces])
    progress.phase("keeping clear of edges", 0.9)
    found = faces >= 0
    margin = edge_margin(scan.spacing)
    clear = np.zeros(len(points), dtype=bool)
    clear[found] = ~border[found] & (nominal.edge_distances(feet[found], margin) >= margin)
    seen = _seen_samples(nominal, feet[found], faces[found], scan.spacing)
    return Deviation(
        frozen(points), frozen(distances), frozen(feet), frozen(normals), frozen(faces, np.int32),
        frozen(scan.point_areas), frozen(clear, np.bool_), frozen(seen, np.bool_), nominal, scan.spacing,
    )  # fmt: skip


def edge_margin(spacing: float) -> float:
    """How far from a sharp edge a scan is trusted, mm: twice its spacing, but between 0.5 and 3 mm."""
    return float(np.clip(2 * spacing, 0.5, 3.0))


def _seen_samples(nominal: Nominal, feet: Floats, faces: Ints, spacing: float) -> Bools:
    """Which samples of the nominal have a foot on their own face within two and a half spacings."""
    from scipy.spatial import cKDTree

    samples = nominal.samples
    if len(feet) == 0:
        return np.zeros(len(samples.faces), dtype=bool)
    # The face's number as a fourth coordinate keeps the far side of a thin wall from counting.
    apart = 10 * nominal.diagonal
    data = np.column_stack([feet, faces * apart])
    wanted = np.column_stack([samples.centres, samples.faces * apart])
    reach = max(2.5 * spacing, 0.35 * samples.size)
    distances, _ = cKDTree(data, balanced_tree=False, compact_nodes=False).query(
        wanted, distance_upper_bound=reach, workers=2
    )
    return np.asarray(np.isfinite(distances))
