"""Long openings and studs: a wall all round an axis, with round ends or with square ones."""

from __future__ import annotations

from abc import abstractmethod
from dataclasses import dataclass, replace
from typing import ClassVar, Self

import numpy as np
import numpy.typing as npt

from juxtum.geometry.arrays import Floats, cross, frozen, unit
from juxtum.geometry.features.base import Axial, Held, direction_of
from juxtum.geometry.transform import RigidTransform, rotation_from_vector

ROUND = 1.02
"""What is no longer than this times its width has no sides."""


@dataclass(frozen=True, eq=False)
class Opening(Axial):
    """A wall round `axis`, longest along `along`; a step is two offsets, a turn about the axis, two tilts, and changes of length and width.

    Offsets and tilts are those along the length and the width.
    """

    along: Floats
    length: float
    width: float

    tilts: ClassVar[slice] = slice(3, 5)
    least: ClassVar[int] = 7
    loose: ClassVar[tuple[str, str]] = ("the points do not go round it", "Take both sides and both ends of the wall")
    lengths: ClassVar[tuple[str, ...]] = ("length", "width")

    def __post_init__(self) -> None:
        super().__post_init__()
        across = np.asarray(self.along, dtype=float) - (np.asarray(self.along) @ self.axis) * self.axis
        object.__setattr__(self, "along", direction_of(across, f"length of the {self.name}"))

    @property
    def frame(self) -> Floats:
        """Along its length, its width and its depth (3, 3)."""
        return np.stack([self.along, cross(self.axis[None], self.along[None])[0], self.axis])

    @abstractmethod
    def _across(self, x: Floats, y: Floats) -> tuple[Floats, Floats, Floats]:
        """Of places (N,) in the middle plane: signed distance from the wall, and the unit direction out of it along either."""

    @abstractmethod
    def _growth(self, out_x: Floats, out_y: Floats) -> tuple[Floats, Floats]:
        """How distances (N,) change by the length and by the width, where the wall looks that way."""

    @abstractmethod
    def round_about(self, points: npt.ArrayLike) -> Floats:
        """How far round its wall each of the points (N, 3) lies, 0 to 1."""

    @property
    def is_round(self) -> bool:
        """Whether it is a bore: a slot without sides."""
        return False

    @property
    @abstractmethod
    def circumference(self) -> float:
        """Of the wall, mm."""

    def local(self, points: npt.ArrayLike) -> tuple[Floats, Floats, Floats]:
        """Points (N, 3) along its length, its width and its depth, mm."""
        x, y, z = self.frame @ (np.asarray(points, dtype=np.float64) - self.point).T
        return x, y, z

    def distances(self, points: npt.ArrayLike) -> Floats:
        """Signed distances (N,), positive outside of the wall."""
        x, y, _ = self.local(points)
        return self._across(x, y)[0]

    def linearised(self, points: Floats) -> tuple[Floats, Floats]:
        """Distances from the wall."""
        x, y, z = self.local(points)
        off, out_x, out_y = self._across(x, y)
        longer, wider = self._growth(out_x, out_y)
        columns = [-out_x, -out_y, out_x * y - out_y * x, -z * out_x, -z * out_y, longer, wider]
        return off, np.stack(columns).T

    def stepped(self, step: Floats) -> Self:
        """After two offsets, a turn about the axis, two tilts, and changes of length and width."""
        u, v, w = self.frame
        turn = rotation_from_vector(step[3] * v - step[4] * u + step[2] * w)
        return replace(
            self, point=self.point + step[0] * u + step[1] * v, axis=turn @ w, along=turn @ u,
            length=abs(self.length + step[5]), width=abs(self.width + step[6]),
        )  # fmt: skip

    def moved(self, transform: RigidTransform) -> Self:
        """The feature after a rigid motion."""
        axis, along = transform.turn(self.axis), transform.turn(self.along)
        return replace(self, point=transform.apply(self.point), axis=axis, along=along)

    def anchored(self, place: Floats) -> Self:
        """With its point on the axis beside a place."""
        return replace(self, point=self.point + float((place - self.point) @ self.axis) * self.axis)

    def holds(self) -> Held:
        """The shifts across its axis, and the two turns that tilt it."""
        return Held(self.point, self.frame[:2], self.axis)


@dataclass(frozen=True, eq=False)
class Slot(Opening):
    """An opening with half a circle at either end."""

    name: ClassVar[str] = "slot"

    @property
    def half(self) -> float:
        """From the middle to the axis of either round end, mm."""
        return max(self.length - self.width, 0.0) / 2

    @property
    def is_round(self) -> bool:
        """Whether its sides are shorter than a fiftieth of its width."""
        return self.length < ROUND * self.width

    def _across(self, x: Floats, y: Floats) -> tuple[Floats, Floats, Floats]:
        beyond = np.sign(x) * np.maximum(np.abs(x) - self.half, 0.0)
        reach = np.maximum(np.hypot(beyond, y), 1e-12)
        return reach - self.width / 2, beyond / reach, y / reach

    def _growth(self, out_x: Floats, out_y: Floats) -> tuple[Floats, Floats]:
        return -np.abs(out_x) / 2, (np.abs(out_x) - 1) / 2

    @property
    def circumference(self) -> float:
        """Two sides and a whole circle, mm."""
        return 4 * self.half + np.pi * self.width

    def round_about(self, points: npt.ArrayLike) -> Floats:
        """From the middle of one side on, by way of the end that lies along."""
        x, y, _ = self.local(points)
        h, bend = self.half, np.pi * self.width / 2
        end = np.arctan2(y, np.abs(x) - h)
        right = h + (np.pi / 2 + end) / np.pi * bend
        left = 3 * h + bend + (np.pi / 2 - end) / np.pi * bend
        sides = np.where(y < 0, x, 2 * h + bend - x)
        path = np.where(np.abs(x) <= h, sides, np.where(x > 0, right, left))
        return np.asarray(path / self.circumference % 1.0)


@dataclass(frozen=True, eq=False)
class Rectangle(Opening):
    """An opening with four flat sides."""

    name: ClassVar[str] = "rectangle"

    def _across(self, x: Floats, y: Floats) -> tuple[Floats, Floats, Floats]:
        over = np.stack([np.abs(x) - self.length / 2, np.abs(y) - self.width / 2])
        beside = np.maximum(over, 0.0)
        reach = np.hypot(*beside)
        outside = reach > 0
        inner = np.where(over[0] > over[1], 0, 1) == np.arange(2)[:, None]
        out = np.where(outside, beside / np.where(outside, reach, 1.0), inner)
        return np.where(outside, reach, over.max(0)), out[0] * np.sign(x), out[1] * np.sign(y)

    def _growth(self, out_x: Floats, out_y: Floats) -> tuple[Floats, Floats]:
        return -np.abs(out_x) / 2, -np.abs(out_y) / 2

    @property
    def circumference(self) -> float:
        """Of four sides, mm."""
        return 2 * (self.length + self.width)

    def round_about(self, points: npt.ArrayLike) -> Floats:
        """From one corner on."""
        x, y, _ = self.local(points)
        a, b = self.length, self.width
        along, up = np.clip(x, -a / 2, a / 2) + a / 2, np.clip(y, -b / 2, b / 2) + b / 2
        on_end = np.abs(x) - a / 2 > np.abs(y) - b / 2
        ends = np.where(x > 0, a + up, 2 * a + b + (b - up))
        sides = np.where(y < 0, along, a + b + (a - along))
        return np.asarray(np.where(on_end, ends, sides) / self.circumference % 1.0)


OPENINGS: dict[str, type[Opening]] = {"slot": Slot, "rectangle": Rectangle}


def begun_opening(kind: str, points: Floats, normals: Floats) -> Opening:
    """A slot or a rectangle to begin a fit from: points (N, 3) all round its wall, with their directions (N, 3).

    The axis is where they look least. Seen along it the two ends of a slot look every way alike, so its sides are what is
    left over; of a rectangle, whose sides look four ways, the fourth harmonic is.
    """
    axis = np.linalg.eigh(normals.T @ normals)[1][:, 0]
    helper = np.eye(3)[int(np.argmin(np.abs(axis)))]
    u = unit(helper - (helper @ axis) * axis)
    v = np.cross(axis, u)
    turns = np.arctan2(normals @ v, normals @ u)
    fold = 2 if kind == "slot" else 4
    facing = float(np.angle(np.exp(1j * fold * turns).sum())) / fold
    side = np.cos(facing) * u + np.sin(facing) * v
    frame = np.stack([np.cross(side, axis), side])
    places = (points @ frame.T).T
    spans = np.ptp(places, axis=1)
    longest = int(np.argmax(spans)) if kind == "rectangle" else 0
    middle = (places.max(1) + places.min(1)) / 2
    point = middle @ frame + float((points @ axis).mean()) * axis
    length, width = float(spans[longest]), float(spans[1 - longest])
    return OPENINGS[kind](frozen(point), frozen(axis), frozen(frame[longest]), max(length, width), width)
