"""Where reference targets may sit: clear of edges and of what is measured, flat underneath, well apart, no repeats."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from juxtum.errors import InputError
from juxtum.geometry.arrays import Bools, Floats, Ints, frozen, unit
from juxtum.geometry.kdtree import kd_tree
from juxtum.instruments.models import InstrumentModel
from juxtum.nominal import Nominal, faces_mask
from juxtum.plan.targets.views import on_surface, row_keys
from juxtum.plan.task import Task

if TYPE_CHECKING:
    from scipy.spatial import cKDTree

MOST_PLACES = 2600
RING = 12


@dataclass(frozen=True)
class PlacementRules:
    """Rules for the places of targets (metrology.md 10).

    Parameters
    ----------
    diameter : float
        Of the disc, mm.
    from_edges : float
        Diameters of the disc that its centre keeps from edges and holes.
    spacing : (float, float)
        Nearest and farthest distance to the next target, mm.
    flatness : float
        How far the surface may depart from the plane of the disc, mm.
    congruence : float
        Triangles whose sides agree within this are confused, mm.
    keep_clear : tuple of int
        Faces that must stay free.
    seed : int
        Of the candidate places, which lie where chance puts them, so that patterns do not repeat.
    """

    diameter: float = 6.0
    from_edges: float = 1.5
    spacing: tuple[float, float] = (30.0, 100.0)
    flatness: float = 0.1
    congruence: float = 0.3
    keep_clear: tuple[int, ...] = ()
    seed: int = 36

    def check(self, nominal: Nominal) -> None:
        """See that the rules can be met at all.

        Raises
        ------
        InputError
            Naming the rule and by how much it misses.
        """
        low, high = self.spacing
        longest = float(np.ptp(nominal.mesh.bounds, axis=0).max())
        if low > longest:
            what = f"the rule 'at least {low:g} mm apart' cannot be met: it is {low - longest:.0f} mm more than the part's {longest:.0f} mm"
            next = (
                "Put the part on a plate with targets of its own, choose another instrument, or type a smaller spacing"
            )
            raise InputError(what, "targets", next)
        if low > high:
            raise InputError(f"the nearest spacing is {low - high:g} mm more than the farthest", "targets", "Swap them")
        if low < self.diameter:
            raise InputError(
                f"a spacing of {low:g} mm is {self.diameter - low:g} mm less than the disc itself",
                "targets",
                "Choose a wider spacing",
            )


def rules_for(
    nominal: Nominal, task: Task, model: InstrumentModel, diameter: float | None = None, allowed: tuple[int, ...] = ()
) -> PlacementRules:
    """The rules that an instrument and a drawing ask for.

    Parameters
    ----------
    diameter : float, optional
        One of the instrument's; the smallest on small parts when not given.
    allowed : tuple of int
        Measured or datum faces on which targets are allowed all the same.
    """
    if model.targets is None:
        raise InputError(f"{model.name} does not use reference targets", "targets", "Choose another instrument")
    sizes = model.targets.diameters
    chosen = diameter or (max(sizes) if nominal.diagonal > 1500 else min(sizes))
    if diameter is not None and diameter not in sizes:
        raise InputError(
            f"{model.name} has no targets of {diameter:g} mm",
            "targets",
            f"Sizes are: {', '.join(f'{s:g}' for s in sizes)}",
        )
    low, high = model.targets.spacing
    clear = (set(task.own_faces) | set(task.datums)) - set(allowed)
    return PlacementRules(diameter=chosen, spacing=(low, high), keep_clear=tuple(sorted(clear)))


@dataclass(frozen=True, eq=False)
class Places:
    """Candidate places on the part.

    Parameters
    ----------
    points, normals : array (C, 3)
    faces : array (C,)
        Numbers of the faces.
    edges : array (C,)
        Distance to the nearest edge, mm.
    """

    points: Floats
    normals: Floats
    faces: Ints
    edges: Floats


def candidate_places(nominal: Nominal, rules: PlacementRules) -> Places:
    """All places that keep the rules that concern a single target, at most a few thousand of them, evenly spread.

    Raises
    ------
    InputError
        When there is none, saying which rule leaves none and by how much.
    """
    rules.check(nominal)
    samples = nominal.samples
    free = ~faces_mask(samples.faces, rules.keep_clear) if rules.keep_clear else np.ones(len(samples.faces), dtype=bool)
    if not free.any():
        what = "every face is measured or a datum, so that no target may sit on the part"
        raise InputError(what, "targets", "Allow some faces, or place targets around the part")
    wanted = rules.from_edges * rules.diameter
    rows = np.flatnonzero(free)
    edges = nominal.edge_distances(samples.centres[rows], wanted + samples.size)
    if not (edges >= wanted).any():
        missing = wanted - float(edges.max())
        what = f"the rule '{wanted:g} mm from every edge' leaves no place: the widest free face misses it by {missing:.1f} mm"
        raise InputError(what, "targets", "Choose smaller targets, allow some faces, or place them around the part")
    rows = rows[edges >= wanted]
    area = float(samples.mesh.triangle_areas[rows].sum())
    cell = max(float(np.sqrt(area / MOST_PLACES)), 0.6 * rules.diameter)
    rng = np.random.default_rng(rules.seed)
    rows = rows[_spread(samples.centres[rows], samples.faces[rows], cell, rng)]
    # A place anywhere in its small triangle: the samples' own places repeat, and with them the patterns.
    points = np.einsum("nk,nkd->nd", rng.dirichlet(np.ones(3), len(rows)), samples.mesh.corners[rows])
    points, normals = on_surface(nominal, points, samples.mesh.triangle_normals[rows])
    good = flat_under(nominal, points, normals, rules)
    if not good.any():
        what = f"no free face is flat within {rules.flatness:g} mm under a disc of {rules.diameter:g} mm"
        raise InputError(what, "targets", "Choose smaller targets, or place them around the part")
    edges = nominal.edge_distances(points, 25 * rules.diameter)
    good &= edges >= wanted
    return Places(
        frozen(points[good]),
        frozen(normals[good]),
        frozen(samples.faces[rows][good] + 1, np.int32),
        frozen(edges[good]),
    )


def _spread(points: Floats, faces: Ints, cell: float, rng: np.random.Generator) -> Ints:
    """One point, by chance, for each cube of a grid and each face."""
    keys = row_keys(np.column_stack([np.floor(points / cell).astype(np.int64), faces]))
    order = rng.permutation(len(points))
    _, first = np.unique(keys[order], return_index=True)
    return np.sort(order[first])


def flat_under(nominal: Nominal, points: Floats, normals: Floats, rules: PlacementRules) -> Bools:
    """Where a disc would lie flat (N,): a ring of points round its rim is projected onto the surface."""
    angles = np.arange(RING) * 2 * np.pi / RING
    helper = np.where(np.abs(normals[:, 2:]) < 0.9, [[0.0, 0, 1]], [[1.0, 0, 0]])
    first = unit(np.cross(helper, normals))
    frames = np.stack([first, np.cross(normals, first)], 1)
    circle = np.stack([np.cos(angles), np.sin(angles)], 1) * rules.diameter / 2
    rim = points[:, None] + np.einsum("rk,nkd->nrd", circle, frames)
    found = nominal.projector.project(rim.reshape(-1, 3), limit=rules.diameter)
    distances = np.where(found.found, np.abs(found.distances), np.inf).reshape(-1, RING)
    return np.asarray((distances <= rules.flatness).all(1))


class TriangleBook:
    """The sides of all triangles of targets that some pose sees together, to tell confusable patterns.

    Parameters
    ----------
    points : array (T, 3)
    seen : array (P, T)
        Which poses see which targets; triangles that no pose may see whole confuse nobody.
    tolerance : float
        Sides that agree within this are taken for equal, mm.
    """

    def __init__(self, points: Floats, seen: Bools, tolerance: float) -> None:
        self._points, self._seen = points.reshape(-1, 3), seen.astype(np.float32)
        self._together = self._seen.T @ self._seen > 0
        self._tolerance = tolerance
        self._sides = np.empty((0, 3))
        self._tree: cKDTree | None = None
        self._take(_sides(self._points, triangles_together(self._together)))

    def sides_with(self, point: Floats, seen: Bools) -> Floats:
        """Sorted sides (N, 3) of the triangles that a further target, seen by poses (P,), would make."""
        rows = np.flatnonzero(seen.astype(np.float32) @ self._seen > 0)
        i, j = np.triu_indices(len(rows), 1)
        kept = self._together[rows[i], rows[j]]
        i, j = i[kept], j[kept]
        known = self._points[rows]
        to = np.linalg.norm(known - point, axis=1)
        between = np.linalg.norm(known[i] - known[j], axis=1)
        return np.asarray(np.sort(np.stack([to[i], to[j], between], 1), axis=1))

    def clashes(self, point: Floats, seen: Bools) -> bool:
        """Whether a further target would make a triangle congruent to one that is there, or to another new one."""
        new = self.sides_with(point, seen)
        if len(new) == 0:
            return False
        if (
            self._tree is not None
            and np.isfinite(self._tree.query(new, p=np.inf, distance_upper_bound=self._tolerance)[0]).any()
        ):
            return True
        return bool(len(kd_tree(new).query_pairs(self._tolerance, p=np.inf)))

    def add(self, point: Floats, seen: Bools) -> None:
        """Take a target in."""
        new = self.sides_with(point, seen)
        column = seen.astype(np.float32)
        row = column @ self._seen > 0
        self._together = np.block([[self._together, row[:, None]], [row[None], np.ones((1, 1), dtype=bool)]])
        self._points = np.concatenate([self._points, np.asarray(point)[None]])
        self._seen = np.concatenate([self._seen, column[:, None]], 1)
        self._take(new)

    def _take(self, sides: Floats) -> None:
        if len(sides):
            self._sides = np.concatenate([self._sides, sides])
            self._tree = kd_tree(self._sides, quickly=True)


def triangles_together(together: Bools) -> Ints:
    """Rows (N, 3) of all triangles whose corners are pairwise seen together (T, T)."""
    a, b = np.nonzero(np.triu(together, 1))
    pair, c = np.nonzero(together[a] & together[b] & (np.arange(len(together)) > b[:, None]))
    return np.stack([a[pair], b[pair], c], 1)


def _sides(points: Floats, rows: Ints) -> Floats:
    p = points[rows]
    return np.asarray(np.sort(np.linalg.norm(p - np.roll(p, 1, axis=1), axis=2), axis=1))


def confusable(points: Floats, seen: Bools, tolerance: float) -> tuple[tuple[int, ...], ...]:
    """Groups of target rows whose triangles are congruent within the tolerance: both triangles' rows, each once."""
    view = seen.astype(np.float32)
    rows = triangles_together(view.T @ view > 0)
    if len(rows) < 2:
        return ()
    pairs = kd_tree(_sides(points, rows)).query_pairs(tolerance, p=np.inf, output_type="ndarray")
    return tuple(tuple(sorted({*map(int, rows[a]), *map(int, rows[b])})) for a, b in pairs)
