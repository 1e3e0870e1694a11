"""Where a scan lies in two layers: one surface over the other, as after a jump of the scanner or a tie that is not quite right."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from juxtum.errors import InputError
from juxtum.geometry import TriangleMesh
from juxtum.geometry.arrays import Floats, Ints, frozen
from juxtum.geometry.kdtree import kd_tree
from juxtum.geometry.mesh import Scan
from juxtum.progress import Progress, silent

LOOKED_AT = 40_000
"""Places that are looked at."""
NEAR = 96
"""Neighbours of each."""
REACH = 6.0
BESIDE = 1.6
"""In spacings: how far apart two layers may be and be found, and what counts as over one place."""
ALIKE = 0.85
"""Cosine between directions of one surface; the other side of a thin wall looks the other way."""
CLEARLY = 6.0
"""Two layers are apart by so many times as either is thick; the halves of one layer by three and a half at most."""
EMPTY = 2.0
"""And nothing lies between them over so many times their thickness."""
LEAST_GAP = 0.03
"""mm."""
AMONG = 0.6
"""A place belongs to a patch of two layers when so many of those about it are double too: the foot of a step is a line."""
LEAST_PLACES = 12
LEAST_AREA = 40.0
"""Of a patch, in squares of the spacing."""
AT_ONCE = 8_000


@dataclass(frozen=True, eq=False)
class DoublePatch:
    """A patch in two layers.

    Parameters
    ----------
    place : array (3,)
        In the middle of it, mm.
    area : float
        Of one layer, mm2.
    gap : float
        Between both, the median, mm.
    """

    place: Floats
    area: float
    gap: float

    @property
    def words(self) -> str:
        """For a list."""
        x, y, z = self.place
        return f"{self.area:.0f} mm\u00b2 near {x:.0f}, {y:.0f}, {z:.0f}: {self.gap:.2f} mm apart"


@dataclass(frozen=True, eq=False)
class Layers:
    """What was found of two layers.

    Parameters
    ----------
    gaps : array (N,)
        At each point of the scan, mm; NaN where there is one layer.
    patches : tuple of DoublePatch
        Largest first.
    share : float
        Of the points that lie in two layers, 0 to 1.
    """

    gaps: Floats
    patches: tuple[DoublePatch, ...]
    share: float

    @property
    def sentence(self) -> str:
        """What to know of it."""
        if not self.patches:
            return "one layer everywhere"
        largest = self.patches[0]
        more = f", and {len(self.patches) - 1} more" if len(self.patches) > 1 else ""
        return f"two layers over {100 * self.share:.0f} % of the scan: {largest.words}{more}"


def find_layers(scan: Scan, progress: Progress | None = None) -> Layers:
    """Two heights over one place, both facing the same way, in patches and not along the foot of a step.

    Parameters
    ----------
    scan : TriangleMesh or PointCloud
        A cloud needs its normals.

    Raises
    ------
    InputError
        For a cloud without normals, or a scan of hardly any points.
    """
    progress = progress or silent()
    normals = scan.normals
    if normals is None:
        raise InputError("a list of points without directions does not tell its layers", "layers", "Bring it as a mesh")
    points, spacing = scan.points, scan.spacing
    if len(points) < NEAR:
        raise InputError(f"{len(points)} points are too few to tell layers", "layers", "Bring more of the scan")
    tree = kd_tree(points)
    rows = np.arange(0, len(points), max(1, len(points) // LOOKED_AT))
    found = np.full(len(rows), np.nan)
    for start in range(0, len(rows), AT_ONCE):
        progress.phase("looking for two layers", start / len(rows))
        progress.check()
        some = rows[start : start + AT_ONCE]
        found[start : start + AT_ONCE] = _gaps_at(points, normals, some, tree, spacing)
    places = points[rows]
    area = _area(scan) / len(rows)
    found, patches = _patches(places, _together(places, found), area, LEAST_AREA * spacing**2)
    near = kd_tree(places).query(points)[1]
    return Layers(frozen(found[near]), patches, float(np.isfinite(found).mean()))


def _gaps_at(points: Floats, normals: Floats, rows: Ints, tree: Any, spacing: float) -> Floats:
    """Distance between two layers at some points; NaN where there is one."""
    distances, near = tree.query(points[rows], k=NEAR, distance_upper_bound=REACH * spacing)
    there = np.isfinite(distances)
    near = np.where(there, near, rows[:, None])
    away = points[near] - points[rows][:, None]
    heights = np.einsum("nkd,nd->nk", away, normals[rows])
    beside = np.linalg.norm(away - heights[..., None] * normals[rows][:, None], axis=2)
    alike = np.einsum("nkd,nd->nk", normals[near], normals[rows]) > ALIKE
    over = there & alike & (beside <= BESIDE * spacing)
    # What does not count comes last, and no step leads to it.
    values = np.sort(np.where(over, heights, np.inf), axis=1)
    with np.errstate(invalid="ignore"):
        steps = np.diff(values, axis=1)
    counts = over.sum(1)
    inner = np.arange(1, NEAR)[None]
    steps = np.where((inner >= 2) & (inner <= counts[:, None] - 2) & np.isfinite(steps), steps, 0.0)
    cut = steps.argmax(1) + 1
    return _parted(values, counts, cut, steps.max(1))


def _parted(values: Floats, counts: Ints, cut: Ints, widest: Floats) -> Floats:
    """The mean distance of both parts of sorted heights (N, K), where the step between them is clear."""
    finite, place = np.where(np.isfinite(values), values, 0.0), np.arange(values.shape[1])[None]
    low, high = place < cut[:, None], (place >= cut[:, None]) & (place < counts[:, None])
    means, spreads = [], []
    for part in (low, high):
        count = np.maximum(part.sum(1), 1)
        mean = (finite * part).sum(1) / count
        means.append(mean)
        spreads.append(np.sqrt(((finite - mean[:, None]) ** 2 * part).sum(1) / count))
    gap, thick = means[1] - means[0], np.maximum(*spreads)
    return np.where((gap > LEAST_GAP) & (gap > CLEARLY * thick) & (widest > EMPTY * thick), gap, np.nan)


def _together(places: Floats, gaps: Floats) -> Floats:
    """Gaps (N,) where most places about are double: single ones go, and holes among many are closed with what is usual there."""
    double = np.isfinite(gaps)
    if double.sum() < LEAST_PLACES:
        return np.full(len(places), np.nan)
    near = kd_tree(places).query(places, k=min(2 * LEAST_PLACES, len(places)))[1]
    kept = double[near].mean(1) >= AMONG
    usual = np.full(len(places), np.nan)
    usual[kept] = np.nanmedian(gaps[near[kept]], axis=1)
    return np.where(kept & double, gaps, usual)


def _patches(places: Floats, gaps: Floats, area: float, least: float) -> tuple[Floats, tuple[DoublePatch, ...]]:
    """Neighbouring double places together, and the gaps in them; both layers are among them, so that half their area counts."""
    from scipy.sparse import coo_matrix
    from scipy.sparse.csgraph import connected_components

    rows, told = np.flatnonzero(np.isfinite(gaps)), np.full(len(gaps), np.nan)
    if len(rows) == 0:
        return told, ()
    mine = places[rows]
    pairs = kd_tree(mine).query_pairs(3.0 * float(np.sqrt(area)), output_type="ndarray")
    links = coo_matrix((np.ones(len(pairs)), pairs.T), shape=(len(rows), len(rows)))
    labels = connected_components(links, directed=False)[1]
    counts, made = np.bincount(labels), []
    for label in np.flatnonzero((counts >= LEAST_PLACES) & (0.5 * area * counts >= least)):
        own = rows[labels == label]
        told[own] = gaps[own]
        middle = places[own].mean(0)
        nearest = own[int(np.argmin(np.linalg.norm(places[own] - middle, axis=1)))]
        made.append(DoublePatch(frozen(places[nearest]), 0.5 * area * len(own), float(np.median(gaps[own]))))
    return told, tuple(sorted(made, key=lambda patch: -patch.area))


def _area(scan: Scan) -> float:
    return float(scan.area) if isinstance(scan, TriangleMesh) else len(scan.points) * scan.spacing**2
