"""Places of scans proposed by their shape, from wherever they lie."""

from __future__ import annotations

from dataclasses import replace
from itertools import combinations

import numpy as np

from juxtum.align.scans.groups import Group, Merge, weigh
from juxtum.align.scans.loops import middle_of
from juxtum.align.scans.overlap import band
from juxtum.align.scans.shape import Search, make_search
from juxtum.align.scans.ties import Tie, candidates
from juxtum.align.scans.together import settle_together
from juxtum.align.scans.work import Work, overlapping
from juxtum.progress import Progress

TRIED = 20
"""Likely ties between two groups that are weighed."""
SURE_SHARE = 0.4
"""By shape alone scans are tied that have so much in common: with less, chance fits as well as truth."""
NEARLY = 0.8
"""Another place that is worth so much of the best is one that the shape cannot tell from it."""


MOST_PAIRS = 45
"""Pairs that are searched by shape: more would take longer than picking points."""
PROPOSED = "placed by its shape alone, a proposal: look whether it is right"


def propose_by_shape(work: Work, progress: Progress) -> None:
    """Tie groups by the shape of their scans, from wherever they lie, the surest first."""
    sheets = work.sheets
    searches = [make_search(sheet) for sheet in sheets]
    found: list[tuple[float, Tie]] = []
    pairs = [(a, b) for a, b in combinations(range(len(sheets)), 2) if work.group_of(a) != work.group_of(b)]
    pairs = [pair for pair in pairs if frozenset(pair) not in work.how.cut]
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


def _firm(work: Work) -> None:
    """Let the scans of the group that was made last give way to each other: what one pair leaves loose another holds."""
    group = work.groups[-1]
    members = sorted(group.poses)
    if len(members) < 3:
        return
    mine, poses = [work.sheets[k] for k in members], [group.poses[k] for k in members]
    pairs = overlapping(mine, poses, members, work)
    reach = max(band(a, b) for a, b in combinations(mine, 2))
    settled = settle_together(mine, poses, pairs, middle_of(len(members), pairs), 2 * reach)
    work.groups[-1] = Group(dict(zip(members, settled.poses, strict=True)))


Weighed = dict[tuple[int, frozenset[int], frozenset[int]], Merge]
"""What was weighed already, by the tie and the scans on either side."""


def _best_merge(
    work: Work, searches: list[Search], found: list[tuple[float, Tie]], known: Weighed
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


def _doubt(work: Work, weighed: list[tuple[Tie, Merge]]) -> str:
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
