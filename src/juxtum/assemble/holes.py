"""Open borders of a surface: how long each is, what it closes, and closing them with faces that stay marked."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from juxtum.errors import InputError
from juxtum.geometry import TriangleMesh
from juxtum.geometry.arrays import Bools, Floats, Ints, frozen
from juxtum.geometry.topology import closure, edge_keys

ROUND = 0.75
"""A border whose area is so much of the circle's of the same perimeter is round."""
TARGET = (4.0, 16.0)
"""A round hole of a diameter in this range may be where a reference target sat, mm."""


@dataclass(frozen=True)
class Hole:
    """An open border.

    Parameters
    ----------
    kind : str
        "edge" for the longest, which is where the surface ends, "target" where a reference target may have sat, else "hole".
    perimeter, area : float
        mm and mm2; the area of a flat membrane over it.
    """

    kind: str
    perimeter: float
    area: float


def borders_of(mesh: TriangleMesh) -> list[Ints]:
    """The open borders as rings of point numbers, in the order in which they are walked."""
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
        rings.append(np.array(ring))
    return rings


def _forget(after: dict[int, list[int]], key: int) -> None:
    if not after[key]:
        del after[key]


def holes_of(mesh: TriangleMesh) -> tuple[Hole, ...]:
    """All open borders, the longest first."""
    found = []
    for ring in borders_of(mesh):
        places = mesh.points[ring]
        perimeter = float(np.linalg.norm(places - np.roll(places, -1, axis=0), axis=1).sum())
        found.append((perimeter, _area(places)))
    found.sort(reverse=True)
    return tuple(Hole(_kind(k, p, a), p, a) for k, (p, a) in enumerate(found))


def _kind(place: int, perimeter: float, area: float) -> str:
    if place == 0:
        return "edge"
    is_round = area > ROUND * perimeter**2 / (4 * np.pi)
    return "target" if is_round and TARGET[0] < perimeter / np.pi < TARGET[1] else "hole"


def _area(places: Floats) -> float:
    middle = places.mean(0)
    arms = places - middle
    return float(np.linalg.norm(np.cross(arms, np.roll(arms, -1, axis=0)).sum(0))) / 2


@dataclass(frozen=True, eq=False)
class Filled:
    """A surface whose borders were closed.

    Parameters
    ----------
    invented : array (M,)
        Which triangles were not measured.
    """

    mesh: TriangleMesh
    invented: Bools

    @property
    def invented_area(self) -> float:
        """mm2."""
        return float(self.mesh.triangle_areas[self.invented].sum())


def closed(mesh: TriangleMesh) -> Filled:
    """Close every border with a fan about its middle: invented faces, marked as such and never to be measured.

    Raises
    ------
    InputError
        When the surface does not become watertight by it.
    """
    points, triangles = [mesh.points], [mesh.triangles]
    count = len(mesh.points)
    for ring in borders_of(mesh):
        if len(ring) < 3:
            continue
        points.append(mesh.points[ring].mean(0)[None])
        triangles.append(np.column_stack([np.roll(ring, -1), ring, np.full(len(ring), count)]))
        count += 1
    made = TriangleMesh(np.concatenate(points), np.concatenate(triangles))
    if not closure(made).is_watertight:
        what = "the surface does not become watertight: three or more faces meet along an edge of it"
        raise InputError(what, "surface", "Choose a wider spacing, or keep it open")
    invented = np.arange(len(made.triangles)) >= len(mesh.triangles)
    return Filled(made, frozen(invented, bool))
