"""Triangle meshes and point clouds; derived data is cached on the object it derives from."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
import numpy.typing as npt

from juxtum.errors import InputError
from juxtum.geometry.arrays import Bools, Floats, Ints, areas_of, frozen, unit
from juxtum.geometry.nearest import NearestTree
from juxtum.geometry.transform import RigidTransform

AROUND = 24
"""Neighbours among which those of the next line of a scan are, however close the points lie along a line."""
HEAPED = 3.0
"""Where the nearest neighbour is so many times nearer than even points would be, points lie in heaps, and it says nothing."""


@dataclass(frozen=True, eq=False)
class PointCloud:
    """Points without connection.

    Parameters
    ----------
    points : array (N, 3)
        Millimetres, finite.
    normals : array (N, 3), optional
        Unit vectors out of the material, where the file had some.
    """

    points: Floats
    normals: Floats | None = None

    def __post_init__(self) -> None:
        object.__setattr__(self, "points", _checked_points(self.points))
        if self.normals is not None:
            if np.shape(self.normals) != self.points.shape:
                raise InputError("a cloud needs one normal for each point", next="Export it again")
            object.__setattr__(self, "normals", frozen(unit(self.normals)))

    @property
    def triangles(self) -> Ints:
        """No triangles (0, 3)."""
        return frozen(np.empty((0, 3)), np.int32)

    @cached_property
    def bounds(self) -> Floats:
        """Lowest and highest corner (2, 3)."""
        return frozen(np.stack([self.points.min(0), self.points.max(0)]))

    @cached_property
    def point_areas(self) -> Floats:
        """Area that each point stands for (N,): equal shares, since nothing is known of its neighbours."""
        return frozen(np.ones(len(self.points)))

    @cached_property
    def spacing(self) -> float:
        """Median distance to the nearest neighbour, mm; more where points lie in heaps, or twice."""
        if len(self.points) < 2:
            return float("inf")
        sample = self.points[:: max(1, len(self.points) // 2000)]
        count = min(AROUND, len(self.points) - 1)
        distances, _ = self._neighbours.query(sample, k=count + 1)
        # Were they evenly spread, so many would lie on so much of the surface.
        even = float(np.median(distances[:, -1]) * np.sqrt(np.pi / max(count, 1)))
        return max(float(np.median(distances[:, 1])), even / HEAPED)

    @cached_property
    def reach(self) -> float:
        """How far from its nearest point a place of the scanned surface may lie, mm.

        Half the distance within which a point has so many others that those of the next line of a scanner are among
        them. Of points that are scattered without order the nearest neighbour says little: a reach of one and a half
        times that distance leaves a fifth of their surface uncovered, this one less than a hundredth.
        """
        return max(1.5 * self.spacing, 0.5 * self.surroundings(AROUND))

    def reaches(self, rows: Ints) -> Floats:
        """The same for some of its points (N,), each by its own surroundings: where points are dense they speak less far."""
        count = min(AROUND + 1, len(self.points))
        distances, _ = self._neighbours.query(self.points[rows], k=count, workers=2)
        return np.clip(0.5 * np.atleast_2d(distances)[:, -1], min(1.5 * self.spacing, self.reach), self.reach)

    def surroundings(self, count: int) -> float:
        """Distance within which four of five points have `count` others, mm."""
        sample = self.points[:: max(1, len(self.points) // 2000)]
        distances, _ = self._neighbours.query(sample, k=min(count + 1, len(self.points)))
        return float(np.quantile(distances[:, -1], 0.8))

    @cached_property
    def _neighbours(self) -> Any:
        from scipy.spatial import cKDTree

        return cKDTree(self.points)

    def axes_at(self, places: Floats, count: int = 24) -> tuple[Floats, Floats]:
        """Direction (N, 3) in which the nearest points of each place spread least: its normal, of either sign.

        Returns
        -------
        axes : array (N, 3)
        blur : array (N,)
            Variance along the axis over the next larger one: near 0 on a smooth surface, up to 1 beside an edge.
        """
        _, near = self._neighbours.query(places, k=min(count, len(self.points)))
        around = self.points[near] - self.points[near].mean(1, keepdims=True)
        values, vectors = np.linalg.eigh(np.einsum("nki,nkj->nij", around, around))
        return np.asarray(vectors[:, :, 0]), np.asarray(values[:, 0] / np.maximum(values[:, 1], 1e-30))

    def moved(self, transform: RigidTransform) -> PointCloud:
        """The cloud in another frame."""
        return PointCloud(transform.apply(self.points), None if self.normals is None else transform.turn(self.normals))

    def scaled(self, factor: float) -> PointCloud:
        """The cloud with every length times `factor`."""
        return PointCloud(self.points * factor, self.normals)

    def kept(self, points: Bools) -> PointCloud:
        """Only the points (N,) that are true."""
        return PointCloud(self.points[points], None if self.normals is None else self.normals[points])


@dataclass(frozen=True, eq=False)
class TriangleMesh:
    """Triangles over shared points; counter-clockwise seen from outside.

    Parameters
    ----------
    points : array (N, 3)
        Millimetres, finite.
    triangles : array (M, 3)
        Indices into points.
    invented : array (M,), optional
        Which triangles nobody measured: they were put in to close a hole. None where all were measured.
    """

    points: Floats
    triangles: Ints
    invented: Bools | None = None

    def __post_init__(self) -> None:
        points = _checked_points(self.points)
        triangles = np.asarray(self.triangles)
        if triangles.ndim != 2 or triangles.shape[1] != 3 or len(triangles) == 0:
            raise InputError("the mesh has no triangles", next="Check the file it came from")
        if triangles.min() < 0 or triangles.max() >= len(points):
            raise InputError("a triangle names a point that does not exist", next="Export the file again")
        object.__setattr__(self, "points", points)
        object.__setattr__(self, "triangles", frozen(triangles, np.int32))
        if self.invented is not None:
            if np.shape(self.invented) != (len(triangles),):
                raise InputError("what is invented is not said of each triangle", next="Export the file again")
            marked = bool(np.any(self.invented))
            object.__setattr__(self, "invented", frozen(self.invented, bool) if marked else None)

    @cached_property
    def corners(self) -> Floats:
        """Corner points (M, 3, 3)."""
        return frozen(self.points[self.triangles])

    @property
    def _crosses(self) -> Floats:
        p, t = self.points, self.triangles
        return np.cross(p[t[:, 1]] - p[t[:, 0]], p[t[:, 2]] - p[t[:, 0]])

    @cached_property
    def triangle_areas(self) -> Floats:
        """Areas (M,) in mm2."""
        return frozen(areas_of(self.points, self.triangles))

    @cached_property
    def triangle_normals(self) -> Floats:
        """Unit normals (M, 3); zero for degenerate triangles."""
        return frozen(unit(self._crosses))

    @cached_property
    def normals(self) -> Floats:
        """Angle-weighted point normals (N, 3)."""
        from juxtum.geometry import _mesh_kernels as kernels

        return frozen(kernels.point_normals(self.points, self.triangles))

    @cached_property
    def point_areas(self) -> Floats:
        """A third of the area of the triangles round each point (N,), mm2."""
        share = np.repeat(self.triangle_areas / 3, 3)
        return frozen(np.bincount(self.triangles.ravel(), share, len(self.points)))

    @property
    def area(self) -> float:
        """Total area in mm2."""
        return float(self.triangle_areas.sum())

    @cached_property
    def volume(self) -> float:
        """Enclosed volume in mm3 by the divergence theorem; only meaningful when watertight."""
        middle = self.bounds.mean(0)
        first = self.points[self.triangles[:, 0]] - middle
        return float(np.einsum("ij,ij->", first, self._crosses) / 6)

    @cached_property
    def bounds(self) -> Floats:
        """Lowest and highest corner (2, 3)."""
        return frozen(np.stack([self.points.min(0), self.points.max(0)]))

    @cached_property
    def spacing(self) -> float:
        """Median edge length of a sample, mm."""
        sample = self.points[self.triangles[:: max(1, len(self.triangles) // 5000)]]
        return float(np.median(np.linalg.norm(sample - np.roll(sample, 1, axis=1), axis=2)))

    @cached_property
    def tree(self) -> NearestTree:
        """The tree for nearest points, built once."""
        return NearestTree(self.points, self.triangles)

    @cached_property
    def measured(self) -> TriangleMesh:
        """The mesh without what is invented.

        Raises
        ------
        InputError
            When all of it is.
        """
        return self if self.invented is None else self.kept_triangles(~self.invented)

    @property
    def invented_area(self) -> float:
        """Area of what is invented, mm2."""
        return 0.0 if self.invented is None else float(self.triangle_areas[self.invented].sum())

    def moved(self, transform: RigidTransform) -> TriangleMesh:
        """The mesh in another frame."""
        return TriangleMesh(transform.apply(self.points), self.triangles, self.invented)

    def scaled(self, factor: float) -> TriangleMesh:
        """The mesh with every length times `factor`."""
        return TriangleMesh(self.points * factor, self.triangles, self.invented)

    def kept(self, points: Bools) -> TriangleMesh:
        """The triangles whose three points are all true in `points` (N,), without loose points."""
        return self.kept_triangles(np.asarray(points[self.triangles].all(axis=1)))

    def kept_triangles(self, keep: Bools) -> TriangleMesh:
        """The triangles that are true in `keep` (M,), without loose points."""
        triangles = self.triangles[keep]
        if len(triangles) == 0:
            raise InputError("nothing would be left of the scan", next="Keep the other side, or undo")
        used = np.zeros(len(self.points), dtype=bool)
        used[triangles] = True
        renumbered = np.cumsum(used, dtype=np.int32) - 1
        invented = None if self.invented is None else self.invented[keep]
        return TriangleMesh(self.points[used], renumbered[triangles], invented)


Scan = TriangleMesh | PointCloud


def _checked_points(values: npt.ArrayLike) -> Floats:
    points = np.asarray(values, dtype=np.float64)
    if points.ndim != 2 or points.shape[1] != 3 or len(points) == 0:
        raise InputError("there are no points", next="Check the file they came from")
    if not np.isfinite(points).all():
        raise InputError("some coordinates are not finite numbers", next="Export the file again")
    return frozen(points)
