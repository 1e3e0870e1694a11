"""Where a plane cuts triangles: curves in the plane's own coordinates."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
import numpy.typing as npt

from juxtum.errors import InputError
from juxtum.geometry.arrays import Floats, Ints, frozen

WELD = 1e-7
"""Crossings nearer to each other than this share of the part's size are one."""


@dataclass(frozen=True, eq=False)
class SectionPlane:
    """A plane that cuts a part, seen against its normal, with Z upwards where the normal allows.

    Parameters
    ----------
    name : str
    point, normal : array (3,)
        Part coordinates, mm; the normal is made a unit.

    Raises
    ------
    InputError
        When the normal has no length.

    Examples
    --------
    >>> plane = SectionPlane("z = 5", np.array([0.0, 0, 5]), np.array([0.0, 0, 2]))
    >>> plane.flat(np.array([[3.0, 4.0, 5.0]])).tolist(), plane.space(np.array([[3.0, 4.0]])).tolist()
    ([[3.0, 4.0]], [[3.0, 4.0, 5.0]])
    """

    name: str
    point: Floats
    normal: Floats

    def __post_init__(self) -> None:
        length = float(np.linalg.norm(self.normal))
        if not np.isfinite(length) or length < 1e-12:
            raise InputError("the direction of the plane has no length", self.name, "Give a normal such as 0,0,1")
        object.__setattr__(self, "normal", frozen(np.asarray(self.normal, dtype=np.float64) / length))
        object.__setattr__(self, "point", frozen(np.asarray(self.point, dtype=np.float64)))

    @cached_property
    def axes(self) -> Floats:
        """The plane's two directions (2, 3): to the right and upwards, as seen against the normal."""
        right = np.array([1.0, 0, 0]) if abs(self.normal[2]) > 0.999 else np.cross([0.0, 0, 1], self.normal)
        right = right - (right @ self.normal) * self.normal
        right /= np.linalg.norm(right)
        return frozen(np.stack([right, np.cross(self.normal, right)]))

    @cached_property
    def origin(self) -> Floats:
        """Where the plane's own coordinates begin (3,): below the origin of the part's, so that they are the drawing's."""
        return frozen((self.point @ self.normal) * self.normal)

    def heights(self, points: npt.ArrayLike) -> Floats:
        """Signed distances (N,) from the plane."""
        return np.asarray((np.asarray(points) - self.point) @ self.normal)

    def flat(self, points: npt.ArrayLike) -> Floats:
        """Points (N, 3) in the plane's coordinates (N, 2)."""
        return np.asarray((np.asarray(points) - self.origin) @ self.axes.T)

    def space(self, flat: npt.ArrayLike) -> Floats:
        """Points of the plane (N, 2) in part coordinates (N, 3)."""
        return np.asarray(self.origin + np.asarray(flat) @ self.axes)

    def turn(self, directions: npt.ArrayLike) -> Floats:
        """The share (N, 2) of directions (N, 3) that lies in the plane."""
        return np.asarray(np.asarray(directions) @ self.axes.T)


@dataclass(frozen=True, eq=False)
class Curve:
    """A run of straight pieces; material lies to the left.

    Parameters
    ----------
    points : array (N, 2)
        mm; of a closed curve the first is not repeated.
    triangles : array (N - 1,) or (N,)
        Of which triangle each piece is cut.
    is_closed : bool
    """

    points: Floats
    triangles: Ints
    is_closed: bool

    @property
    def ends(self) -> tuple[Floats, Floats]:
        """Starts and ends (M, 2) of its pieces."""
        return ends_of(self.points, self.is_closed)

    @property
    def length(self) -> float:
        """mm."""
        starts, ends = self.ends
        return float(np.linalg.norm(ends - starts, axis=1).sum())

    @property
    def area(self) -> float:
        """Enclosed, mm2: positive round material, negative round a hole; 0 of an open one."""
        if not self.is_closed:
            return 0.0
        (x, y), (a, b) = self.points.T, np.roll(self.points, -1, axis=0).T
        return float(0.5 * (x * b - a * y).sum())


def ends_of(points: Floats, is_closed: bool) -> tuple[Floats, Floats]:
    """Starts and ends (M, 2) of the pieces between points."""
    return (points, np.roll(points, -1, axis=0)) if is_closed else (points[:-1], points[1:])


def cut(points: Floats, triangles: Ints, plane: SectionPlane) -> tuple[Curve, ...]:
    """Where a plane cuts triangles.

    Parameters
    ----------
    points : array (N, 3)
    triangles : array (M, 3)
        Wound so that their normals point out of the material.
    """
    heights = plane.heights(points)
    size = float(np.abs(heights).max(initial=0.0)) or 1.0
    # A corner in the plane counts as just above it: a triangle is then cut through two sides or not at all.
    heights = np.where(np.abs(heights) < 1e-12 * size, 1e-12 * size, heights)
    above = heights[triangles] > 0
    count = above.sum(1)
    rows = np.flatnonzero((count == 1) | (count == 2))
    if len(rows) == 0:
        return ()
    # The corner that lies on its own side, and the other two in their order round.
    is_lone = above[rows] == (count[rows] == 1)[:, None]
    lone = np.argmax(is_lone, axis=1)
    corners = np.stack([triangles[rows, (lone + k) % 3] for k in range(3)], axis=1)
    first = _crossings(points, heights, corners[:, 0], corners[:, 1])
    second = _crossings(points, heights, corners[:, 0], corners[:, 2])
    is_up = (count[rows] == 1)[:, None]
    starts, ends = plane.flat(np.where(is_up, first, second)), plane.flat(np.where(is_up, second, first))
    return _chained(starts, ends, rows)


def _crossings(points: Floats, heights: Floats, one: Ints, two: Ints) -> Floats:
    """Where edges cross; computed from the lower corner's number on, so that neighbours get the same to the last digit."""
    low, high = np.minimum(one, two), np.maximum(one, two)
    share = heights[low] / (heights[low] - heights[high])
    return np.asarray(points[low] + share[:, None] * (points[high] - points[low]))


def _chained(starts: Floats, ends: Floats, triangles: Ints) -> tuple[Curve, ...]:
    """Pieces (N, 2) to (N, 2) put one behind the other."""
    every = np.concatenate([starts, ends])
    grain = max(WELD * float(np.ptp(every, axis=0).max()), 1e-9)
    _, kept, numbers = np.unique(
        np.round(every / grain).astype(np.int64), axis=0, return_index=True, return_inverse=True
    )
    places, numbers = every[kept], numbers.reshape(-1)
    heads, tails = numbers[: len(starts)], numbers[len(starts) :]
    going: dict[int, list[int]] = {}
    for piece in np.flatnonzero(heads != tails).tolist():
        going.setdefault(int(heads[piece]), []).append(piece)
    begun = sorted(set(going) - {int(tails[k]) for k in np.flatnonzero(heads != tails)})
    found = []
    for start in (*begun, *going):
        while going.get(start):
            run = _run(start, going, tails)
            is_closed = int(tails[run[-1]]) == start
            along = heads[run] if is_closed else np.append(heads[run], tails[run[-1]])
            found.append(Curve(frozen(places[along]), frozen(triangles[run], np.int64), is_closed))
    return tuple(found)


def _run(start: int, going: dict[int, list[int]], tails: Ints) -> list[int]:
    run, at = [], start
    while going.get(at):
        run.append(going[at].pop())
        at = int(tails[run[-1]])
        if at == start:
            break
    return run


def parallel(plane: SectionPlane, count: int, spacing: float) -> tuple[SectionPlane, ...]:
    """So many planes, each a spacing in mm farther along the normal than the one before it.

    Raises
    ------
    InputError
        When there would be none or more than 500, or the spacing is nothing.
    """
    if not 1 <= count <= 500:
        raise InputError(f"a series of {count} sections is not possible", plane.name, "Choose 1 to 500")
    if count > 1 and not abs(spacing) > 0:
        raise InputError("the spacing of the series is nothing", plane.name, "Give it in mm")
    names = [plane.name] if count == 1 else [f"{plane.name} {k + 1}" for k in range(count)]
    return tuple(
        SectionPlane(name, plane.point + k * spacing * plane.normal, plane.normal) for k, name in enumerate(names)
    )


def radial(name: str, axis: tuple[Floats, Floats], count: int) -> tuple[SectionPlane, ...]:
    """So many planes through an axis (a point and a direction), evenly turned about it.

    Raises
    ------
    InputError
        When there would be none or more than 360, or the axis has no direction.
    """
    if not 1 <= count <= 360:
        raise InputError(f"a series of {count} sections is not possible", name, "Choose 1 to 360")
    upright = SectionPlane(name, axis[0], axis[1])
    right, up = upright.axes
    angles = np.pi * np.arange(count) / count
    return tuple(
        SectionPlane(f"{name} {np.degrees(a):.4g}°" if count > 1 else name, axis[0], np.cos(a) * up - np.sin(a) * right)
        for a in angles
    )
