"""What a line of sight meets."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from juxtum.geometry import RigidTransform
from juxtum.geometry.arrays import Floats
from juxtum.geometry.nearest import NearestTree


@dataclass(frozen=True, eq=False)
class Hit:
    """Where a line of sight met a layer."""

    layer: str
    place: Floats
    triangle: int


def first_seen(
    caster: NearestTree, placement: RigidTransform, ends: tuple[Floats, Floats], is_there: Callable[[Floats], bool]
) -> tuple[Floats, int] | None:
    """The first place that a line meets and that is not cut away, and its triangle.

    Parameters
    ----------
    placement : RigidTransform
        Where the surface is shown.
    ends : tuple of array (3,)
        Of the line, as shown.
    """
    start, end = placement.inverse.apply(np.stack(ends))
    reach = float(np.linalg.norm(end - start))
    direction = (end - start) / reach
    gone = 0.0
    for _ in range(16):
        found = caster.first_hit(start + gone * direction, direction)
        if found is None:
            return None
        gone = float((found[1] - start) @ direction)
        if gone > reach:
            return None
        spot = placement.apply(found[1][None])[0]
        if is_there(spot):
            return spot, found[0]
        gone += 1e-3
    return None
