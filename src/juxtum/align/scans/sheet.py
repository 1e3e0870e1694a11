"""A scan as joining sees it: even points with directions out of the material, and which of them lie at its border."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cached_property
from typing import TYPE_CHECKING

import numpy as np

from juxtum.align.samples import scan_sample
from juxtum.align.scans.edges import Edges, edges_of
from juxtum.errors import AlignmentError
from juxtum.geometry.arrays import Bools, Floats, even_directions, frozen, orthonormal_frame, unit
from juxtum.geometry.kdtree import kd_tree
from juxtum.geometry.mesh import PointCloud, Scan, TriangleMesh
from juxtum.geometry.topology import border_points

if TYPE_CHECKING:
    from scipy.spatial import cKDTree

POINTS = 30_000
"""Of a scan that are looked at: more make no pose surer than its instrument is."""
LEAST = 200
"""Fewer points than this are no scan that could be joined."""
SIDES, ONE_SIDED = 400, 0.1
"""Directions that are tried, and the least cosine to all but a few axes with which a scan counts as seen from one side."""
TRIANGLES, CALM, WILD = 200_000, 40, 0.15
"""Of a mesh that are looked at, over how many of them a direction is averaged, and by how little of their area none is borne out."""
AROUND = 24
GAP = np.radians(115.0)
"""A point round which so much of the horizon is empty lies at the border."""


@dataclass(frozen=True, eq=False)
class Sheet:
    """What of a scan is used for joining, in the scan's own frame.

    Parameters
    ----------
    name : str
    points, normals : array (N, 3)
        Evenly over its area; unit directions out of the material.
    border : array (N,)
        Which of them lie at the scan's own border.
    spacing : float
        Between neighbours of these points, mm.
    rim : array (M, 3)
        Places along that border: of a mesh its open edges themselves.
    known_edges : Edges, optional
        Its edges, where they are known from elsewhere; found on its points when not given.
    """

    name: str
    points: Floats
    normals: Floats
    border: Bools
    spacing: float
    rim: Floats
    known_edges: Edges | None = None

    @cached_property
    def tree(self) -> cKDTree:
        """Over its points."""
        return kd_tree(self.points)

    @cached_property
    def edges(self) -> Edges:
        """Where it turns sharply, and where it ends."""
        return edges_of(self) if self.known_edges is None else self.known_edges

    @property
    def edged(self) -> Sheet:
        """The same with its edges known."""
        return replace(self, known_edges=self.edges)

    @cached_property
    def centre(self) -> Floats:
        """Middle of its points (3,)."""
        return frozen(self.points.mean(0))

    @cached_property
    def size(self) -> float:
        """Half of the diagonal of its bounds, mm."""
        return float(np.linalg.norm(np.ptp(self.points, axis=0))) / 2

    def some(self, count: int) -> slice:
        """About so many of its points, evenly."""
        return slice(None, None, max(1, len(self.points) // count))


def make_sheet(scan: Scan, name: str) -> Sheet:
    """What joining needs of a scan.

    Raises
    ------
    AlignmentError
        When it has too few points to be joined to anything.
    """
    if len(scan.points) < LEAST:
        raise AlignmentError(f"{len(scan.points)} points are too few to be joined", name, "Leave it out, or scan again")
    sample = scan_sample(scan, POINTS)
    points = np.asarray(sample.points)
    tree = kd_tree(points)
    distances, near = tree.query(points, k=min(AROUND + 1, len(points)), workers=-1)
    spacing = float(np.median(distances[:, 1]))
    if isinstance(scan, PointCloud):
        # Points of a cloud may lie closer along lines than across them: what holds so many others tells how dense it is.
        spacing = max(spacing, float(np.median(distances[:, -1])) * float(np.sqrt(np.pi / (distances.shape[1] - 1))))
    if sample.normals is not None:
        normals = unit(sample.normals)
    else:
        assert sample.axes is not None
        normals = outward(points, sample.axes, near)
    normals = calmed(normals, near) if isinstance(scan, PointCloud) else _of_triangles(scan, points, normals)
    rim = scan.points[border_points(scan)] if isinstance(scan, TriangleMesh) else None
    border = _at_border(points, normals, near) if rim is None else _near(rim, scan, points, spacing)
    return Sheet(
        name, frozen(points), frozen(normals), frozen(border, bool), max(spacing, 1e-9),
        frozen(points[border] if rim is None else rim),
    )  # fmt: skip


def outward(points: Floats, axes: Floats, near: Floats) -> Floats:
    """Axes (N, 3) of either sign turned out of the material: neighbours agree, and what lies outermost faces outwards.

    Of a scan that was seen from one side all face that way; otherwise signs are handed on along the edges over which
    axes turn least (Hoppe 1992), which sharp edges may break.
    """
    some = axes[:: max(1, len(axes) // 6000)]
    ways = even_directions(SIDES)
    least = np.quantile(np.abs(some @ ways.T), 0.05, axis=0)
    if least.max() > ONE_SIDED:
        made = axes * np.where(axes @ ways[np.argmax(least)] < 0, -1.0, 1.0)[:, None]
        return _facing_out(points, made)
    from scipy.sparse import coo_matrix
    from scipy.sparse.csgraph import breadth_first_order, connected_components, minimum_spanning_tree

    count = len(points)
    first = np.repeat(np.arange(count), near.shape[1] - 1)
    second = near[:, 1:].ravel()
    turned = 1.0 - np.abs(np.einsum("ij,ij->i", axes[first], axes[second])) + 1e-4
    tree = minimum_spanning_tree(coo_matrix((turned, (first, second)), shape=(count, count)).tocsr())
    both = tree + tree.T
    pieces, labels = connected_components(both, directed=False)
    made = np.array(axes, dtype=np.float64)
    for piece in range(pieces):
        rows = np.flatnonzero(labels == piece)
        order, before = breadth_first_order(both, int(rows[0]), directed=False)
        for row in order[1:]:
            if made[row] @ made[before[row]] < 0:
                made[row] = -made[row]
        made[rows] = _facing_out(points[rows], made[rows])
    return made


def _facing_out(points: Floats, normals: Floats) -> Floats:
    """Directions that agree among each other, all of them turned if what lies outermost faces inwards."""
    directions = even_directions(SIDES // 4)
    outermost = np.argmax((points - points.mean(0)) @ directions.T, axis=0)
    return -normals if np.einsum("ij,ij->i", normals[outermost], directions).sum() < 0 else normals


def _of_triangles(scan: TriangleMesh, points: Floats, normals: Floats) -> Floats:
    """Directions (N, 3) averaged over the nearest triangles that face alike: over the mesh's own spacing, however dense the points are.

    Noise turns each triangle by more than it turns the surface, and what is turned seems to hold motions that nothing holds.
    """
    step = max(1, len(scan.triangles) // TRIANGLES)
    # Only of those that are looked at: of all of a large mesh it took longer than the rest.
    corners = scan.points[scan.triangles[::step]]
    centres, spans = corners.mean(1), np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    _, near = kd_tree(centres).query(points, k=min(CALM, len(centres)), workers=-1)
    # By their area: noise turns slivers anywhere.
    areas = np.linalg.norm(spans, axis=1)
    facing, areas = unit(spans)[near], areas[near]
    made = _without_wild(normals, facing, areas)
    for _ in range(2):
        weights = (np.einsum("nkd,nd->nk", facing, made) > 0.85) * areas
        mean = np.einsum("nk,nkd->nd", weights, facing)
        made = np.where(weights.any(1)[:, None], unit(mean), made)
    return made


def _without_wild(normals: Floats, facing: Floats, areas: Floats) -> Floats:
    """Directions (N, 3), those that hardly any area (N, K) around bears out put in the place of what most of it says."""
    backed = ((np.einsum("nkd,nd->nk", facing, normals) > 0.85) * areas).sum(1)
    wild = np.flatnonzero(backed < WILD * areas.sum(1))
    made = np.array(normals)
    for row in wild:
        agree = (facing[row] @ facing[row].T > 0.85) @ areas[row]
        made[row] = facing[row, np.argmax(agree)]
    return made


def calmed(normals: Floats, near: Floats) -> Floats:
    """Directions (N, 3) averaged with those of neighbours (N, K) that face alike, so that noise turns them less and edges stay."""
    around = normals[near]
    agree = np.einsum("nkd,nd->nk", around, normals) > 0.85
    return unit(np.einsum("nk,nkd->nd", agree, around))


def _near(rim: Floats, scan: Scan, points: Floats, spacing: float) -> Bools:
    """Points (N,) of a mesh that lie near its open edges (M, 3)."""
    if len(rim) == 0:
        return np.zeros(len(points), dtype=bool)
    reach = max(1.2 * spacing, 1.2 * scan.spacing)
    return np.asarray(kd_tree(rim).query(points, distance_upper_bound=reach, workers=-1)[0] < np.inf)


def _at_border(points: Floats, normals: Floats, near: Floats) -> Bools:
    """Points (N,) of a cloud round which a part of the horizon is empty."""
    frames = np.stack([orthonormal_frame(n) for n in normals])
    around = points[near[:, 1:13]] - points[:, None]
    angles = np.sort(np.arctan2(*np.einsum("nkd,ned->enk", around, frames[:, :2])), axis=1)
    gaps = np.diff(np.concatenate([angles, angles[:, :1] + 2 * np.pi], axis=1), axis=1)
    return np.asarray(gaps.max(1) > GAP)
