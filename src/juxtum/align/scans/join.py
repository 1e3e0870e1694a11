"""From single scans to one assembly: as they lie, by given ties, or by shape; all overlaps together, loops closed."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from itertools import combinations

import numpy as np

from juxtum.align.best_fit import free_motion
from juxtum.align.scans.groups import Group
from juxtum.align.scans.hand import MAY_BE, OPPOSITE, is_opposite_hand
from juxtum.align.scans.loops import Loop, loops_of, middle_of
from juxtum.align.scans.overlap import MOST_AGAINST, band, overlap_of
from juxtum.align.scans.proposing import propose_by_shape
from juxtum.align.scans.sheet import Sheet
from juxtum.align.scans.ties import Tie, tied
from juxtum.align.scans.together import Settled, settle_together
from juxtum.align.scans.work import Joining, Work, off_by, overlapping
from juxtum.errors import AlignmentError
from juxtum.geometry import RigidTransform
from juxtum.geometry.arrays import Floats
from juxtum.progress import Progress, silent

CLEAN = 0.06
"""Scans overlap as they lie when fewer points than this, for each one on the other, speak against it."""
ASTRAY = 6.0
"""A tie that lies so many times the noise off the pose that all others agree on is a false one."""
MOST_MIRRORED = 3
"""Scans that are not tied whose mirror image is tried: each takes some seconds."""
BROUGHT = "there it lies as it was brought"
EDGED = "there it lies as its edges have it, to half the spacing of its points"
UNTIED = "nothing ties it to the others; pick pairs of points, or use targets"


@dataclass(frozen=True, eq=False)
class Joined:
    """Scans in one frame.

    Parameters
    ----------
    poses : tuple of RigidTransform or None
        From each scan's frame into the assembly; None for one that is not tied.
    ties : tuple of Tie
    loops : tuple of Loop
    anchor : int
        The scan in whose frame the assembly lies.
    reasons : tuple of str
        Of each scan: why it is not tied, or what is doubtful about its place.
    noise : float
        Of the heights between scans, standard deviation in mm.
    covariance : array (6 K, 6 K)
        Of the tied scans' poses, in their order.
    """

    poses: tuple[RigidTransform | None, ...]
    ties: tuple[Tie, ...]
    loops: tuple[Loop, ...]
    anchor: int
    reasons: tuple[str, ...]
    noise: float
    covariance: Floats

    @property
    def is_whole(self) -> bool:
        """Whether every scan is tied."""
        return all(pose is not None for pose in self.poses)


def join(
    sheets: Sequence[Sheet],
    given: Sequence[Tie] = (),
    how: Joining | None = None,
    *,
    progress: Progress | None = None,
) -> Joined:
    """Tie scans to each other, in whatever order they come.

    Parameters
    ----------
    given : sequence of Tie
        Ties by picked pairs or by targets.
    how : Joining, optional

    Raises
    ------
    AlignmentError
        With fewer than two scans, or when no two of them can be tied.
    """
    progress = progress or silent()
    if len(sheets) < 2:
        raise AlignmentError("one scan alone is joined to nothing", "joining", "Bring another scan")
    how = how or Joining()
    alone = [Group({k: RigidTransform.identity()}) for k in range(len(sheets))]
    work = Work(list(sheets), alone, how=how)
    later = _given(work, [tie for tie in given if frozenset((tie.first, tie.second)) not in how.cut])
    _as_they_lie(work, progress.part(0.0, 0.15))
    for tie in later:
        _take(work, tie)
    if len(work.groups) > 1 and how.by_shape:
        propose_by_shape(work, progress.part(0.15, 0.75))
    largest = max(work.groups, key=lambda group: len(group.poses))
    if len(largest.poses) < 2:
        raise _nothing_tied(work.sheets, how)
    made = _closed(work, largest, progress.part(0.75, 0.95))
    return _with_hands(made, work.sheets, largest, progress.part(0.95, 1.0))


def _nothing_tied(sheets: list[Sheet], how: Joining) -> AlignmentError:
    """Why nothing is tied, as far as it can be told."""
    what = "no two of the scans overlap as they lie"
    if how.by_shape:
        what += ", and their shape tells no place of one on another"
    if len(sheets) <= MOST_MIRRORED:
        alone = Group({0: RigidTransform.identity()})
        for scan in range(1, len(sheets)):
            if is_opposite_hand(sheets, alone, scan):
                names = f"{sheets[scan].name} would lie on {sheets[0].name}"
                what = f"{what}, but the mirror image of {names}: {MAY_BE}"
                return AlignmentError(
                    what, "joining", "See whether it was exported mirrored; otherwise pick pairs of points"
                )
    if how.by_shape:
        return AlignmentError(what, "joining", "Pick pairs of points, or use reference targets")
    return AlignmentError(what, "joining", "Pick pairs of points, use reference targets, or let their shape tell")


def _with_hands(made: Joined, sheets: list[Sheet], group: Group, progress: Progress) -> Joined:
    """Of scans that are not tied, which seem to be the mirror image of what they should be."""
    lost = [k for k, pose in enumerate(made.poses) if pose is None][:MOST_MIRRORED]
    reasons = list(made.reasons)
    for scan in lost:
        progress.phase(f"looking whether scan {scan + 1} is the opposite hand")
        if is_opposite_hand(sheets, group, scan):
            reasons[scan] = OPPOSITE
    return replace(made, reasons=tuple(reasons))


def _given(work: Work, given: Sequence[Tie]) -> list[Tie]:
    """Take the ties that a person or targets gave and that the surfaces bear out; the others are returned, for the end.

    Where the surfaces lie beside each other at a tie's pose it is a false one, whoever gave it.
    """
    later = []
    for tie in given:
        refined = tied(work.sheets, tie.first, tie.second, tie.move)
        if refined is None or refined.free or not _near(refined, tie, work.sheets):
            later.append(replace(tie, is_given=True))
        elif refined.overlap.against > MOST_AGAINST:
            work.dropped.append(replace(refined, is_given=True).without(f"{tie.reason}; {refined.overlap.objection}"))
        else:
            _take(work, replace(refined, reason=tie.reason))
    return later


def _take(work: Work, tie: Tie) -> None:
    """Use a tie, or leave it out where the scans hang together already and it says something else."""
    one, two = work.group_of(tie.second), work.group_of(tie.first)
    poses = work.groups[one].poses[tie.second], work.groups[two].poses[tie.first]
    if one != two:
        work.merge(one, two, poses[0] @ tie.move @ poses[1].inverse)
    elif (off := off_by(work.sheets[tie.first], tie.move, poses[0].inverse @ poses[1])) > _allowed(
        work.sheets[tie.first]
    ):
        work.dropped.append(tie.without(f"{tie.reason}; it lies {off:.2f} mm off what the other ties say"))
        return
    work.ties.append(tie)


def _allowed(sheet: Sheet) -> float:
    """How far a given tie may lie off before it counts as another one: picked pairs are good to about this."""
    return sheet.size / 50


def _near(tie: Tie, given: Tie, sheets: list[Sheet]) -> bool:
    sheet = sheets[tie.first]
    ends = sheet.points[sheet.some(20)]
    return bool(np.linalg.norm(tie.move.apply(ends) - given.move.apply(ends), axis=1).max() < sheet.size / 20)


def _as_they_lie(work: Work, progress: Progress) -> None:
    """Scans that come in one frame already overlap as they lie."""
    sheets = work.sheets
    pairs = list(combinations(range(len(sheets)), 2))
    for index, (first, second) in enumerate(pairs):
        progress.phase(f"tying scan {first + 1} to {second + 1}", index / len(pairs))
        one, two = sheets[first], sheets[second]
        reach = band(one, two)
        gap = np.maximum(one.points.min(0) - two.points.max(0), two.points.min(0) - one.points.max(0)).max()
        is_cut = frozenset((first, second)) in work.how.cut
        if is_cut or gap > reach or work.group_of(first) == work.group_of(second):
            continue
        made = tied(sheets, first, second, RigidTransform.identity())
        if made is None or not made.is_good or made.overlap.against > CLEAN:
            continue
        ends = one.points[one.some(20)]
        if np.linalg.norm(made.move.apply(ends) - ends, axis=1).max() < 3 * reach:
            # As they lie, not as this pair alone would have it: along what it leaves free it may have slid anywhere.
            one_group, two_group = work.group_of(second), work.group_of(first)
            there = work.groups[one_group].poses[second], work.groups[two_group].poses[first]
            work.merge(one_group, two_group, there[0] @ there[1].inverse)
            work.ties.append(replace(made, reason="as they lie"))


def _closed(work: Work, group: Group, progress: Progress) -> Joined:
    """All overlaps of the scans that hang together, false ones left out, and the loops."""
    sheets, members = work.sheets, sorted(group.poses)
    poses = [group.poses[k] for k in members]
    mine = [sheets[k].edged if work.reasons else sheets[k] for k in members]
    pairs = overlapping(mine, poses, members, work)
    anchor = middle_of(len(members), pairs)
    if work.reasons:
        # By shape they lie as edges have it: what faces hold weakly takes more than one go to come round.
        poses = list(_settled(mine, poses, pairs, anchor, progress.part(0.0, 0.3)).poses)
    settled = _settled(mine, poses, pairs, anchor, progress.part(0.3, 0.6))
    ties, good = _ties_of(work, members, pairs, settled)
    if len(good) < len(pairs) and _hangs_together(len(members), good):
        # From where they began, not from where the false ones had drawn them.
        settled = _settled(mine, poses, good, anchor, progress.part(0.6, 1.0))
    home = settled.poses[anchor].inverse
    placed: list[RigidTransform | None] = [None] * len(sheets)
    for k, pose in zip(members, settled.poses, strict=True):
        placed[k] = home @ pose
    loose = dict(zip(members, _loose(mine, settled, EDGED if work.reasons else BROUGHT), strict=True))
    reasons = []
    for k in range(len(sheets)):
        words = (work.reasons.get(k, ""), loose[k]) if placed[k] is not None else (UNTIED,)
        reasons.append("; ".join(word for word in words if word))
    loops = loops_of(ties, tuple(placed), sheets)
    return Joined(
        tuple(placed), (*ties, *work.dropped), loops, members[anchor], tuple(reasons), settled.noise, settled.covariance
    )


def _settled(
    sheets: list[Sheet],
    poses: Sequence[RigidTransform],
    pairs: Sequence[tuple[int, int]],
    anchor: int,
    progress: Progress,
) -> Settled:
    """Laid together twice: the second time the thread to where they began no longer pulls on what the overlaps hold."""
    reach = max(band(a, b) for a, b in combinations(sheets, 2))
    first = settle_together(sheets, poses, pairs, anchor, reach, progress.part(0.0, 0.7))
    fine = 4 * max(s.spacing for s in sheets)
    return settle_together(sheets, first.poses, pairs, anchor, fine, progress.part(0.7, 1.0))


def _loose(sheets: list[Sheet], settled: Settled, instead: str) -> list[str]:
    """Of each scan the motion that all overlaps together leave it, in words, and what says how it lies instead; empty where it is held."""
    words = []
    for sheet, pose, free in zip(sheets, settled.poses, settled.free, strict=True):
        if free is None:
            words.append("")
            continue
        motion = free_motion(free, pose.apply(sheet.centre))
        words.append(f"{motion} against the others: {instead}")
    return words


def _ties_of(
    work: Work, members: list[int], pairs: list[tuple[int, int]], settled: Settled
) -> tuple[list[Tie], list[tuple[int, int]]]:
    """What each overlap says by itself, held against where all together lie."""
    known = {frozenset((tie.first, tie.second)): tie for tie in work.ties}
    ties, good = [], []
    for a, b in pairs:
        first, second = members[a], members[b]
        move = settled.poses[b].inverse @ settled.poses[a]
        overlap = overlap_of(work.sheets[first], work.sheets[second], move)
        before = known.get(frozenset((first, second)))
        given = None if before is None else before if before.first == first else _turned(before)
        own = tied(work.sheets, first, second, move) if given is None or not given.is_given else given
        made = Tie(
            first,
            second,
            own.move if own else move,
            overlap,
            own.free if own else (),
            reason=given.reason if given else "",
        )
        off = off_by(work.sheets[first], made.move, move)
        if given is not None and given.is_given and off > max(ASTRAY * settled.noise, work.sheets[first].size / 400):
            made = made.without(f"{given.reason}; it lies {off:.2f} mm off what the other ties say")
        elif not made.is_good:
            made = made.without(made.overlap.objection)
        else:
            good.append((a, b))
        ties.append(made)
    return ties, good


def _turned(tie: Tie) -> Tie:
    return replace(tie, first=tie.second, second=tie.first, move=tie.move.inverse)


def _hangs_together(count: int, pairs: Sequence[tuple[int, int]]) -> bool:
    reached, waiting = {0}, [0]
    while waiting:
        at = waiting.pop()
        for a, b in pairs:
            for here, there in ((a, b), (b, a)):
                if here == at and there not in reached:
                    reached.add(there)
                    waiting.append(there)
    return len(reached) == count
