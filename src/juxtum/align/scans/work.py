"""What is known of the scans while they are being joined."""

from __future__ import annotations

from dataclasses import dataclass, field
from itertools import combinations

import numpy as np

from juxtum.align.scans.groups import Group, merged
from juxtum.align.scans.overlap import LEAST_SHARE, overlap_of
from juxtum.align.scans.sheet import Sheet
from juxtum.align.scans.ties import Tie
from juxtum.geometry import RigidTransform


@dataclass(frozen=True)
class Joining:
    """What a person has decided about joining.

    Parameters
    ----------
    by_shape : bool
        Whether scans that neither lie about right nor have given ties are proposed a place by their shape; each of them
        says that its place is a proposal, since partial views of plain parts fit in more than one way.
    cut : frozenset of frozenset of int
        Pairs of scans whose overlap is not to be used.
    """

    by_shape: bool = False
    cut: frozenset[frozenset[int]] = frozenset()


@dataclass
class Work:
    """What is known while scans are being joined."""

    sheets: list[Sheet]
    groups: list[Group]
    ties: list[Tie] = field(default_factory=list)
    dropped: list[Tie] = field(default_factory=list)
    """Ties that were given and that others contradict."""
    reasons: dict[int, str] = field(default_factory=dict)
    how: Joining = Joining()

    def group_of(self, scan: int) -> int:
        return next(k for k, group in enumerate(self.groups) if scan in group.poses)

    def merge(self, first: int, second: int, move: RigidTransform) -> None:
        made = merged(self.groups[first], self.groups[second], move)
        self.groups = [g for k, g in enumerate(self.groups) if k not in (first, second)] + [made]


def overlapping(
    sheets: list[Sheet], poses: list[RigidTransform], members: list[int], work: Work
) -> list[tuple[int, int]]:
    """Pairs that have something in common as the scans lie now, and those that were tied already."""
    known = {frozenset((tie.first, tie.second)) for tie in work.ties}
    found = []
    for a, b in combinations(range(len(sheets)), 2):
        if frozenset((members[a], members[b])) in work.how.cut:
            continue
        far = overlap_of(sheets[a], sheets[b], poses[b].inverse @ poses[a])
        if far.share >= LEAST_SHARE or frozenset((members[a], members[b])) in known:
            found.append((a, b))
    return found


def off_by(sheet: Sheet, one: RigidTransform, two: RigidTransform) -> float:
    """How far apart two moves carry a scan at its farthest point, mm."""
    ends = sheet.points[sheet.some(50)]
    return float(np.linalg.norm(one.apply(ends) - two.apply(ends), axis=1).max())
