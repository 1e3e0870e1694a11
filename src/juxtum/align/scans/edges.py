"""Where a scan turns sharply or ends: what tells one place on a flat face from another.

Faces lie well anywhere along each other; their edges do not. At a right pose edges lie on edges, and no sharp one of one
scan lies in the middle of a smooth stretch of the other.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import TYPE_CHECKING, Protocol

import numpy as np

from juxtum.geometry import RigidTransform
from juxtum.geometry.arrays import Bools, Floats, Ints, cross, frozen, unit
from juxtum.geometry.kdtree import kd_tree
from juxtum.geometry.registration import Pulls

if TYPE_CHECKING:
    from scipy.spatial import cKDTree

MILD, SHARP = np.cos(np.radians([25.0, 55.0]))
"""Neighbours whose directions differ by more than the first lie on either side of an edge, by more than the second of a sharp one.

What is sharp in one scan may be mild in another, where it is round and the points are few: a sharp edge is astray only
where the other scan has no edge at all.
"""
NEIGHBOURS, NEAR = 8, 2.5
"""Neighbours that are looked at, and within how many spacings."""
AROUND, BENT = 24, 0.04
"""Points round an edge, and how far they leave a plane, root mean square as a share of their radius (0.06 at 25 degrees)."""
BESIDE, LEAST_BESIDE, SAME_SIDE = 32, 5, 0.95
"""Points round an edge that tell the faces beside it, the least for each, and the cosine within which they face as it does."""
IN_A_ROW = (2.0, 5.0)
"""An edge goes on between so many spacings."""
LOOKED_AT = 400
PARALLEL, FACING, ALIKE = 0.8, 0.2, 0.6
ENOUGH = 25
"""Fewer edges than this over the other scan say nothing."""
SILENT = 0.65
"""What is taken for their agreement then: a part without any has to be joined, too."""
WEIGHT = 0.3
"""Of an edge against a point on a face: it is known to a third of the spacing, not to the noise."""


@dataclass(frozen=True, eq=False)
class Edges:
    """Points along the edges of a scan: the sharp ones first, then those where it ends, then the mild ones.

    Parameters
    ----------
    points, along, out : array (M, 3)
        Places, the direction of the edge, and the direction out of the material.
    sharp, clear : int
        So many of them are sharp, and so many are sharp or ends.
    """

    points: Floats
    along: Floats
    out: Floats
    sharp: int
    clear: int

    @cached_property
    def tree(self) -> cKDTree | None:
        """Of all places; None without any."""
        return kd_tree(self.points) if len(self.points) else None

    @property
    def is_end(self) -> Bools:
        """Which of them (M,) lie where the scan ends."""
        rows = np.arange(len(self.points))
        return np.asarray((rows >= self.sharp) & (rows < self.clear))

    def some(self, count: int) -> slice:
        """About so many of its points, evenly."""
        return slice(None, None, max(1, len(self.points) // count))

    def kept(self, rows: Bools) -> Edges:
        """Only some of them (M,)."""
        sharp, clear = int(rows[: self.sharp].sum()), int(rows[: self.clear].sum())
        return Edges(self.points[rows], self.along[rows], self.out[rows], sharp, clear)

    def with_mild(self, rows: Bools) -> Edges:
        """Some of them (M,) held for mild ones, which bear others out and need not be borne out."""
        order = np.concatenate([np.flatnonzero(~rows), np.flatnonzero(rows)])
        sharp, clear = int((~rows)[: self.sharp].sum()), int((~rows)[: self.clear].sum())
        return Edges(frozen(self.points[order]), frozen(self.along[order]), frozen(self.out[order]), sharp, clear)

    def moved(self, move: RigidTransform) -> Edges:
        """In another frame."""
        return Edges(move.apply(self.points), move.turn(self.along), move.turn(self.out), self.sharp, self.clear)


class Directed(Protocol):
    """Points of a scan with directions, as edges are found on them (`sheet.Sheet` is one)."""

    @property
    def points(self) -> Floats:
        """Places (N, 3), mm."""

    @property
    def normals(self) -> Floats:
        """Unit directions (N, 3) out of the material."""

    @property
    def spacing(self) -> float:
        """Between neighbours, mm."""

    @property
    def rim(self) -> Floats:
        """Places (M, 3) along its border, mm."""

    @property
    def tree(self) -> cKDTree:
        """Over its points."""

    @property
    def edges(self) -> Edges:
        """What was found on them."""


@dataclass(frozen=True)
class EdgeEvidence:
    """How edges of two scans agree at a pose.

    Parameters
    ----------
    over : int
        Edges that lie over the other scan.
    matched : int
        Those of them that lie on its edges.
    astray : int
        Sharp ones of them that lie where it is smooth.
    """

    over: int
    matched: int
    astray: int

    @property
    def fault(self) -> float:
        """Share of edges that contradict, 0 to 1; 0 where too few speak."""
        both = self.matched + self.astray
        return self.astray / both if both >= ENOUGH else 0.0

    @property
    def agreement(self) -> float:
        """Share of edges that are borne out, 0 to 1; something between where too few speak."""
        return self.matched / self.over if self.speaks else SILENT

    @property
    def bearing(self) -> float:
        """What a pose keeps of its worth by them, 0.2 to 1."""
        return 0.2 + 0.8 * self.agreement

    @property
    def speaks(self) -> bool:
        """Whether there are enough of them to say anything."""
        return self.over >= ENOUGH

    def __add__(self, other: EdgeEvidence) -> EdgeEvidence:
        return EdgeEvidence(self.over + other.over, self.matched + other.matched, self.astray + other.astray)


def edges_of(sheet: Directed) -> Edges:
    """Edges of a scan: half-way between neighbours that face differently, and its own border."""
    distances, near = sheet.tree.query(sheet.points, k=NEIGHBOURS + 1, workers=-1)
    cosines = np.einsum("nkd,nd->nk", sheet.normals[near[:, 1:]], sheet.normals)
    rows, columns = np.nonzero((cosines < MILD) & (distances[:, 1:] < NEAR * sheet.spacing))
    # Of each cell the pair that turns most.
    order = np.argsort(cosines[rows, columns])
    rows, columns = rows[order], columns[order]
    others, turns = near[rows, columns + 1], cosines[rows, columns]
    points = (sheet.points[rows] + sheet.points[others]) / 2
    first = _one_a_cell(points, sheet.spacing)
    first = first[_bends(points[first], sheet)]
    first = first[_in_a_row(points[first], sheet.spacing)]
    first = first[np.argsort(turns[first], kind="stable")]
    points, rows, others = points[first], rows[first], others[first]
    points = _sharpened(points, (sheet.normals[rows], sheet.normals[others]), sheet)
    along = unit(cross(sheet.normals[rows], sheet.normals[others]))
    out = unit(sheet.normals[rows] + sheet.normals[others] + 1e-9)
    sharp = int((turns[first] < SHARP).sum())
    rim, rim_along, rim_out = _rim(sheet)
    if len(rim) and len(points):
        # Where it turns sharply just before it ends, the sharp edge speaks.
        alone = kd_tree(points).query(rim, distance_upper_bound=2 * sheet.spacing)[0] == np.inf
        rim, rim_along, rim_out = rim[alone], rim_along[alone], rim_out[alone]
    parts = [(points, rim), (along, rim_along), (out, rim_out)]
    made = [frozen(np.concatenate([mine[:sharp], ends, mine[sharp:]])) for mine, ends in parts]
    return Edges(made[0], made[1], made[2], sharp, sharp + len(rim))


def _sharpened(points: Floats, facing: tuple[Floats, Floats], sheet: Directed) -> Floats:
    """Places (N, 3) put where the faces to either side, with directions (N, 3) each, meet: half-way between two points lies inside the part.

    Left where they are found where too few points speak for either face, or where these meet far off, as beside a fillet.
    """
    near = sheet.tree.query(points, k=min(BESIDE, len(sheet.points)), workers=-1)[1]
    looks, places = sheet.normals[near], sheet.points[near] - points[:, None]
    sides, heights, enough = [], [], np.ones(len(points), dtype=bool)
    for own in facing:
        mine = np.einsum("nkd,nd->nk", looks, own) > SAME_SIDE
        normal = unit(np.einsum("nk,nkd->nd", mine, looks) + 1e-12)
        height = np.einsum("nk,nkd,nd->n", mine, places, normal) / np.maximum(mine.sum(1), 1)
        enough &= mine.sum(1) >= LEAST_BESIDE
        sides.append(normal)
        heights.append(height)
    cosine = np.einsum("nd,nd->n", *sides)
    enough &= np.abs(cosine) < MILD
    # The step across both: a combination of the two directions that reaches both planes.
    scale = np.where(enough, 1 - cosine**2, 1.0)
    steps = [(heights[k] - cosine * heights[1 - k]) / scale for k in (0, 1)]
    step = steps[0][:, None] * sides[0] + steps[1][:, None] * sides[1]
    enough &= np.linalg.norm(step, axis=1) < 1.5 * sheet.spacing
    return np.asarray(points + np.where(enough[:, None], step, 0.0))


def _bends(points: Floats, sheet: Directed) -> Bools:
    """At which of some places (N, 3) the points themselves leave a plane: noise turns slivers of triangles on flat faces, too."""
    distances, near = sheet.tree.query(points, k=min(AROUND, len(sheet.points)), workers=-1)
    around = sheet.points[near] - sheet.points[near].mean(1, keepdims=True)
    thick = np.linalg.eigvalsh(np.einsum("nki,nkj->nij", around, around) / near.shape[1])[:, 0]
    return np.asarray(thick > (BENT * distances[:, -1]) ** 2)


def _in_a_row(points: Floats, spacing: float) -> Bools:
    """Which of the points (N, 3) have others farther along an edge: a single direction that noise turned has none."""
    if len(points) < 3:
        return np.zeros(len(points), dtype=bool)
    tree = kd_tree(points)
    near, far = (tree.query_ball_point(points, k * spacing, return_length=True, workers=-1) for k in IN_A_ROW)
    return np.asarray(far >= near + 2)


def _rim(sheet: Directed) -> tuple[Floats, Floats, Floats]:
    """Places along the border of a scan, one a spacing, with the direction along it and the one out of the material."""
    points = sheet.rim
    if len(points) < 4:
        return np.empty((0, 3)), np.empty((0, 3)), np.empty((0, 3))
    points = points[_one_a_cell(points, sheet.spacing)]
    _, near = kd_tree(points).query(points, k=min(7, len(points)))
    around = points[near] - points[near].mean(1, keepdims=True)
    along = np.linalg.eigh(np.einsum("nki,nkj->nij", around, around))[1][:, :, 2]
    return points, along, sheet.normals[sheet.tree.query(points)[1]]


def _one_a_cell(points: Floats, cell: float) -> Ints:
    """Rows of which no two lie in one cell of a grid, mm."""
    if len(points) == 0:
        return np.empty(0, dtype=np.int64)
    return np.asarray(np.unique(np.floor(points / cell).astype(np.int64), axis=0, return_index=True)[1])


def edge_evidence(one: Directed, two: Directed, move: RigidTransform, reach: float, count: int) -> EdgeEvidence:
    """How the edges of two scans agree, looked at from both.

    Parameters
    ----------
    move : RigidTransform
        From the first scan's frame into the second's.
    reach : float
        Within this an edge lies on another, mm.
    count : int
        About so many edges of either are looked at.
    """
    return _edges_over(one, two, move, (reach, count)) + _edges_over(two, one, move.inverse, (reach, count))


def _edges_over(one: Directed, sheet: Directed, move: RigidTransform, how: tuple[float, int]) -> EdgeEvidence:
    """How the edges of one scan lie over another: within a reach, looked at with about so many."""
    edges, other, (reach, count) = one.edges, sheet.edges, how
    if edges.clear == 0:
        return EdgeEvidence(0, 0, 0)
    some = np.arange(0, edges.clear, max(1, edges.clear // count))
    there, is_sharp = move.apply(edges.points[some]), some < edges.sharp
    distances, rows = sheet.tree.query(there, distance_upper_bound=reach + 2 * sheet.spacing)
    over: Bools = distances < np.inf
    # The other side of a thin sheet is no surface over which the edge lies.
    facing = np.einsum("ij,ij->i", move.turn(edges.out[some])[over], sheet.normals[rows[over]])
    over[over] = facing > FACING
    if other.tree is None:
        return EdgeEvidence(int(over.sum()), 0, int((over & is_sharp).sum()))
    away = other.tree.query(there, distance_upper_bound=2 * reach)[0]
    on, astray = over & (away <= reach), over & is_sharp & ~np.isfinite(away)
    return EdgeEvidence(int(over.sum()), int(on.sum()), int(astray.sum()))


def edge_pulls(edges: Edges, onto: Edges, move: RigidTransform, reach: float) -> Pulls | None:
    """Edges of a scan drawn to the nearest ones of another, across them; None where none are near."""
    if onto.tree is None or edges.clear == 0:
        return None
    some = slice(0, edges.clear, max(1, edges.clear // LOOKED_AT))
    there, along, facing = move.apply(edges.points[some]), move.turn(edges.along[some]), move.turn(edges.out[some])
    distances, rows = onto.tree.query(there, distance_upper_bound=reach)
    found = np.flatnonzero(np.isfinite(distances))
    found = found[np.abs(np.einsum("ij,ij->i", along[found], onto.along[rows[found]])) > PARALLEL]
    # The other edge of a thin sheet runs along it, too, but faces another way.
    found = found[np.einsum("ij,ij->i", facing[found], onto.out[rows[found]]) > ALIKE]
    if len(found) == 0:
        return None
    rows = rows[found]
    gaps, out = there[found] - onto.points[rows], onto.out[rows]
    # Out of the material the faces themselves say where it lies; only a sharp edge says it, too.
    sharp = np.flatnonzero((rows < onto.sharp) | (rows >= onto.clear))
    sides = np.concatenate([unit(cross(onto.along[rows], out)), out[sharp]])
    points, gaps = np.concatenate([there[found], there[found][sharp]]), np.concatenate([gaps, gaps[sharp]])
    heights = np.einsum("ij,ij->i", gaps, sides)
    scale = (reach / 2) ** 2
    weights = WEIGHT * (scale / (scale + np.einsum("ij,ij->i", gaps, gaps))) ** 2
    return Pulls(points, sides, heights, frozen(weights))


def sharp_pulls(edges: Edges, onto: Edges, move: RigidTransform, reach: float) -> Pulls | None:
    """Sharp edges of a scan drawn to sharp edges of another and to where that ends: two ends need not be the same edge of the part."""
    mine, other = np.arange(len(edges.points)) < edges.sharp, np.arange(len(onto.points)) < onto.clear
    return edge_pulls(edges.kept(mine), onto.kept(other), move, reach)


def both_pulls(faces: Pulls | None, edges: Pulls | None) -> Pulls | None:
    """What faces and edges say together; None without faces."""
    if faces is None or edges is None:
        return faces
    own, other = (np.ones(len(p.points)) if p.weights is None else p.weights for p in (faces, edges))
    return Pulls(
        np.concatenate([faces.points, edges.points]), np.concatenate([faces.normals, edges.normals]),
        np.concatenate([faces.distances, edges.distances]), np.concatenate([own, other]),
    )  # fmt: skip
