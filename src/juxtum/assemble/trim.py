"""Cutting the table off a scan."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from juxtum.associate.seed import plane_through
from juxtum.errors import InputError
from juxtum.geometry import Plane
from juxtum.geometry.arrays import Bools, Floats, Ints, unit
from juxtum.geometry.mesh import PointCloud, Scan

HULL_RATIO = 1.15
"""A flat region is a table when it reaches this much farther round than what stands on it (by area)."""

ROUGH, FINE = 3.0, 400.0
"""A flat region is looked for at first within so many spacings of the scan, or a part of its size if that is more."""
SAME = 1 / 6
"""Planes that lie within this share of that reach are one and the same."""


@dataclass(frozen=True)
class Flat:
    """A flat region of a scan: its plane, and how far its points lie off it at most, mm."""

    plane: Plane
    thickness: float


def find_table(scan: Scan) -> Plane | None:
    """The plane of the table that a part stands on, its normal to the side of the part, or None; see `find_flat`."""
    flat = find_flat(scan)
    return None if flat is None else flat.plane


def find_flat(scan: Scan) -> Flat | None:
    """The largest flat region with everything else on one side of it, or None when there is none.

    The normal points to the side where the part stands. A part's own flat underside is not a table: a table reaches
    beyond the outline of what stands on it.
    """
    points, normals, areas = _flat_samples(scan)
    # A cloud of many passes is denser than its noise is small, so the size has a say too.
    reach = max(ROUGH * scan.spacing, float(np.linalg.norm(np.ptp(points, axis=0))) / FINE)
    best: Flat | None = None
    best_area = 0.0
    known: list[Plane] = []
    for seed in _seeds(points, normals, areas):
        if any(abs(p.normal @ seed.normal) > 0.99 and abs(p.distances(seed.point)) < SAME * reach for p in known):
            continue
        flat = _refined(points, normals, seed, reach)
        if flat is None:
            continue
        known.append(flat.plane)
        on = np.abs(flat.plane.distances(points)) < flat.thickness
        area = float(areas[on].sum())
        if (
            area > max(best_area, 0.03 * areas.sum())
            and _is_table(flat, points, on)
            and _faces_part(flat, points, normals, on)
        ):
            best, best_area = flat, area
    if best is None:
        return None
    heights = best.plane.distances(points)
    heights = heights[np.abs(heights) > 3 * best.thickness]
    return best if np.median(heights) > 0 else Flat(best.plane.flipped(), best.thickness)


def _flat_samples(scan: Scan) -> tuple[Floats, Floats | None, Floats]:
    """At most 12,000 places with normals and areas."""
    if isinstance(scan, PointCloud):
        step = max(1, len(scan.points) // 12_000)
        points = scan.points[::step]
        return points, None, np.ones(len(points))
    step = max(1, len(scan.triangles) // 12_000)
    corners = scan.points[scan.triangles[::step]]
    crosses = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    return corners.mean(1), unit(crosses), np.linalg.norm(crosses, axis=1) / 2


def _seeds(points: Floats, normals: Floats | None, areas: Floats) -> list[Plane]:
    """Planes worth a closer look: from single places with normals, or from triples of points."""
    if normals is not None:
        chosen = _by_area(areas, (np.arange(160) + 0.5) / 160)
        return [Plane(points[i], normals[i]) for i in chosen if np.linalg.norm(normals[i]) > 0.5]
    seeds = []
    # Shares that fill the cube of triples evenly, without chance (Roberts 2018).
    shares = (np.arange(1, 301)[:, None] * np.array([0.8191725134, 0.6710436067, 0.5497004779])) % 1.0
    for row in _by_area(areas, shares.ravel()).reshape(-1, 3):
        try:
            seeds.append(Plane.through(points[row]))
        except InputError:
            continue
    return seeds


def _by_area(areas: Floats, shares: Floats) -> Ints:
    """Places at which the running sum of area reaches some shares (0 to 1) of it."""
    running = np.cumsum(areas)
    return np.asarray(np.searchsorted(running, shares * running[-1]).clip(0, len(areas) - 1))


def _refined(points: Floats, normals: Floats | None, seed: Plane, reach: float) -> Flat | None:
    """Fit the plane to what lies within `reach` mm of it, from wide to narrow, down to the noise of the flat region itself.

    A sheet of metal that lies on a table is told from it by its thickness, be it a few tenths of a millimetre.
    """
    size = float(np.linalg.norm(np.ptp(points, axis=0)))
    plane, reach, least = seed, min(reach, size / 60), 1e-4 * size
    for factor in (0.3, 0.4, *(1.0,) * 6):
        distances = plane.distances(points)
        near = np.abs(distances) < reach
        if normals is not None:
            near &= np.abs(normals @ plane.normal) > 0.9
        if near.sum() < 100:
            return None
        middle, spread = _densest_half(distances[near])
        inner = near & (np.abs(distances - middle) < max(spread, least)) if factor == 1.0 else near
        plane, reach = plane_through(points[inner if inner.sum() >= 100 else near]), factor * reach
    _, spread = _densest_half(plane.distances(points[near]))
    return Flat(plane, max(4 * spread, least))


def _densest_half(values: Floats) -> tuple[float, float]:
    """Middle of the shortest interval that holds half of the values, and the standard deviation it stands for.

    Unlike a mean it does not lie between a table and a sheet on it (the shorth of robust statistics).
    """
    ordered = np.sort(values)
    half = len(ordered) // 2
    widths = ordered[half:] - ordered[: len(ordered) - half]
    first = int(np.argmin(widths))
    return float(ordered[first] + ordered[first + half]) / 2, float(widths[first]) / 1.349


def _is_table(flat: Flat, points: Floats, on: Bools) -> bool:
    """Whether all else stands on one side, within the outline of the flat region."""
    heights = flat.plane.distances(points)
    away = np.abs(heights) > 2 * flat.thickness
    rest = heights[away]
    if len(rest) < 50 or max((rest > 0).mean(), (rest < 0).mean()) < 0.995:
        return False
    level = points - np.outer(heights, flat.plane.normal)
    return hull_area(level[on], flat.plane) > HULL_RATIO * hull_area(without_outliers(level[away]), flat.plane)


def _faces_part(flat: Flat, points: Floats, normals: Floats | None, on: Bools) -> bool:
    """Whether a flat region is seen from the side on which all else stands: the underside of a part is seen from the other."""
    if normals is None:
        return True
    heights = flat.plane.distances(points)
    side = float(np.median(heights[~on]))
    return bool(side * (normals[on] @ flat.plane.normal).sum() > 0)


def without_outliers(points: Floats) -> Floats:
    """Without the farthest half per cent, so that stray fragments do not stretch the outline."""
    distance = np.linalg.norm(points - np.median(points, axis=0), axis=1)
    return np.asarray(points[distance <= np.quantile(distance, 0.995)])


def hull_area(points: Floats, plane: Plane) -> float:
    """Area of the hull of points (N, 3) brought onto a plane, mm2."""
    from scipy.spatial import ConvexHull

    from juxtum.geometry.arrays import orthonormal_frame

    frame = orthonormal_frame(plane.normal)
    flat = (points - plane.point) @ frame[:2].T
    if len(flat) < 3 or np.ptp(flat, axis=0).min() <= 0:
        return 0.0
    return float(ConvexHull(flat).volume)


def trim(scan: Scan, plane: Plane, offset: float = 0.0) -> Scan:
    """Keep what lies more than `offset` mm above the plane; triangles are kept whole or not at all.

    Raises
    ------
    InputError
        When nothing would be left.
    """
    keep = plane.distances(scan.points) > offset
    if not keep.any():
        raise InputError("nothing would be left of the scan", "trim by plane", "Keep the other side")
    return scan.kept(keep)
