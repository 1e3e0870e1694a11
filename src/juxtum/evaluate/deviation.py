"""Signed distances of a scan from the nominal surface."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any

import numpy as np

from juxtum.evaluate.foreign import ForeignPatch, PassedPatch, find_foreign, find_passed
from juxtum.evaluate.places import tile_size
from juxtum.geometry import RigidTransform
from juxtum.geometry.arrays import Bools, Floats, Ints, frozen
from juxtum.geometry.mesh import PointCloud, Scan, TriangleMesh
from juxtum.nominal import Nominal, Projection
from juxtum.nominal.clearance import clear_points, edge_margin
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
    clear, inner : array (N,)
        Where it counts, see `clear_points`; where the foot lies within a face at all.
    seen : array (K,)
        Which of the nominal's samples have data.
    nominal : Nominal
    spacing : float
        Of the scan, mm.
    foreign, passed : tuple
        Scan surface that has no nominal, and nominal surface that the scan passes by; largest first.
    """

    points: Floats
    distances: Floats
    feet: Floats
    normals: Floats
    faces: Ints
    weights: Floats
    clear: Bools
    inner: Bools
    seen: Bools
    nominal: Nominal
    spacing: float
    foreign: tuple[ForeignPatch, ...] = ()
    passed: tuple[PassedPatch, ...] = ()

    @cached_property
    def features_taken(self) -> dict[Any, Any]:
        """What was taken of features so far: each is fitted once for all characteristics that name it."""
        return {}

    @property
    def tile(self) -> float:
        """Side of the tiles over which it is averaged, mm."""
        return tile_size(self.spacing, self.nominal.diagonal)

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
    def strays(self) -> Bools:
        """Single points and scraps (N,) that stand off from all around them: they count in no value and no statistic."""
        from juxtum.evaluate.strays import find_strays

        return find_strays(self)

    @cached_property
    def noise(self) -> float:
        """Standard deviation of single points about those beside them, mm; NaN when there are too few to tell."""
        from juxtum.evaluate.strays import point_noise

        return point_noise(self)

    @cached_property
    def scatter(self) -> float:
        """The same; where too few points tell it, all that they scatter by, shape and all, mm."""
        if np.isfinite(self.noise):
            return self.noise
        d = self.distances[self.found]
        return 1.4826 * float(np.median(np.abs(d - np.median(d)))) if len(d) else 0.0

    def doubts_about(self, numbers: tuple[int, ...]) -> tuple[str, ...]:
        """What forbids to say that some faces (by number; all when empty) conform, in words, largest first."""
        every: tuple[ForeignPatch | PassedPatch, ...] = (*self.foreign, *self.passed)
        patches = [p for p in every if not numbers or set(numbers) & set(p.faces)]
        return tuple(p.sentence for p in sorted(patches, key=lambda p: -p.area))

    @cached_property
    def ranked(self) -> tuple[Floats, Floats]:
        """All distances found in rising order (K,), and the area up to before each and to the end (K + 1,)."""
        rows = np.flatnonzero(self.found)
        rows = rows[np.argsort(self.distances[rows], kind="stable")]
        return frozen(self.distances[rows]), frozen(np.r_[0.0, np.cumsum(self.weights[rows])])

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
    parts = []
    for start in range(0, len(points), CHUNK):
        progress.phase("measuring the distance to the nominal", start / len(points))
        part = slice(start, start + CHUNK)
        near = None if directions is None else directions[part]
        parts.append(nominal.projector.project(points[part], near, limit=rule.limit, angle=rule.angle))
    feet = Projection.joined(parts)
    progress.phase("looking for surface that is not drawn", 0.85)
    margin = edge_margin(scan.spacing, nominal.diagonal)
    foreign = find_foreign(scan, points, _strange(points, feet, nominal, margin), nominal)
    feet = _widened(points, directions, feet, foreign, nominal, rule.angle)
    progress.phase("keeping clear of edges", 0.9)
    inner = feet.found & ~feet.on_border
    clear = clear_points(scan, nominal, feet)
    seen = _seen(nominal, scan, transform, feet, rule)
    progress.phase("looking for surface that is missing", 0.95)
    return Deviation(
        frozen(points), frozen(feet.distances), frozen(feet.feet), frozen(feet.normals), frozen(feet.faces, np.int32),
        frozen(scan.point_areas), frozen(clear, np.bool_), frozen(inner, np.bool_), frozen(seen, np.bool_), nominal, scan.spacing,
        foreign, find_passed(scan, points, seen, nominal),
    )  # fmt: skip


def _strange(points: Floats, feet: Projection, nominal: Nominal, margin: float) -> Bools:
    """Points (N,) that no nominal surface explains: nothing near looks their way, or they hang over an edge.

    Scanners round edges and their normals are noisy, so what lies within the edge margin is not strange.
    """
    lost = np.flatnonzero(~feet.found)
    strange = feet.on_border & (np.abs(feet.distances) > margin)
    if len(lost):
        strange[lost] = np.abs(nominal.projector.project(points[lost]).distances) > margin
    return np.asarray(strange)


def _widened(
    points: Floats,
    directions: Floats | None,
    feet: Projection,
    foreign: tuple[ForeignPatch, ...],
    nominal: Nominal,
    angle: float,
) -> Projection:
    """With the search widened where a patch grows out of the part: a bump of 8 mm is a deviation of 8 mm."""
    rows = np.concatenate([p.rows for p in foreign if p.is_grown] or [np.empty(0, dtype=np.int64)])
    rows = rows[~feet.found[rows]]
    if len(rows) == 0:
        return feet
    wide = nominal.projector.project(points[rows], None if directions is None else directions[rows], angle=angle)
    # The walls of a dent look at some other face far away; what they belong to is the face that they are nearest to.
    own = np.abs(nominal.projector.project(points[rows]).distances)
    taken = wide.found & (np.abs(wide.distances) <= 1.1 * own + 1e-6)
    arrays = {name: np.array(getattr(feet, name)) for name in ("distances", "feet", "normals", "faces", "on_border")}
    for name, values in arrays.items():
        values[rows[taken]] = getattr(wide, name)[taken]
    return replace(feet, **arrays)


def _seen(nominal: Nominal, scan: Scan, transform: RigidTransform, feet: Projection, rule: SearchRule) -> Bools:
    """Which samples of the nominal the scan shows."""
    if isinstance(scan, TriangleMesh):
        return _seen_by_mesh(nominal, scan, transform, rule)
    return _seen_samples(nominal, feet, scan)


def _seen_by_mesh(nominal: Nominal, scan: TriangleMesh, transform: RigidTransform, rule: SearchRule) -> Bools:
    """Which samples of the nominal have scan surface over them that looks their way.

    The surface counts, not its corners: a thinned mesh has few of those. It must lie over the sample, not beside it.
    """
    samples = nominal.samples
    back = transform.inverse
    centres, normals = back.apply(samples.centres), back.turn(samples.mesh.triangle_normals)
    near = scan.tree.query(centres, normals, limit=rule.limit, angle=rule.angle)
    found = np.flatnonzero(near.found)
    corners = scan.points[scan.triangles[near.triangles[found]]]
    offset = np.einsum("ij,ijk->ik", near.weights[found], corners) - centres[found]
    along = np.einsum("ij,ij->i", offset, normals[found])
    beside = np.linalg.norm(offset - along[:, None] * normals[found], axis=1)
    seen = np.zeros(len(centres), dtype=bool)
    # Where the surface deviates, its nearest point is a little to the side of the foot.
    seen[found] = beside <= np.maximum(scan.spacing, 0.3 * np.abs(along))
    return seen


def _seen_samples(nominal: Nominal, projection: Projection, cloud: PointCloud) -> Bools:
    """Which samples of the nominal have a point of a list on their own face within the reach of that point."""
    from scipy.spatial import cKDTree

    samples, rows = nominal.samples, np.flatnonzero(projection.found)
    if len(rows) == 0:
        return np.zeros(len(samples.faces), dtype=bool)
    # The face's number as a fourth coordinate keeps the far side of a thin wall from counting.
    apart = 10 * nominal.diagonal
    data = np.column_stack([projection.feet[rows], projection.faces[rows] * apart])
    wanted = np.column_stack([samples.centres, samples.faces * apart])
    least = 0.2 * samples.size
    distances, nearest = cKDTree(data, balanced_tree=False, compact_nodes=False).query(
        wanted, distance_upper_bound=max(cloud.reach, least), workers=2
    )
    close = np.flatnonzero(np.isfinite(distances))
    points, back = np.unique(nearest[close], return_inverse=True)
    seen = np.zeros(len(samples.faces), dtype=bool)
    seen[close] = distances[close] <= np.maximum(cloud.reaches(rows[points])[back], least)
    return seen
