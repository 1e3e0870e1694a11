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
SURE = 0.3
"""So much the mirror image must have in common with one of them: with less, chance fits as well as truth."""
MAY_BE = "it may be the opposite hand, or the other side of a symmetric part"
OPPOSITE = f"nothing ties it to the others, but its mirror image would lie on them: {MAY_BE}"


def mirrored(sheet: Sheet) -> Sheet:
    """A scan mirrored at the plane X = 0."""
    return replace(
        sheet, points=frozen(sheet.points * MIRROR), normals=frozen(sheet.normals * MIRROR), rim=frozen(sheet.rim * MIRROR)
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
    as_it_is = _most_in_common(sheets[scan], sheets, group, beside)
    return as_it_is < SURE <= _most_in_common(mirrored(sheets[scan]), sheets, group, beside)


def _most_in_common(sheet: Sheet, sheets: Sequence[Sheet], group: Group, beside: list[int]) -> float:
    """The largest share of overlap that a place by shape gives without anything speaking against it, 0 to 1."""
    looks = [looks_of(other) for other in (*(sheets[k] for k in beside), sheet)]
    known = body_of(looks, {row: group.poses[k] for row, k in enumerate(beside)})
    alone = body_of(looks, {len(beside): RigidTransform.identity()})
    return max((fit.overlap.share for fit in fits_by_shape(alone, known) if not fit.objection), default=0.0)
