"""Where to put a ruler: distances from a target to the edges of its face, in words."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from juxtum.geometry.arrays import Floats
from juxtum.nominal import Nominal
from juxtum.plan.targets.targets import Target

FLAT = 1.5
"""Edges farther than this from the target's plane belong to other faces, mm."""
APART = np.cos(np.radians(50))


@dataclass(frozen=True)
class RulerMark:
    """A distance to measure: mm, and the way to the edge in part axes, such as +X."""

    distance: float
    towards: str

    @property
    def words(self) -> str:
        """As the sheet says it."""
        return f"{self.distance:.0f} from the {self.towards} edge"


def ruler_marks(nominal: Nominal, target: Target) -> tuple[RulerMark, ...]:
    """The nearest edge in the target's plane, and the nearest one that lies another way."""
    ends = nominal.sharp_segments
    if len(ends) == 0:
        return ()
    start, way = ends[:, 0], ends[:, 1] - ends[:, 0]
    share = np.clip(np.einsum("kd,kd->k", target.place - start, way) / np.maximum((way**2).sum(1), 1e-12), 0, 1)
    offset = start + share[:, None] * way - target.place
    flat = np.abs(offset @ target.normal) < FLAT
    distance = np.where(flat, np.linalg.norm(offset, axis=1), np.inf)
    if not np.isfinite(distance).any():
        return ()
    first = int(np.argmin(distance))
    directions = offset / np.maximum(distance, 1e-9)[:, None]
    other = np.where(np.abs(directions @ directions[first]) < APART, distance, np.inf)
    marks = [_mark(distance[first], directions[first])]
    second = int(np.argmin(other))
    if np.isfinite(other[second]):
        marks.append(_mark(other[second], directions[second]))
    return tuple(marks)


def _mark(distance: float, direction: Floats) -> RulerMark:
    axis = int(np.argmax(np.abs(direction)))
    sign = "+" if direction[axis] > 0 else "\u2212"
    return RulerMark(float(distance), f"{sign}{'XYZ'[axis]}")
