"""Closing holes with faces that stay marked as invented: flat, or going on as the surface round them curves."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from enum import StrEnum
from typing import Any

import numpy as np

from juxtum.assemble.finishing.worked import Worked
from juxtum.assemble.holes import Hole, holes_of
from juxtum.errors import InputError
from juxtum.geometry import TriangleMesh
from juxtum.geometry.arrays import Bools, Floats, Ints, cross, unit
from juxtum.geometry.topology import border_points, closure, edge_keys
from juxtum.progress import Progress, silent

MOST_INSIDE = 40_000
"""New points of one hole; a wider one is filled more coarsely."""
AROUND = 0.6
"""Surface within so many widths of a hole tells how it curves."""
FEWEST_AROUND = 30
MOST_AROUND = 3000
APART = 0.6
"""New points keep so many pitches away from the border."""


class Filling(StrEnum):
    """How a hole is closed."""

    FLAT = "flat"
    """The calmest membrane over its border."""
    CURVED = "curvature"
    """As the surface round it goes on."""


@dataclass(frozen=True, eq=False)
class _Patch:
    """Points that are new (K, 3) and triangles over points of the ring (from 0) and new ones (from the ring's length)."""

    points: Floats
    triangles: Ints


def fill(mesh: TriangleMesh, holes: Iterable[Hole], how: Filling, progress: Progress | None = None) -> Worked:
    """Close holes of a surface.

    Parameters
    ----------
    holes : iterable of Hole
        Of this surface, as `holes_of` gives them.
    """
    progress = progress or silent()
    chosen = list(holes)
    points, triangles, count = [mesh.points], [mesh.triangles], len(mesh.points)
    folded = 0
    neighbourhood, taken = _Around(mesh), _between_borders(mesh) if chosen else set()
    for number, hole in enumerate(chosen):
        progress.phase("closing holes", number / len(chosen))
        patch = _patch(mesh, hole, how, neighbourhood)
        chords = set() if patch is None else _chords(patch, hole, len(mesh.points))
        if patch is None or not taken.isdisjoint(chords):
            patch, folded, chords = _fan(mesh, hole), folded + 1, set()
        taken |= chords
        ring_size = len(hole.ring)
        numbers = np.concatenate([hole.ring, np.arange(count, count + len(patch.points))])
        assert patch.triangles.max() < ring_size + len(patch.points)
        points.append(patch.points)
        triangles.append(numbers[patch.triangles])
        count += len(patch.points)
    if not chosen:
        return Worked(mesh, ("no hole was filled: none is of the kind and size asked for",))
    rows = np.concatenate(triangles)
    invented = np.arange(len(rows)) >= len(mesh.triangles)
    if mesh.invented is not None:
        invented[: len(mesh.triangles)] |= mesh.invented
    made = TriangleMesh(np.concatenate(points), rows, invented)
    return Worked(made, _told(len(chosen), folded, how, made.invented_area - mesh.invented_area))


def _told(count: int, folded: int, how: Filling, area: float) -> tuple[str, ...]:
    holes_word = "1 hole was" if count == 1 else f"{count} holes were"
    way = "flat" if how is Filling.FLAT else "by curvature"
    notes = [
        f"{holes_word} filled {way} with {area:.1f} mm\u00b2 of invented surface, which is shown and never measured"
    ]
    if folded:
        whose = "1 hole folds back on itself" if folded == 1 else f"{folded} holes fold back on themselves"
        notes.append(f"{whose}, seen from any side, and became a fan about its middle")
    return tuple(notes)


def closed(mesh: TriangleMesh) -> TriangleMesh:
    """Close every border: the surface with invented faces, marked as such and never to be measured.

    Raises
    ------
    InputError
        When the surface does not become watertight by it.
    """
    made = fill(mesh, holes_of(mesh), Filling.FLAT).mesh
    if not closure(made).is_watertight:
        what = "the surface does not become watertight: three or more faces meet along an edge of it"
        raise InputError(what, "surface", "Repair it, choose a wider spacing, or keep it open")
    return made


class _Around:
    """What lies round a hole, for how it curves."""

    def __init__(self, mesh: TriangleMesh) -> None:
        from scipy.spatial import cKDTree

        self._mesh = mesh
        self._tree = cKDTree(mesh.points)
        self._measured = np.ones(len(mesh.points), dtype=bool)
        if mesh.invented is not None:
            self._measured[mesh.triangles[mesh.invented]] = False

    def places(self, ring: Ints, reach: float, facing: Floats) -> Floats:
        """Measured places (K, 3) within a reach of a ring that face its way."""
        mesh = self._mesh
        rows = np.unique(
            np.concatenate(self._tree.query_ball_point(mesh.points[ring[:: max(len(ring) // 64, 1)]], reach))
        )
        rows = rows.astype(np.int64)
        rows = rows[self._measured[rows] & (mesh.normals[rows] @ facing > 0.3)]
        return np.asarray(mesh.points[rows[:: max(len(rows) // MOST_AROUND, 1)]])


def _between_borders(mesh: TriangleMesh) -> set[int]:
    """Edges, by key, that go from one point of a border to another."""
    at_border = border_points(mesh)
    near = mesh.triangles[at_border[mesh.triangles].sum(1) > 1]
    keys = edge_keys(near, len(mesh.points)).ravel()
    both = at_border[near] & at_border[np.roll(near, -1, axis=1)]
    return set(keys[both.ravel()].tolist())


def _chords(patch: _Patch, hole: Hole, count: int) -> set[int]:
    """Edges of a patch that go straight from one point of the ring to another, by key: the surface, or another patch, may have them too."""
    ring = len(hole.ring)
    ends = np.stack([patch.triangles, np.roll(patch.triangles, -1, axis=1)], axis=-1).reshape(-1, 2)
    ends = ends[(ends < ring).all(1)]
    apart = (ends[:, 0] - ends[:, 1]) % ring
    ends = hole.ring[ends[(apart != 1) & (apart != ring - 1)]]
    return set((ends.min(1) * count + ends.max(1)).tolist())


def _fan(mesh: TriangleMesh, hole: Hole) -> _Patch:
    count = len(hole.ring)
    here = np.arange(count)
    return _Patch(hole.place[None], np.column_stack([np.roll(here, -1), here, np.full(count, count)]))


def _patch(mesh: TriangleMesh, hole: Hole, how: Filling, around: _Around) -> _Patch | None:
    """Triangles over the hole as it is seen along its axis; None where it folds back on itself there."""
    ring = mesh.points[hole.ring]
    arms = ring - hole.place
    axis = cross(arms, np.roll(arms, -1, axis=0)).sum(0)
    if np.linalg.norm(axis) <= 1e-12 * hole.perimeter**2:
        return None
    # The surface's own triangles run along the ring so that, seen from outside, it goes round clockwise.
    axis = -unit(axis)
    u = unit(arms[int(np.argmax(np.linalg.norm(arms, axis=1)))])
    u = unit(u - axis * (u @ axis))
    v = np.cross(axis, u)
    flat = np.column_stack([arms @ u, arms @ v])
    inner = _inner(flat, hole)
    triangles = _triangles(flat, inner)
    if triangles is None:
        return None
    heights = arms @ axis
    every = np.concatenate([flat, inner])
    guess = np.zeros(len(every))
    if how is Filling.CURVED:
        reach = max(AROUND * hole.across, 4 * _pitch(flat))
        places = around.places(hole.ring, reach, axis) - hole.place
        guess = _going_on(np.column_stack([places @ u, places @ v]), places @ axis, every)
    rest = _membrane(every, triangles, heights - guess[: len(flat)])
    risen = (guess + rest)[len(flat) :]
    new = hole.place + inner[:, :1] * u + inner[:, 1:] * v + risen[:, None] * axis
    return _Patch(new, triangles)


def _pitch(flat: Floats) -> float:
    return float(np.median(np.linalg.norm(flat - np.roll(flat, -1, axis=0), axis=1)))


def _inner(flat: Floats, hole: Hole) -> Floats:
    """Points (K, 2) inside an outline, as far apart as those of the outline."""
    from scipy.spatial import cKDTree

    pitch = max(_pitch(flat), float(np.sqrt(hole.area / MOST_INSIDE)), 1e-9)
    low, high = flat.min(0), flat.max(0)
    rise = pitch * np.sqrt(3) / 2
    across = np.arange(low[1] + rise / 2, high[1], rise)
    rows = []
    for number, y in enumerate(across):
        x = np.arange(low[0] + (number % 2) * pitch / 2, high[0], pitch)
        rows.append(np.column_stack([x, np.full(len(x), y)]))
    if not rows:
        return np.empty((0, 2))
    grid = np.concatenate(rows)
    grid = grid[_inside(grid, flat)]
    if len(grid) == 0:
        return grid
    return np.asarray(grid[cKDTree(_along(flat, pitch / 4)).query(grid)[0] > APART * pitch])


def _along(flat: Floats, step: float) -> Floats:
    """Places along an outline, none farther from the next than a step."""
    ends = np.roll(flat, -1, axis=0)
    most = int(np.clip(np.ceil(np.linalg.norm(ends - flat, axis=1).max() / step), 1, 64))
    shares = np.arange(most) / most
    return np.asarray((flat[:, None] + shares[:, None] * (ends - flat)[:, None]).reshape(-1, 2))


def _inside(places: Floats, outline: Floats) -> Bools:
    """Which places (N, 2) an outline holds (even-odd rule)."""
    x, y = places.T
    inside = np.zeros(len(places), dtype=bool)
    for (x0, y0), (x1, y1) in zip(outline, np.roll(outline, -1, axis=0), strict=True):
        if y0 != y1:
            inside ^= ((y0 > y) != (y1 > y)) & (x < x0 + (y - y0) * (x1 - x0) / (y1 - y0))
    return inside


def _triangles(flat: Floats, inner: Floats) -> Ints | None:
    """Triangles that cover an outline exactly, each edge of it used once; None where there are none such.

    As a rule those of Delaunay do; where the outline zigzags, its edges have to be asked for.
    """
    every = np.concatenate([flat, inner])
    for make in (_delaunay, _constrained):
        found = make(every, len(flat))
        covered = None if found is None else _covering(every, found[_inside(every[found].mean(1), flat)], len(flat))
        if covered is not None:
            return covered
    return None


def _delaunay(every: Floats, count: int) -> Ints | None:
    from scipy.spatial import Delaunay, QhullError

    del count
    try:
        return np.asarray(Delaunay(every).simplices, dtype=np.int64)
    except QhullError:
        return None


def _constrained(every: Floats, count: int) -> Ints | None:
    """The triangles of Delaunay among those that have the edges of the outline, which is the first points (count)."""
    from vtkmodules.util.numpy_support import vtk_to_numpy
    from vtkmodules.vtkCommonDataModel import vtkCellArray, vtkPolyData
    from vtkmodules.vtkFiltersCore import vtkDelaunay2D

    places = _as_vtk(np.column_stack([every, np.zeros(len(every))]))
    cloud, outline, cells = vtkPolyData(), vtkPolyData(), vtkCellArray()
    cloud.SetPoints(places)
    outline.SetPoints(places)
    cells.InsertNextCell(count)
    # It asks for the outline against the clock where what lies inside is to be kept.
    for number in range(count - 1, -1, -1):
        cells.InsertCellPoint(number)
    outline.SetPolys(cells)
    filter_ = vtkDelaunay2D()
    filter_.SetInputData(cloud)
    filter_.SetSourceData(outline)
    filter_.SetTolerance(0.0)
    filter_.GlobalWarningDisplayOff()
    filter_.Update()
    polys = filter_.GetOutput().GetPolys()
    if polys.GetNumberOfCells() == 0:
        return None
    return np.asarray(vtk_to_numpy(polys.GetConnectivityArray()).reshape(-1, 3), dtype=np.int64)


def _as_vtk(places: Floats) -> Any:
    from vtkmodules.util.numpy_support import numpy_to_vtk
    from vtkmodules.vtkCommonCore import vtkPoints

    made = vtkPoints()
    made.SetDataTypeToDouble()
    made.SetData(numpy_to_vtk(np.ascontiguousarray(places), deep=True))
    return made


def _covering(every: Floats, found: Ints, count: int) -> Ints | None:
    """Triangles turned one way, where their open edges are just those of the outline."""
    a, b, c = (every[found[:, k]] for k in range(3))
    turn = (b - a)[:, 0] * (c - a)[:, 1] - (b - a)[:, 1] * (c - a)[:, 0]
    found = np.where((turn > 0)[:, None], found, found[:, ::-1])
    total = len(every)
    edges = np.column_stack([found.ravel(), np.roll(found, -1, axis=1).ravel()])
    keys = edges[:, 0] * total + edges[:, 1]
    alone = ~np.isin(keys, edges[:, 1] * total + edges[:, 0])
    # Seen along the axis the border of the surface goes round clockwise, and that of the patch against it.
    here = np.arange(count)
    wanted = np.sort(np.roll(here, -1) * total + here)
    return found if np.array_equal(np.sort(keys[alone]), wanted) else None


def _going_on(places: Floats, heights: Floats, where: Floats) -> Floats:
    """Heights (N,) of a smooth surface through what lies round a hole: quadratic, cubic where enough is known."""
    if len(places) < FEWEST_AROUND:
        return np.zeros(len(where))
    scale = float(np.abs(places).max()) or 1.0
    order = 3 if len(places) > 4 * FEWEST_AROUND else 2
    powers = [(i, j) for i in range(order + 1) for j in range(order + 1 - i)]

    def terms(flat: Floats) -> Floats:
        x, y = (flat / scale).T
        return np.column_stack([x**i * y**j for i, j in powers])

    rows: Floats = terms(places)
    used: Bools = np.ones(len(places), dtype=bool)
    made: Floats = np.zeros(rows.shape[1])
    for _ in range(4):
        made = np.asarray(np.linalg.lstsq(rows[used], heights[used], rcond=None)[0], dtype=np.float64)
        off = np.abs(heights - rows @ made)
        # What lies round the hole may end at an edge: what does not go on with the rest does not tell how it curves.
        used = off <= max(4 * float(np.median(off[used])), 1e-9)
    return np.asarray(terms(where) @ made)


def _membrane(flat: Floats, triangles: Ints, fixed: Floats) -> Floats:
    """Heights (N,) with no bend but what the first ones, which are fixed, ask for: each inner one the mean of those beside it."""
    from scipy.sparse import coo_matrix, diags
    from scipy.sparse.linalg import spsolve

    count, known = len(flat), len(fixed)
    heights = np.zeros(count)
    heights[:known] = fixed
    if count == known:
        return heights
    first, second = triangles.ravel(), np.roll(triangles, -1, axis=1).ravel()
    links = coo_matrix((np.ones(len(first)), (first, second)), shape=(count, count)).tocsr()
    links = ((links + links.T) > 0).astype(float)
    whole = (diags(np.asarray(links.sum(1)).ravel()) - links).tocsr()
    heights[known:] = spsolve(whole[known:, known:].tocsc(), -whole[known:, :known] @ fixed)
    return heights
