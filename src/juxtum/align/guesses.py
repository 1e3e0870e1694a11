"""First guesses of a pose: turns, each laid onto the nominal in several places, sorted by a coarse grid of distances."""

from __future__ import annotations

import weakref
from itertools import permutations, product

import numpy as np

from juxtum.align.samples import ScanSample
from juxtum.align.symmetry import principal_frame
from juxtum.geometry import RigidTransform
from juxtum.geometry.arrays import Bools, Floats, unit
from juxtum.nominal import Nominal

MARKS = 5000
CELLS = 56
"""Cells of the grid along each side."""
KEPT = 48
"""So many guesses go on from the grid."""
FACINGS = 5
"""So many directions in which much of a surface faces are tried against each other."""


class Marks:
    """Some thousand points of the nominal with their normals, found by place and direction together."""

    def __init__(self, nominal: Nominal) -> None:
        from scipy.spatial import cKDTree

        chosen = nominal.samples.even_rows(MARKS)
        self.points = nominal.samples.centres[chosen]
        self.normals = nominal.samples.mesh.triangle_normals[chosen]
        self._weight = nominal.diagonal / 12
        self.spacing = float(np.sqrt(nominal.area / MARKS))
        self._tree = cKDTree(self._features(self.points, self.normals))
        self.low = self.points.min(0) - nominal.diagonal / 10
        self.step = (self.points.max(0) + nominal.diagonal / 10 - self.low) / CELLS
        middles = np.stack(
            np.meshgrid(*[self.low[k] + (np.arange(CELLS) + 0.5) * self.step[k] for k in range(3)], indexing="ij"), -1
        )
        apart, index = cKDTree(self.points).query(middles.reshape(-1, 3), workers=2)
        self._grid_apart, self._grid_index = apart.astype(np.float32), index.astype(np.int32)

    @classmethod
    def of(cls, nominal: Nominal) -> Marks:
        """The marks of a nominal, made once."""
        if nominal not in _KNOWN:
            _KNOWN[nominal] = cls(nominal)
        return _KNOWN[nominal]

    def _features(self, points: Floats, normals: Floats) -> Floats:
        return np.concatenate([points, self._weight * normals], 1)

    def nearest(self, points: Floats, normals: Floats, *, either_side: bool) -> tuple[Floats, Floats, Floats]:
        """Place and normal (N, 3) of the most similar mark, and how unlike it is (N,)."""
        apart, index = self._tree.query(self._features(points, normals))
        if either_side:
            other, second = self._tree.query(self._features(points, -normals))
            apart, index = np.minimum(apart, other), np.where(other < apart, second, index)
        return self.points[index], self.normals[index], apart

    def rough_misfit(self, points: Floats, normals: Floats, *, either_side: bool) -> Floats:
        """Mean unlikeness (P,) of points in several places (P, N, 3), all with the same normals (N, 3), by the grid."""
        cap = 2 * self._weight
        cells = np.floor((points - self.low) / self.step).astype(np.int32)
        within: Bools = ((cells >= 0) & (cells < CELLS)).all(-1)
        cells = cells.clip(0, CELLS - 1)
        flat = (cells[..., 0] * CELLS + cells[..., 1]) * CELLS + cells[..., 2]
        agree = np.einsum("pnk,nk->pn", self.normals[self._grid_index[flat]], normals)
        unlike = self._grid_apart[flat] + self._weight * (1 - (np.abs(agree) if either_side else agree))
        return np.asarray(np.where(within, np.minimum(unlike, cap), cap).mean(1))


_KNOWN: weakref.WeakKeyDictionary[Nominal, Marks] = weakref.WeakKeyDictionary()


_MIDDLES: weakref.WeakKeyDictionary[Nominal, Floats] = weakref.WeakKeyDictionary()


def likely(sample: ScanSample, nominal: Nominal, rotations: list[Floats], kept: int = KEPT) -> list[RigidTransform]:
    """The guesses that fit best by the grid, of all turns laid onto the part in all places."""
    marks = Marks.of(nominal)
    directions, either = sample.directions(RigidTransform.identity())
    if directions is None:
        directions, either = np.zeros_like(sample.points), True
    misfits, guesses = [], []
    for rotation in rotations:
        turned = sample.points @ rotation.T
        offsets = _offsets(turned, nominal)
        misfits.append(marks.rough_misfit(turned[None] + offsets[:, None], directions @ rotation.T, either_side=either))
        guesses += [(rotation, offset) for offset in offsets]
    order = np.argsort(np.concatenate(misfits), kind="stable")
    return [RigidTransform.from_parts(*guesses[int(index)]) for index in order[:kept]]


def _offsets(turned: Floats, nominal: Nominal) -> Floats:
    """Shifts (P, 3) that lay turned points with either end or the middle onto that of the part, along every axis.

    Along the part's longest side there are more; and once the middles of the areas are laid onto each other.
    """
    low, high = nominal.mesh.bounds
    here_low, here_high = turned.min(0), turned.max(0)
    longest = int(np.argmax(high - low))
    along = []
    for axis in range(3):
        shares = np.linspace(0, 1, 7) if axis == longest else np.array([0.0, 0.5, 1.0])
        first, last = low[axis] - here_low[axis], high[axis] - here_high[axis]
        along.append(first + shares * (last - first))
    grid = np.stack(np.meshgrid(*along, indexing="ij"), -1).reshape(-1, 3)
    if nominal not in _MIDDLES:
        _MIDDLES[nominal] = nominal_points(nominal).mean(0)
    return np.concatenate([grid, (_MIDDLES[nominal] - turned.mean(0))[None]])


def long_axis(nominal: Nominal) -> tuple[float, Floats]:
    """Length and direction (3,) of the part's longest extent."""
    points = nominal_points(nominal)
    axis = principal_frame(points)[-1]
    return float(np.ptp(points @ axis)), axis


def nominal_points(nominal: Nominal) -> Floats:
    """Some thousand points (N, 3), even over the nominal's area."""
    return nominal.samples.centres[nominal.samples.even_rows(3000)]


def axis_turns(points: Floats, nominal: Nominal) -> list[Floats]:
    """The 24 ways in which two sets of principal axes can be laid onto each other."""
    a, b = principal_frame(points), principal_frame(nominal_points(nominal))
    turns = []
    for order, signs in product(permutations(range(3)), product((1, -1), repeat=3)):
        turn = np.zeros((3, 3))
        turn[range(3), order] = signs
        if np.linalg.det(turn) > 0:
            turns.append(b.T @ turn @ a)
    return turns


def facing_turns(sample: ScanSample, nominal: Nominal) -> list[Floats]:
    """Turns that lay two directions in which much of the scan faces onto two of the part, where their angles agree."""
    directions, either = sample.directions(RigidTransform.identity())
    if directions is None:
        return []
    chosen = nominal.samples.even_rows(3000)
    here, there = _facings(directions, either), _facings(nominal.samples.mesh.triangle_normals[chosen], False)
    if either:
        here = np.concatenate([here, -here])
    turns: list[Floats] = []
    for (a, b), (c, d) in product(permutations(here, 2), permutations(there, 2)):
        angle, other = np.arccos(np.clip([a @ b, c @ d], -1, 1))
        if 0.2 < angle < 2.94 and abs(angle - other) < 0.09:
            turn = _frame(c, d).T @ _frame(a, b)
            if all(np.trace(turn.T @ known) < 2.985 for known in turns):
                turns.append(turn)
    return turns


def _facings(directions: Floats, either: bool) -> Floats:
    """The directions (K, 3) in which most of a surface faces, most first."""
    left, found = directions, []
    for _ in range(FACINGS):
        if len(left) < 0.04 * len(directions):
            break
        some = left[:: max(1, len(left) // 200)]
        agree = some @ left.T
        near = (np.abs(agree) if either else agree) > 0.985
        best = int(near.sum(1).argmax())
        signs = np.sign(agree[best]) if either else np.ones(len(left))
        found.append(unit((left * signs[:, None])[near[best]].sum(0)))
        left = left[~near[best]]
    return np.array(found).reshape(-1, 3)


def _frame(first: Floats, second: Floats) -> Floats:
    """Orthonormal rows from a direction and another beside it."""
    across = unit(np.cross(first, second))
    return np.stack([first, np.cross(across, first), across])


def even_turns(count: int = 140) -> list[Floats]:
    """Turns spread evenly over all there are (Alexa 2022, super-Fibonacci spirals)."""
    phi, psi = 1.414213562373095, 1.533751168755204
    s = np.arange(count) + 0.5
    a, b = 2 * np.pi * s / phi, 2 * np.pi * s / psi
    r, R = np.sqrt(s / count), np.sqrt(1 - s / count)
    return [_from_quaternion(*row) for row in np.stack([r * np.sin(a), r * np.cos(a), R * np.sin(b), R * np.cos(b)], 1)]


def _from_quaternion(x: float, y: float, z: float, w: float) -> Floats:
    return np.array(
        [
            [1 - 2 * (y * y + z * z), 2 * (x * y - z * w), 2 * (x * z + y * w)],
            [2 * (x * y + z * w), 1 - 2 * (x * x + z * z), 2 * (y * z - x * w)],
            [2 * (x * z - y * w), 2 * (y * z + x * w), 1 - 2 * (x * x + y * y)],
        ]
    )
