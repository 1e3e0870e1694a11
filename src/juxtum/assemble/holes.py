"""Open borders of a surface: where each is, how long, what it would close."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from juxtum.geometry import TriangleMesh
from juxtum.geometry.arrays import Floats, Ints, frozen
from juxtum.geometry.topology import edge_keys, piece_labels

ROUND = 0.1
"""A border whose points are as far from its middle, but for this share, is round: it may zigzag from triangle to triangle."""
TARGET = (4.0, 16.0)
"""A round hole of a diameter in this range may be where a reference target sat, mm."""


@dataclass(frozen=True, eq=False)
class Hole:
    """An open border.

    Parameters
    ----------
    kind : str
        "edge" where the surface ends: the longest border of its piece, when it is longer than the piece;
        "target" where a reference target may have sat; else "hole".
    perimeter, area : float
        mm and mm2; the area of a flat membrane over it.
    place : array (3,)
        Its middle.
    ring : array (K,)
        Its points, in the order in which the triangles beside it run.
    """

    kind: str
    perimeter: float
    area: float
    place: Floats
    ring: Ints

    @property
    def across(self) -> float:
        """How wide a round one of this area is, mm; of a slit its length."""
        return max(_width(self.area), self.perimeter / (2 * np.pi))


def borders_of(mesh: TriangleMesh) -> list[Ints]:
    """The open borders as rings of point numbers, in the order in which they are walked; where two meet in a point, each is one."""
    keys = edge_keys(mesh.triangles, len(mesh.points)).ravel()
    _, first, counts = np.unique(keys, return_index=True, return_counts=True)
    alone = first[counts == 1]
    starts = mesh.triangles.ravel()[alone]
    ends = np.roll(mesh.triangles, -1, axis=1).ravel()[alone]
    after: dict[int, list[int]] = {}
    for a, b in zip(starts.tolist(), ends.tolist(), strict=True):
        after.setdefault(a, []).append(b)
    rings = []
    while after:
        start = next(iter(after))
        ring, at = [start], after[start].pop()
        _forget(after, start)
        while at != start and at in after:
            ring.append(at)
            here, at = at, after[at].pop()
            _forget(after, here)
        rings += _simple(ring)
    return rings


def _simple(ring: list[int]) -> list[Ints]:
    """A ring taken apart where it comes through a point again: a patch over both parts would meet itself there."""
    found: list[Ints] = []
    way: list[int] = []
    place: dict[int, int] = {}
    for point in ring:
        if point in place:
            begin = place[point]
            found.append(np.array(way[begin:]))
            for gone in way[begin + 1 :]:
                del place[gone]
            del way[begin + 1 :]
        else:
            place[point] = len(way)
            way.append(point)
    return [*found, np.array(way)]


def _forget(after: dict[int, list[int]], key: int) -> None:
    if not after[key]:
        del after[key]


def holes_of(mesh: TriangleMesh) -> tuple[Hole, ...]:
    """All open borders, the longest first."""
    rings = [ring for ring in borders_of(mesh) if len(ring) > 2]
    if not rings:
        return ()
    diagonals, owner = _diagonals(mesh)
    found = []
    for ring in rings:
        places = mesh.points[ring]
        perimeter = float(np.linalg.norm(places - np.roll(places, -1, axis=0), axis=1).sum())
        found.append((perimeter, _area(places), ring))
    found.sort(key=lambda one: -one[0])
    seen: set[int] = set()
    holes = []
    for perimeter, area, ring in found:
        piece = int(owner[ring[0]])
        is_edge = piece not in seen and _calm_length(mesh.points[ring]) > diagonals[piece]
        seen.add(piece)
        kind = "edge" if is_edge else _kind(mesh.points[ring], area)
        holes.append(Hole(kind, perimeter, area, frozen(mesh.points[ring].mean(0)), ring))
    return tuple(holes)


def _calm_length(places: Floats) -> float:
    """Length of a ring without its zigzag from triangle to triangle, mm."""
    calm = (np.roll(places, 1, axis=0) + 2 * places + np.roll(places, -1, axis=0)) / 4
    return float(np.linalg.norm(calm - np.roll(calm, -1, axis=0), axis=1).sum())


def _diagonals(mesh: TriangleMesh) -> tuple[Floats, Ints]:
    """Diagonal of the bounds of each connected piece, mm, and the piece of each point (N,)."""
    labels = piece_labels(mesh)
    owner = np.zeros(len(mesh.points), dtype=np.int64)
    owner[mesh.triangles] = labels[:, None]
    count = int(labels.max()) + 1
    low, high = np.full((count, 3), np.inf), np.full((count, 3), -np.inf)
    np.minimum.at(low, owner, mesh.points)
    np.maximum.at(high, owner, mesh.points)
    return np.asarray(np.linalg.norm(np.nan_to_num(high - low, posinf=0, neginf=0), axis=1)), owner


def _kind(places: Floats, area: float) -> str:
    arms = np.linalg.norm(places - places.mean(0), axis=1)
    is_round = float(arms.std()) < ROUND * float(arms.mean())
    return "target" if is_round and TARGET[0] < _width(area) < TARGET[1] else "hole"


def _width(area: float) -> float:
    return float(np.sqrt(4 * area / np.pi))


def _area(places: Floats) -> float:
    middle = places.mean(0)
    arms = places - middle
    return float(np.linalg.norm(np.cross(arms, np.roll(arms, -1, axis=0)).sum(0))) / 2
