"""Whether a scan that nothing ties is the mirror image of what it should be."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from juxtum.align.scans.body import body_of, fits_by_shape, looks_of
from juxtum.align.scans.groups import Group
from juxtum.align.scans.sheet import Sheet
from juxtum.geometry import RigidTransform
from juxtum.geometry.arrays import frozen

MIRROR = np.array([-1.0, 1.0, 1.0])
BESIDE = 3
"""Of the scans that hang together so many are tried."""
SURE, CLEARER = 0.5, 0.7
"""So much the place of the mirror image must be worth, and so much of that the place of the scan itself at most."""
MAY_BE = "it may be the opposite hand, or the other side of a symmetric part"
OPPOSITE = f"nothing ties it to the others, but its mirror image would lie on them: {MAY_BE}"


def mirrored(sheet: Sheet) -> Sheet:
    """A scan mirrored at the plane X = 0."""
    return replace(
        sheet,
        points=frozen(sheet.points * MIRROR),
        normals=frozen(sheet.normals * MIRROR),
        rim=frozen(sheet.rim * MIRROR),
    )


def is_opposite_hand(sheets: Sequence[Sheet], group: Group, scan: int) -> bool:
    """Whether the mirror image of a scan has a place by its shape among others where the scan itself has none.

    Parameters
    ----------
    sheets : sequence of Sheet
        Of all scans.
    group : Group
        Those that hang together.
    scan : int
        One that does not belong to them.
    """
    beside = sorted(group.poses, key=lambda k: -sheets[k].size)[:BESIDE]
    turned = _best_place(mirrored(sheets[scan]), sheets, group, beside)
    return turned >= SURE and _best_place(sheets[scan], sheets, group, beside) < CLEARER * turned


def _best_place(sheet: Sheet, sheets: Sequence[Sheet], group: Group, beside: list[int]) -> float:
    """What the best place by shape is worth against which nothing speaks, 0 to 1."""
    looks = [looks_of(other) for other in (*(sheets[k] for k in beside), sheet)]
    known = body_of(looks, {row: group.poses[k] for row, k in enumerate(beside)})
    alone = body_of(looks, {len(beside): RigidTransform.identity()})
    return max((fit.worth for fit in fits_by_shape(alone, known) if not fit.objection), default=0.0)
