"""Two bodies beside each other: the gap between them, and where one reaches into the other."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np

from juxtum.errors import InputError
from juxtum.evaluate.choice import choice_of_the_largest
from juxtum.evaluate.held import HeldMap, on_faces
from juxtum.evaluate.places import tile_size
from juxtum.evaluate.tiles import Tiles
from juxtum.geometry import TriangleMesh
from juxtum.geometry.arrays import Bools, Floats, Ints
from juxtum.geometry.topology import closure, weld
from juxtum.progress import Progress, silent

LIMIT = 3.0
"""What lies farther from the other body says nothing of it, mm."""
ANGLE = 60.0
"""Within so many degrees of opposite, two surfaces face each other."""
LEAST_POINTS = 4
SAME = 1e-5
"""Corners nearer to each other than this are one, mm."""
TOUCHING = 1e-6
PIECES = 80
MOST_PIECES = 3_000_000
CHUNK = 200_000


@dataclass(frozen=True, eq=False)
class Place:
    """A gap (above zero) or a depth (below), mean over a place, and where (3,).

    What noise adds by the choice of the extreme is taken off; `standard` is the standard uncertainty of what is left, of the
    data alone: how the bodies were placed beside each other is not known here. mm.
    """

    value: float
    where: Floats
    standard: float

    @property
    def expanded(self) -> float:
        """Expanded uncertainty by the data alone, mm."""
        return 2.0 * self.standard


@dataclass(frozen=True, eq=False)
class Clearance:
    """How one body lies beside another.

    Parameters
    ----------
    map : HeldMap
        The first body, coloured by the gap to the other; below zero where it reaches into it.
    """

    map: HeldMap

    @property
    def patch(self) -> float:
        """Side of the places over which it is averaged, mm."""
        mesh = self.map.mesh
        return tile_size(mesh.spacing, float(np.linalg.norm(np.ptp(mesh.bounds, axis=0))))

    @cached_property
    def _cells(self) -> tuple[Ints, Ints, Tiles]:
        """Points with a value, the place of each, and the places: those that look the same way hang together."""
        mesh = self.map.mesh
        rows = np.flatnonzero(self.map.known)
        normals, every = mesh.normals[rows], np.arange(len(rows))
        main = np.argmax(np.abs(normals), axis=1)
        ways = 2 * main + (normals[every, main] > 0)
        cells = np.floor(mesh.points[rows] / self.patch).astype(np.int64)
        keys = np.column_stack([cells, ways])
        made, first, owner, counts = np.unique(keys, axis=0, return_index=True, return_inverse=True, return_counts=True)
        owner, values = owner.ravel(), self.map.values[rows]
        means = np.bincount(owner, values, len(counts)) / counts
        spreads = np.sqrt(np.bincount(owner, (values - means[owner]) ** 2, len(counts)) / counts)
        return rows, owner, Tiles(means, counts, rows[first], made[:, :3], made[:, 3], spreads)

    @cached_property
    def places(self) -> tuple[Place, Place] | None:
        """The nearest place, or the deepest; and the farthest of those that face the other body; None where none does."""
        rows, owner, tiles = self._cells
        if len(rows) == 0:
            return None
        full = np.flatnonzero(tiles.counts >= min(LEAST_POINTS, int(tiles.counts.max())))
        chosen = tiles.some(full)

        def told(sign: float) -> Place:
            at = int(np.argmax(sign * chosen.means))
            inside = self.map.mesh.points[rows[owner == full[at]]]
            choice = choice_of_the_largest(chosen, sign)
            middle = inside[np.argmin(np.linalg.norm(inside - inside.mean(0), axis=1))]
            return Place(float(chosen.means[at] - sign * choice.bias), middle, choice.standard)

        return told(-1.0), told(1.0)

    @cached_property
    def _of_triangles(self) -> Floats:
        """Mean gap (M,) at those corners that have one: at an edge none has, and the surface does not end there.

        Of each corner its place's mean counts, since the noise of single points would reach into the other body by itself.
        """
        rows, owner, tiles = self._cells
        calm = np.zeros(len(self.map.values))
        calm[rows] = tiles.means[owner]
        values, known = calm[self.map.mesh.triangles], self.map.known[self.map.mesh.triangles]
        return np.where(known.any(1), values.sum(1) / np.maximum(known.sum(1), 1), np.nan)

    @property
    def facing(self) -> float:
        """Area of the first body that the other faces within the limit, mm2."""
        return float(self.map.mesh.triangle_areas[np.isfinite(self._of_triangles)].sum())

    @property
    def inside(self) -> float:
        """Area of it that lies inside the other, mm2."""
        return float(self.map.mesh.triangle_areas[np.nan_to_num(self._of_triangles) < -TOUCHING].sum())

    @property
    def volume(self) -> float:
        """That both share, mm3: depth times area, over what of the first body faces the other."""
        depth = np.maximum(-np.nan_to_num(self._of_triangles), 0.0)
        return float(depth @ self.map.mesh.triangle_areas)


def clearance(
    one: TriangleMesh, other: TriangleMesh, limit: float = LIMIT, progress: Progress | None = None
) -> Clearance:
    """The gap from one body to another, along the other's surface normal where both face each other, and what they share.

    Parameters
    ----------
    one, other : TriangleMesh
        In one frame. Sides of the first that are longer than its size by 80 are cut: a place needs a point to have a value.
    limit : float
        Gaps and depths up to this are found, mm.

    Raises
    ------
    InputError
        When the bodies are nowhere so near, or one is inside out.

    Examples
    --------
    >>> from juxtum.demo import solids
    >>> from juxtum.geometry import RigidTransform
    >>> from juxtum.nominal import Nominal
    >>> block = Nominal.from_shape(solids.box((0, 0, 0), (20, 10, 5))).samples.mesh
    >>> found = clearance(block.moved(RigidTransform.translation([0, 0, 4.8])), block)
    >>> round(found.places[0].value, 3), round(found.volume, 1)
    (-0.2, 40.0)
    """
    progress = progress or silent()
    for body, which in ((one, "first"), (other, "second")):
        if body.volume < 0 and closure(body).is_watertight:
            what = f"the {which} body is inside out: its surface looks into it"
            raise InputError(what, "clearance", "Turn its triangles round: juxtum finish --repair")
    one = cut_fine(one, float(np.linalg.norm(np.ptp(one.bounds, axis=0))) / PIECES)
    low, high = np.maximum(one.bounds[0], other.bounds[0]), np.minimum(one.bounds[1], other.bounds[1])
    if (low > high + limit).any():
        what = f"the bodies are nowhere nearer to each other than {limit:g} mm"
        raise InputError(what, "clearance", "See that both lie in one frame, or look farther")
    return Clearance(HeldMap(one, _gaps(one, other, limit, progress)))


def _gaps(one: TriangleMesh, other: TriangleMesh, limit: float, progress: Progress) -> Floats:
    """Of each point (N,) to the surface that faces it, mm; NaN where none does."""
    found = np.full(len(one.points), np.nan)
    rows = np.flatnonzero(on_faces(one) & _within(one.points, other.bounds, limit))
    for start in range(0, len(rows), CHUNK):
        progress.phase("looking for what faces the other body", start / len(rows))
        progress.check()
        part = rows[start : start + CHUNK]
        at, feet = _opposite(one.points[part], -one.normals[part], other, limit)
        good = np.flatnonzero(at >= 0)
        at, feet = at[good], feet[good]
        away = one.points[part[good]] - feet
        out = np.einsum("ij,ij->i", away, other.triangle_normals[at])
        # A foot on the rim of the other's surface lies beside the place, not opposite to it.
        beside = np.linalg.norm(away - out[:, None] * other.triangle_normals[at], axis=1)
        over = beside <= 1e-6 + 0.1 * np.abs(out)
        found[part[good[over]]] = out[over]
    return found


def _opposite(places: Floats, facing: Floats, other: TriangleMesh, limit: float) -> tuple[Ints, Floats]:
    """The nearest triangle (N,) of another body that looks a given way, -1 where there is none, and the feet on it (N, 3).

    Mostly it is the nearest of all; only where it is not, all within the limit are gone through.
    """
    near = other.tree.query(places, limit=limit)
    at, weights = near.triangles.copy(), near.weights.copy()
    alike = np.einsum("ij,ij->i", other.triangle_normals[at], facing)
    again = np.flatnonzero(near.found & (alike < np.cos(np.radians(ANGLE))))
    if len(again):
        further = other.tree.query(places[again], facing[again], limit=limit, angle=ANGLE)
        at[again] = np.where(further.found, further.triangles, -1)
        weights[again] = further.weights
    at = np.where(near.found, at, -1)
    return at, np.einsum("ij,ijk->ik", weights, other.corners[np.maximum(at, 0)])


def _within(places: Floats, bounds: Floats, room: float) -> Bools:
    return np.asarray(((places >= bounds[0] - room) & (places <= bounds[1] + room)).all(1))


def cut_fine(mesh: TriangleMesh, longest: float) -> TriangleMesh:
    """The same surface in triangles whose sides are no longer than that, mm, so that each place of it can have a value.

    Always the longest side is halved: slender triangles become less so. A surface that is fine enough stays as it is.
    """
    if not (_sides(mesh.corners).max(1) > longest).any():
        return mesh
    corners, done, rows, count = mesh.corners, [], np.arange(3), 0
    while len(corners):
        sides = _sides(corners)
        is_long = sides.max(1) > longest
        if count + 2 * len(corners) > MOST_PIECES:
            is_long[:] = False
        count += int((~is_long).sum())
        done.append(corners[~is_long])
        order = (np.argmax(sides[is_long], axis=1)[:, None] + rows) % 3
        a, b, c = np.moveaxis(np.take_along_axis(corners[is_long], order[:, :, None], axis=1), 1, 0)
        middle = (a + b) / 2
        corners = np.concatenate([np.stack([a, middle, c], 1), np.stack([middle, b, c], 1)])
    return TriangleMesh(*weld(np.concatenate(done).reshape(-1, 3), SAME))


def _sides(corners: Floats) -> Floats:
    """Lengths (M, 3) of the sides of triangles (M, 3, 3), each from its corner to the next."""
    return np.asarray(np.linalg.norm(np.roll(corners, -1, axis=1) - corners, axis=2))
