"""From single scans to one assembly: as they lie, by given ties, or by shape; all overlaps together, loops closed."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from itertools import combinations

import numpy as np

from juxtum.align.best_fit import free_motion
from juxtum.align.scans.groups import Group, Merge, merged, weigh
from juxtum.align.scans.loops import Loop, loops_of, middle_of
from juxtum.align.scans.overlap import band, overlap_of
from juxtum.align.scans.shape import Search, make_search
from juxtum.align.scans.sheet import Sheet
from juxtum.align.scans.ties import LEAST_SHARE, Tie, candidates, tied
from juxtum.align.scans.together import Settled, settle_together
from juxtum.errors import AlignmentError
from juxtum.geometry import RigidTransform
from juxtum.geometry.arrays import Floats
from juxtum.progress import Progress, silent

LOOSE = 4.0
"""A scan is held by what it overlaps with when that weighs so many times what holds it to where it began."""
CLEAN = 0.06
"""Scans overlap as they lie when fewer points than this, for each one on the other, speak against it."""
TRIED = 20
"""Likely ties between two groups that are weighed."""
ASTRAY = 6.0
"""A tie that lies so many times the noise off the pose that all others agree on is a false one."""
SURE_SHARE = 0.4
"""By shape alone scans are tied that have so much in common: with less, chance fits as well as truth."""
NEARLY = 0.8
"""Another place that is worth so much of the best is one that the shape cannot tell from it."""


MOST_PAIRS = 45
"""Pairs that are searched by shape: more would take longer than picking points."""
PROPOSED = "placed by its shape alone, a proposal: look whether it is right"
UNTIED = "nothing ties it to the others; pick pairs of points, use targets, or let its shape propose a place"


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


@dataclass
class _Work:
    """What is known while scans are being joined."""

    sheets: list[Sheet]
    groups: list[Group]
    ties: list[Tie] = field(default_factory=list)
    reasons: dict[int, str] = field(default_factory=dict)

    def group_of(self, scan: int) -> int:
        return next(k for k, group in enumerate(self.groups) if scan in group.poses)

    def merge(self, first: int, second: int, move: RigidTransform) -> None:
        made = merged(self.groups[first], self.groups[second], move)
        self.groups = [g for k, g in enumerate(self.groups) if k not in (first, second)] + [made]


def join(
    sheets: Sequence[Sheet], given: Sequence[Tie] = (), *, by_shape: bool = False, progress: Progress | None = None
) -> Joined:
    """Tie scans to each other, in whatever order they come.

    Parameters
    ----------
    given : sequence of Tie
        Ties by picked pairs or by targets.
    by_shape : bool
        Whether scans that neither lie about right nor have given ties are proposed a place by their shape; each of them
        says that its place is a proposal, since partial views of plain parts fit in more than one way.

    Raises
    ------
    AlignmentError
        With fewer than two scans, or when no two of them can be tied.
    """
    progress = progress or silent()
    if len(sheets) < 2:
        raise AlignmentError("one scan alone is joined to nothing", "joining", "Bring another scan")
    work = _Work(list(sheets), [Group({k: RigidTransform.identity()}) for k in range(len(sheets))])
    _given(work, given)
    _as_they_lie(work, progress.part(0.0, 0.15))
    if len(work.groups) > 1 and by_shape:
        _by_shape(work, progress.part(0.15, 0.75))
    largest = max(work.groups, key=lambda group: len(group.poses))
    if len(largest.poses) < 2:
        raise AlignmentError(
            "no two of the scans overlap as they lie", "joining",
            "Pick pairs of points, use reference targets, or let their shape propose a place",
        )  # fmt: skip
    return _closed(work, largest, progress.part(0.75, 1.0))


def _given(work: _Work, given: Sequence[Tie]) -> None:
    """Ties that a person or targets gave come first."""
    for tie in given:
        refined = tied(work.sheets, tie.first, tie.second, tie.move)
        moved = refined is not None and refined.is_good and not refined.free and _near(refined, tie, work.sheets)
        made = replace(refined, reason=tie.reason) if moved and refined is not None else replace(tie, is_given=True)
        one, two = work.group_of(tie.second), work.group_of(tie.first)
        if one != two:
            poses = work.groups[one].poses[tie.second], work.groups[two].poses[tie.first]
            work.merge(one, two, poses[0] @ made.move @ poses[1].inverse)
        work.ties.append(made)


def _near(tie: Tie, given: Tie, sheets: list[Sheet]) -> bool:
    sheet = sheets[tie.first]
    ends = sheet.points[sheet.some(20)]
    return bool(np.linalg.norm(tie.move.apply(ends) - given.move.apply(ends), axis=1).max() < sheet.size / 20)


def _as_they_lie(work: _Work, progress: Progress) -> None:
    """Scans that come in one frame already overlap as they lie."""
    sheets = work.sheets
    pairs = list(combinations(range(len(sheets)), 2))
    for index, (first, second) in enumerate(pairs):
        progress.phase(f"tying scan {first + 1} to {second + 1}", index / len(pairs))
        one, two = sheets[first], sheets[second]
        reach = band(one, two)
        gap = np.maximum(one.points.min(0) - two.points.max(0), two.points.min(0) - one.points.max(0)).max()
        if gap > reach or work.group_of(first) == work.group_of(second):
            continue
        made = tied(sheets, first, second, RigidTransform.identity())
        if made is None or not made.is_good or made.overlap.against > CLEAN:
            continue
        ends = one.points[one.some(20)]
        if np.linalg.norm(made.move.apply(ends) - ends, axis=1).max() < 3 * reach:
            one_group, two_group = work.group_of(second), work.group_of(first)
            work.merge(one_group, two_group, _identity_move(work, first, second, made))
            work.ties.append(replace(made, reason="as they lie"))


def _identity_move(work: _Work, first: int, second: int, tie: Tie) -> RigidTransform:
    one, two = work.groups[work.group_of(second)], work.groups[work.group_of(first)]
    return one.poses[second] @ tie.move @ two.poses[first].inverse


def _by_shape(work: _Work, progress: Progress) -> None:
    """Tie groups by the shape of their scans, from wherever they lie, the surest first."""
    sheets = work.sheets
    searches = [make_search(sheet) for sheet in sheets]
    found: list[tuple[float, Tie]] = []
    pairs = [(a, b) for a, b in combinations(range(len(sheets)), 2) if work.group_of(a) != work.group_of(b)]
    if len(pairs) > MOST_PAIRS:
        # One scan speaks for its group.
        largest = [max(group.poses, key=lambda k: sheets[k].size) for group in work.groups]
        pairs = list(combinations(sorted(largest), 2))[:MOST_PAIRS]
    for index, (second, first) in enumerate(pairs):
        progress.phase(f"looking for scan {first + 1} on {second + 1} by shape", 0.8 * index / len(pairs))
        found += candidates(sheets, searches, first, second)
    found.sort(key=lambda pair: -pair[0])
    known: Weighed = {}
    while len(work.groups) > 1:
        progress.phase("weighing what fits", 0.8 + 0.2 * (1 - len(work.groups) / len(sheets)))
        best = _best_merge(work, searches, found, known)
        if best is None:
            return
        tie, made, doubt = best
        first, second = work.group_of(tie.first), work.group_of(tie.second)
        one, two = (first, second) if tie.first in work.groups[first].poses else (second, first)
        lonely = min((work.groups[one], work.groups[two]), key=lambda group: len(group.poses))
        for scan in lonely.poses:
            work.reasons[scan] = f"{PROPOSED}; {doubt}" if doubt else PROPOSED
        work.merge(one, two, made.move)
        work.ties.append(replace(tie, reason="by shape"))
        _firm(work)


def _firm(work: _Work) -> None:
    """Let the scans of the group that was made last give way to each other: what one pair leaves loose another holds."""
    group = work.groups[-1]
    members = sorted(group.poses)
    if len(members) < 3:
        return
    mine, poses = [work.sheets[k] for k in members], [group.poses[k] for k in members]
    pairs = _overlapping(mine, poses, members, work)
    reach = max(band(a, b) for a, b in combinations(mine, 2))
    settled = settle_together(mine, poses, pairs, middle_of(len(members), pairs), 2 * reach)
    work.groups[-1] = Group(dict(zip(members, settled.poses, strict=True)))


Weighed = dict[tuple[int, frozenset[int], frozenset[int]], Merge]
"""What was weighed already, by the tie and the scans on either side."""


def _best_merge(
    work: _Work, searches: list[Search], found: list[tuple[float, Tie]], known: Weighed
) -> tuple[Tie, Merge, str] | None:
    """The surest of the ties that contradict nothing, and whether another is as likely.

    Between two groups the pose is taken that is worth most; of all groups those are joined first whose scans have most
    in common, since what has little in common is told from chance only by the others.
    """
    tried: dict[frozenset[int], list[tuple[Tie, Merge]]] = {}
    counts: dict[frozenset[int], int] = {}
    for index, (_, tie) in enumerate(found):
        one, two = work.group_of(tie.first), work.group_of(tie.second)
        groups = frozenset((one, two))
        if one == two or counts.get(groups, 0) >= TRIED:
            continue
        key = (index, frozenset(work.groups[one].poses), frozenset(work.groups[two].poses))
        if key not in known:
            known[key] = weigh(work.sheets, searches, (work.groups[one], work.groups[two]), tie)
        counts[groups] = counts.get(groups, 0) + 1
        if not known[key].objection:
            tried.setdefault(groups, []).append((tie, known[key]))
    best: list[tuple[Tie, Merge]] = []
    for weighed in tried.values():
        weighed.sort(key=lambda pair: -pair[1].worth)
        if weighed[0][1].share < SURE_SHARE:
            continue
        if not best or weighed[0][1].share > best[0][1].share:
            best = weighed
    return None if not best else (*best[0], _doubt(work, best))


def _doubt(work: _Work, weighed: list[tuple[Tie, Merge]]) -> str:
    """Words about another place between the same groups that is worth nearly as much."""
    tie, best = weighed[0]
    groups = {work.group_of(tie.first), work.group_of(tie.second)}
    one = work.groups[work.group_of(tie.first)]
    size = max(work.sheets[k].size for k in one.poses)
    centre = np.mean([work.sheets[k].centre for k in one.poses], axis=0)
    for other, made in weighed[1:]:
        if {work.group_of(other.first), work.group_of(other.second)} != groups or made.worth < NEARLY * best.worth:
            continue
        is_turned = work.group_of(other.first) != work.group_of(tie.first)
        apart = (made.move if is_turned else made.move.inverse) @ best.move
        if np.linalg.norm(apart.apply(centre) - centre) > size / 40 or np.degrees(apart.angle) > 2:
            return (
                f"the shape fits as well turned by {apart.angle:.0f} degrees; "
                "use targets or pick pairs of points to be sure"
            )
    return ""


def _closed(work: _Work, group: Group, progress: Progress) -> Joined:
    """All overlaps of the scans that hang together, false ones left out, and the loops."""
    sheets, members = work.sheets, sorted(group.poses)
    poses = [group.poses[k] for k in members]
    mine = [sheets[k] for k in members]
    pairs = _overlapping(mine, poses, members, work)
    anchor = middle_of(len(members), pairs)
    settled = settle_together(mine, poses, pairs, anchor, max(band(a, b) for a, b in combinations(mine, 2)), progress)
    ties, good = _ties_of(work, members, pairs, settled)
    if len(good) < len(pairs) and _hangs_together(len(members), good):
        settled = settle_together(mine, settled.poses, good, anchor, 4 * max(s.spacing for s in mine), progress)
    home = settled.poses[anchor].inverse
    placed: list[RigidTransform | None] = [None] * len(sheets)
    for k, pose in zip(members, settled.poses, strict=True):
        placed[k] = home @ pose
    loose = dict(zip(members, _loose(mine, settled), strict=True))
    reasons = []
    for k in range(len(sheets)):
        words = (work.reasons.get(k, ""), loose[k]) if placed[k] is not None else (UNTIED,)
        reasons.append("; ".join(word for word in words if word))
    loops = loops_of(ties, tuple(placed), sheets)
    return Joined(tuple(placed), tuple(ties), loops, members[anchor], tuple(reasons), settled.noise, settled.covariance)


def _loose(sheets: list[Sheet], settled: Settled) -> list[str]:
    """Of each scan the motion that all overlaps together leave it, in words; empty where it is held."""
    words = []
    for k, (sheet, pose) in enumerate(zip(sheets, settled.poses, strict=True)):
        block = settled.covariance[6 * k : 6 * k + 6, 6 * k : 6 * k + 6]
        scale = np.array([1, 1, 1, sheet.size, sheet.size, sheet.size])
        values, vectors = np.linalg.eigh(block * scale[:, None] * scale)
        # Held by so many points along its loosest motion, the thread to where it began among them.
        if values[-1] <= 0 or settled.noise**2 / values[-1] > LOOSE * settled.thread:
            words.append("")
            continue
        motion = free_motion(vectors[:, -1] / scale, pose.apply(sheet.centre))
        words.append(f"{motion} against the others: there it lies as it was brought")
    return words


def _overlapping(
    sheets: list[Sheet], poses: list[RigidTransform], members: list[int], work: _Work
) -> list[tuple[int, int]]:
    """Pairs that have something in common as the scans lie now, and those that were tied already."""
    known = {frozenset((tie.first, tie.second)) for tie in work.ties}
    found = []
    for a, b in combinations(range(len(sheets)), 2):
        far = overlap_of(sheets[a], sheets[b], poses[b].inverse @ poses[a])
        if far.share >= LEAST_SHARE or frozenset((members[a], members[b])) in known:
            found.append((a, b))
    return found


def _ties_of(
    work: _Work, members: list[int], pairs: list[tuple[int, int]], settled: Settled
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
        off = _off(work.sheets[first], made.move, move)
        if given is not None and given.is_given and off > max(ASTRAY * settled.noise, work.sheets[first].size / 400):
            made = made.without(f"it lies {off:.2f} mm off what the other ties say")
        elif not made.is_good:
            made = made.without(made.objection)
        else:
            good.append((a, b))
        ties.append(made)
    return ties, good


def _turned(tie: Tie) -> Tie:
    return replace(tie, first=tie.second, second=tie.first, move=tie.move.inverse)


def _off(sheet: Sheet, one: RigidTransform, two: RigidTransform) -> float:
    ends = sheet.points[sheet.some(50)]
    return float(np.linalg.norm(one.apply(ends) - two.apply(ends), axis=1).max())


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
