"""Places of scans proposed by their shape, from wherever they lie."""

from __future__ import annotations

import os
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace
from functools import cached_property, partial
from itertools import combinations, product
from typing import TypeVar

import numpy as np

from juxtum.align.scans.body import Body, Fit, Looks, alike, body_of, fit_of, fits_by_shape, looks_of
from juxtum.align.scans.groups import Group
from juxtum.align.scans.loops import middle_of
from juxtum.align.scans.overlap import band, overlap_of
from juxtum.align.scans.ties import Tie
from juxtum.align.scans.together import settle_together
from juxtum.align.scans.work import Work, overlapping
from juxtum.geometry import RigidTransform
from juxtum.progress import Progress

T = TypeVar("T")
MOST_BODIES = 10
"""So many bodies are held against each other at a time, the largest first: more would take longer than picking points."""
SURE = 0.35
"""A place is sure when the next likely one is worth so much less, as a share of it."""
BORNE_OUT = 0.72
LEAST_WORTH = 0.5
"""Share of edges that must be borne out for a place to be sure, and what a place must be worth to be proposed at all.

True places are worth 0.6 to 0.96."""
ROUNDS, BETTER = 2, 1.1
"""How often what was not sure is looked at again, and how much likelier another place must be."""
LIFTED, MOST_LIFTED = 3, 8
"""Of what was likely for parts of two bodies so many are looked at again for the whole, and of all of them."""
BY_SHAPE = "placed by its shape"
BY_ONE = f"{BY_SHAPE}, on one other scan only: look whether it is right"
"""Two scans can fit each other by chance, or because the shape repeats where neither sees it; a third seldom bears that out."""
PROPOSED = "placed by its shape alone, a proposal: look whether it is right"


@dataclass(frozen=True, eq=False)
class Choice:
    """The likeliest place of one body on another.

    Parameters
    ----------
    bodies : tuple of Body
        The one is laid onto the other.
    fits : tuple of Fit
        All that are likely, the likeliest first.
    """

    bodies: tuple[Body, Body]
    fits: tuple[Fit, ...]

    @property
    def fit(self) -> Fit:
        """The likeliest."""
        return self.fits[0]

    @cached_property
    def rival(self) -> Fit | None:
        """The likeliest place that is another one, as likely as chance may make it."""
        others = [fit for fit in self.fits[1:] if _is_other(self.fit, fit, self.bodies[0])]
        return max(others, key=lambda fit: fit.worth_by_chance, default=None)

    @property
    def clearness(self) -> float:
        """By how much the rival is worth less, as a share, 0 to 1."""
        # The likeliest is taken as it looks, another one as it may be.
        return 1.0 if self.rival is None else max(1.0 - self.rival.worth_by_chance / self.fit.worth, 0.0)

    @property
    def is_sure(self) -> bool:
        """Whether nothing else is nearly as likely, most edges bear it out where there are any, and nothing is left free."""
        borne_out = self.fit.edges.agreement >= BORNE_OUT or not self.fit.edges.speaks
        return self.clearness >= SURE and borne_out and not self.fit.free

    @property
    def is_likely(self) -> bool:
        """Whether it is worth proposing."""
        return self.fit.worth >= LEAST_WORTH

    @property
    def rank(self) -> tuple[bool, float]:
        """What is sure comes first: later scans decide what earlier ones leave open."""
        return self.is_sure, self.fit.worth * self.clearness

    @property
    def doubt(self) -> str:
        """Words about the rival; empty where the place is sure."""
        if self.is_sure:
            return ""
        if self.fit.free:
            return f"{self.fit.free[0]} against the others; use targets or pick pairs of points to be sure"
        if self.rival is None or self.clearness >= SURE:
            return "few of its edges lie on edges of the others; use targets or pick pairs of points to be sure"
        apart = self.rival.move.inverse @ self.fit.move
        centre = self.bodies[0].sheet.centre
        shift = float(np.linalg.norm(apart.apply(centre) - centre))
        how = f"turned by {apart.angle:.0f} degrees" if apart.angle >= 2 else f"{shift:.1f} mm beside it"
        return f"the shape fits nearly as well {how}; use targets or pick pairs of points to be sure"


Known = dict[frozenset[frozenset[int]], Choice | None]
"""What was found for two bodies, by the scans of either."""


def _key(one: Body, two: Body) -> frozenset[frozenset[int]]:
    return frozenset((frozenset(one.poses), frozenset(two.poses)))


def propose_by_shape(work: Work, progress: Progress) -> None:
    """Tie groups by the shape of their scans, from wherever they lie, the clearest first.

    What was joined is looked at as one from then on: together scans tell more than each by itself.
    """
    asked = [(f"looking at scan {k + 1}", partial(looks_of, sheet)) for k, sheet in enumerate(work.sheets)]
    looks = _side_by_side(asked, progress.part(0.0, 0.1))
    bodies = [body_of(looks, group.poses) for group in work.groups]
    known: Known = {}
    unsure: list[frozenset[int]] = []
    steps = len(bodies)
    while len(bodies) > 1:
        done = 0.1 + 0.7 * (1 - len(bodies) / steps), 0.1 + 0.7 * (1 - (len(bodies) - 1) / steps)
        best = _clearest(work, bodies, known, progress.part(*done))
        if best is None:
            break
        lonely = _join(work, best)
        if not best.is_sure:
            unsure.append(lonely)
        bodies = [body for body in bodies if body not in best.bodies]
        bodies.append(body_of(looks, work.groups[-1].poses))
    look_again(work, looks, unsure, progress.part(0.8, 1.0))


def _clearest(work: Work, bodies: list[Body], known: Known, progress: Progress) -> Choice | None:
    """The choice to be made next; None where nothing is likely."""
    bodies.sort(key=lambda body: -body.sheet.size * len(body.poses))
    pairs = list(combinations(bodies[:MOST_BODIES], 2))
    new = [pair for pair in pairs if _key(*pair) not in known]
    asked = [
        (
            f"looking for scan {min(one.poses) + 1} on {min(two.poses) + 1} by shape",
            partial(_choice, work, one, two, _lifted(known, one, two)),
        )
        for two, one in new
    ]
    known |= {_key(*pair): choice for pair, choice in zip(new, _side_by_side(asked, progress), strict=True)}
    choices = [known[_key(*pair)] for pair in pairs]
    return max((c for c in choices if c is not None and c.is_likely), key=lambda choice: choice.rank, default=None)


def _side_by_side(asked: Sequence[tuple[str, Callable[[], T]]], progress: Progress) -> list[T]:
    """What comes of some work, each told by its words; compiled loops and trees let other threads run meanwhile."""
    found = []
    with ThreadPoolExecutor(max(1, min(len(asked), os.cpu_count() or 1))) as pool:
        waiting = [pool.submit(work) for _, work in asked]
        for index, ((words, _), one) in enumerate(zip(asked, waiting, strict=True)):
            try:
                progress.phase(words, index / len(asked))
            except BaseException:
                pool.shutdown(wait=False, cancel_futures=True)
                raise
            found.append(one.result())
    return found


def _lifted(known: Known, one: Body, two: Body) -> list[RigidTransform]:
    """Where the scans of two bodies were likely to lie on each other before they were joined to others."""
    starts: list[RigidTransform] = []
    for choice in known.values():
        if choice is None:
            continue
        for (a, b), turned in ((choice.bodies, False), (choice.bodies[::-1], True)):
            if a.poses.keys() <= one.poses.keys() and b.poses.keys() <= two.poses.keys():
                k, m = min(a.poses), min(b.poses)
                for fit in choice.fits[:LIFTED]:
                    move = fit.move.inverse if turned else fit.move
                    there = b.poses[m].inverse @ move @ a.poses[k]
                    start = two.poses[m] @ there @ one.poses[k].inverse
                    if not any(alike(start, other, one.sheet) for other in starts):
                        starts.append(start)
    return starts[:MOST_LIFTED]


def look_again(work: Work, looks: list[Looks], unsure: list[frozenset[int]], progress: Progress) -> None:
    """Hold what was joined before all was known against all the rest once more, and lay it elsewhere where that is likelier.

    Each scan is looked at: only against all the others it shows where else it would fit as well.
    """
    placed = [frozenset((k,)) for k in sorted(work.reasons)]
    asked = [*unsure, *placed] * ROUNDS if unsure else placed
    doubts: dict[frozenset[int], str] = {}
    seen_with: dict[frozenset[int], list[Group]] = {}
    for index, some in enumerate(asked):
        progress.phase("looking again", index / len(asked))
        if seen_with.get(some) == work.groups:
            # Nothing was laid elsewhere since it was looked at.
            continue
        doubt = _laid_again(work, looks, some)
        seen_with[some] = list(work.groups)
        if doubt is not None:
            doubts[some] = doubt
    # What is unsure of several together is unsure of each, however well each lies on its fellows.
    for some, doubt in sorted(doubts.items(), key=lambda pair: len(pair[0])):
        for scan in some:
            if doubt or len(some) == 1:
                work.reasons[scan] = f"{PROPOSED}; {doubt}" if doubt else _borne(work, scan)


def _borne(work: Work, scan: int) -> str:
    """Words on a place that nothing rivals: whether more than one other scan bears it out."""
    poses = work.groups[work.group_of(scan)].poses
    own, sheets = poses[scan], work.sheets
    others = (overlap_of(sheets[scan], sheets[k], pose.inverse @ own) for k, pose in poses.items() if k != scan)
    return BY_SHAPE if sum(not overlap.objection for overlap in others) > 1 else BY_ONE


def _laid_again(work: Work, looks: list[Looks], some: frozenset[int]) -> str | None:
    """Lay some scans of a group where they fit all the rest best, and what is doubtful about it; None where there is no rest."""
    row = work.group_of(min(some))
    poses = work.groups[row].poses
    if not some < set(poses):
        return None
    rest = body_of(looks, {k: pose for k, pose in poses.items() if k not in some})
    moving = body_of(looks, {k: poses[k] for k in sorted(some)})
    fits = fits_by_shape(moving, rest, [RigidTransform.identity()])
    now = replace(fit_of(moving, rest, RigidTransform.identity()), usual=fits[0].usual if fits else 0.0)
    fits = [fit for fit in fits if not fit.objection]
    better = next((fit for fit in fits if fit.worth > BETTER * now.worth or now.objection), None)
    if better is not None and _is_other(now, better, moving):
        work.groups[row] = Group(rest.poses | {k: better.move @ pose for k, pose in moving.poses.items()})
        now = better
    return Choice((moving, rest), (now, *fits)).doubt


def _choice(work: Work, one: Body, two: Body, starts: Sequence[RigidTransform]) -> Choice | None:
    """The likely places of a body on another; None where there are none, or where a person has cut them apart."""
    if any(frozenset((a, b)) in work.how.cut for a in one.poses for b in two.poses):
        return None
    fits = [fit for fit in fits_by_shape(one, two, starts) if not fit.objection and fit.worth > 0]
    return Choice((one, two), tuple(fits)) if fits else None


def _is_other(fit: Fit, other: Fit, body: Body) -> bool:
    apart = other.move.inverse @ fit.move
    shift = np.linalg.norm(apart.apply(body.sheet.centre) - body.sheet.centre)
    return bool(shift > body.sheet.size / 40 or apart.angle > 2)


def _join(work: Work, choice: Choice) -> frozenset[int]:
    """Make one group of two; which scans were the fewer."""
    one, two = choice.bodies
    lonely = min(choice.bodies, key=lambda body: len(body.poses))
    for scan in lonely.poses:
        work.reasons[scan] = f"{PROPOSED}; {choice.doubt}" if choice.doubt else BY_SHAPE
    ties = []
    for (a, pose_a), (b, pose_b) in product(one.poses.items(), two.poses.items()):
        move = pose_b.inverse @ choice.fit.move @ pose_a
        ties.append(Tie(a, b, move, overlap_of(work.sheets[a], work.sheets[b], move), reason="by shape"))
    work.merge(work.group_of(min(two.poses)), work.group_of(min(one.poses)), choice.fit.move)
    work.ties.append(max(ties, key=lambda tie: tie.overlap.share))
    _firm(work)
    return frozenset(lonely.poses)


def _firm(work: Work) -> None:
    """Let the scans of the group that was made last give way to each other: what one pair leaves loose another holds."""
    group = work.groups[-1]
    members = sorted(group.poses)
    if len(members) < 3:
        return
    mine, poses = [work.sheets[k].edged for k in members], [group.poses[k] for k in members]
    pairs = overlapping(mine, poses, members, work)
    reach = max(band(a, b) for a, b in combinations(mine, 2))
    settled = settle_together(mine, poses, pairs, middle_of(len(members), pairs), 2 * reach)
    work.groups[-1] = Group(dict(zip(members, settled.poses, strict=True)))
