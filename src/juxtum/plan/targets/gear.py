"""Equipment with targets of its own: where it stands in each position of the part, and whether it suits the part."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from juxtum.geometry import RigidTransform
from juxtum.geometry.arrays import Floats, Ints, frozen
from juxtum.geometry.transform import rotation_from_vector
from juxtum.instruments.equipment import Equipment, EquipmentKind
from juxtum.nominal import Nominal
from juxtum.plan.targets.views import Spots, Stance, standing

RIM = 45.0
"""So much of a plate is wanted about the part on every side, mm: on it lie the targets that are seen."""
BESIDE = 35.0
"""Between the part's outline and a block, mm."""
CORNERS = ((-1, -1), (1, 1), (1, -1), (-1, 1), (0, -1), (0, 1), (-1, 0), (1, 0))
"""Where blocks stand about the outline, one after the other."""
SHIFTED, TURNED = 8.0, 2.0
"""How far off a part stands that is put down by eye, standard deviation in mm and degrees."""


@dataclass(frozen=True, eq=False)
class Gear:
    """Equipment about a part.

    Parameters
    ----------
    items : tuple of Equipment
    stands : tuple of tuple of RigidTransform
        For each position of the part and each item: from the equipment's own coordinates to the table.
    turned : tuple of RigidTransform
        From part coordinates to the table in each position.
    """

    items: tuple[Equipment, ...]
    stands: tuple[tuple[RigidTransform, ...], ...]
    turned: tuple[RigidTransform, ...]

    @cached_property
    def spots(self) -> Spots:
        """The targets in part coordinates, for each position (S, G, 3)."""
        places, normals = [], []
        for turned, stands in zip(self.turned, self.stands, strict=True):
            ways = [turned.inverse @ stand for stand in stands]
            places.append([w.apply(item.places) for w, item in zip(ways, self.items, strict=True)])
            normals.append([w.turn(item.normals) for w, item in zip(ways, self.items, strict=True)])
        empty = np.empty((0, 3))
        return Spots(
            frozen(np.stack([np.concatenate([empty, *rows]) for rows in places])),
            frozen(np.stack([np.concatenate([empty, *rows]) for rows in normals])),
        )

    @property
    def owners(self) -> Ints:
        """Which item each target belongs to (G,)."""
        return np.repeat(np.arange(len(self.items)), [len(item.targets) for item in self.items])

    def __len__(self) -> int:
        return sum(len(item.targets) for item in self.items)

    def put_down(self, rng: np.random.Generator) -> Gear:
        """As a hand puts the part down on it or beside it: a little off in each position."""
        stands = []
        for lay in self.stands:
            shift, turn = [*rng.normal(0, SHIFTED, 2), 0.0], np.radians(rng.normal(0, TURNED))
            off = RigidTransform.from_parts(rotation_from_vector(np.array([0.0, 0.0, turn])), np.array(shift))
            stands.append(tuple(off @ stand for stand in lay))
        return Gear(self.items, tuple(stands), self.turned)


def gear_of(items: Sequence[Equipment], nominal: Nominal, stance: Stance) -> Gear:
    """Equipment where it is to stand: what carries the part under its middle, blocks about its outline."""
    turned = standing(nominal, stance)
    lays = []
    for way in turned:
        outline = way.apply(nominal.mesh.points)[:, :2]
        low, high = outline.min(0), outline.max(0)
        lays.append(tuple(_stand(item, k, low, high) for item, k in zip(items, _among_blocks(items), strict=True)))
    return Gear(tuple(items), tuple(lays), turned)


def _among_blocks(items: Sequence[Equipment]) -> list[int]:
    """For each item how many blocks come before it."""
    count, result = 0, []
    for item in items:
        result.append(count)
        count += not item.is_under
    return result


def _stand(item: Equipment, among_blocks: int, low: Floats, high: Floats) -> RigidTransform:
    middle, half = (low + high) / 2, (high - low) / 2
    if item.is_under:
        across = (half[1] > half[0]) != (item.size[1] > item.size[0])
        turn = rotation_from_vector(np.array([0.0, 0.0, np.pi / 2 if across else 0.0]))
        return RigidTransform.from_parts(turn, np.array([*middle, 0.0]))
    corner = np.array(CORNERS[among_blocks % len(CORNERS)], dtype=np.float64)
    place = middle + corner * (half + BESIDE + item.size[0] / 2)
    return RigidTransform.translation(np.array([*place, 0.0]))


def unsuited(item: Equipment, nominal: Nominal, stance: Stance, mass: float) -> str:
    """Why a part cannot stand on equipment, in words; empty when it can.

    Parameters
    ----------
    mass : float
        Of the part, kg; nan when it is not known.
    """
    if not item.is_under:
        return ""
    if stance is Stance.STANDS:
        return "the part stands free: a plate under it would not be seen"
    outline = np.sort(np.ptp(nominal.mesh.bounds, axis=0)[:2])
    room = np.sort(np.array(item.size[:2])) - 2 * RIM
    is_round = item.kind is EquipmentKind.TURNTABLE
    short = float(np.hypot(*outline)) - room[0] if is_round else float((outline - room).max())
    if short > 0:
        return f"{item.name} is {short:.0f} mm too small for targets to be seen about the part"
    if mass > item.carries:
        return f"{item.name} carries {item.carries:g} kg, the part has {mass:.0f} kg"
    return ""


def smallest_that_suits(
    offered: Sequence[Equipment], nominal: Nominal, stance: Stance, mass: float
) -> Equipment | None:
    """The smallest plate on which the part can stand; None where there is none."""
    suited = [
        item for item in offered if item.kind is EquipmentKind.PLATE and not unsuited(item, nominal, stance, mass)
    ]
    return min(suited, key=lambda item: item.size[0] * item.size[1], default=None)
