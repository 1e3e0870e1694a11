"""Places of scans proposed by their shape, from wherever they lie."""

from __future__ import annotations

from dataclasses import dataclass
from itertools import combinations, product

import numpy as np

from juxtum.align.scans.body import Body, Fit, body_of, fits_by_shape, looks_of
from juxtum.align.scans.groups import Group
from juxtum.align.scans.loops import middle_of
from juxtum.align.scans.overlap import band, overlap_of
from juxtum.align.scans.ties import Tie
from juxtum.align.scans.together import settle_together
from juxtum.align.scans.work import Work, overlapping
from juxtum.progress import Progress

MOST_BODIES = 10
"""So many bodies are held against each other at a time, the largest first: more would take longer than picking points."""
SURE = 0.35
"""A place is sure when the next likely one is worth so much less, as a share of it."""
LEAST_WORTH = 0.05
DOUBTED_WORTH = 0.3
"""What must be common for a place to be proposed at all, and for one that another rivals."""
BY_SHAPE = "placed by its shape"
PROPOSED = "placed by its shape alone, a proposal: look whether it is right"


@dataclass(frozen=True, eq=False)
class Choice:
    """The likeliest place of one body on another.

    Parameters
    ----------
    bodies : tuple of Body
        The one is laid onto the other.
    fit : Fit
    rival : Fit or None
        The likeliest place that is another one.
    """

    bodies: tuple[Body, Body]
    fit: Fit
    rival: Fit | None

    @property
    def clearness(self) -> float:
        """By how much the rival is worth less, as a share, 0 to 1."""
        return 1.0 if self.rival is None else 1.0 - self.rival.worth / self.fit.worth

    @property
    def is_sure(self) -> bool:
        """Whether nothing else is nearly as likely."""
        return self.clearness >= SURE

    @property
    def rank(self) -> float:
        """What is clear comes before what has much in common: later scans decide what earlier ones leave open."""
        return self.fit.worth * self.clearness

    @property
    def doubt(self) -> str:
        """Words about the rival; empty where the place is sure."""
        if self.rival is None or self.is_sure:
            return ""
        apart = self.rival.move.inverse @ self.fit.move
        centre = self.bodies[0].sheet.centre
        shift = float(np.linalg.norm(apart.apply(centre) - centre))
        how = f"turned by {apart.angle:.0f} degrees" if apart.angle >= 2 else f"{shift:.1f} mm beside it"
        return f"the shape fits nearly as well {how}; use targets or pick pairs of points to be sure"


def propose_by_shape(work: Work, progress: Progress) -> None:
    """Tie groups by the shape of their scans, from wherever they lie, the clearest first.

    What was joined is looked at as one from then on: together scans tell more than each by itself.
    """
    looks = []
    for k, sheet in enumerate(work.sheets):
        progress.phase(f"looking at scan {k + 1}", 0.1 * k / len(work.sheets))
        looks.append(looks_of(sheet))
    bodies = [body_of(looks, group.poses) for group in work.groups]
    known: dict[frozenset[int], Choice | None] = {}
    steps, done = len(bodies), 0
    while len(bodies) > 1:
        bodies.sort(key=lambda body: -body.sheet.size * len(body.poses))
        best: Choice | None = None
        pairs = list(combinations(bodies[:MOST_BODIES], 2))
        for index, (two, one) in enumerate(pairs):
            key = frozenset((id(one), id(two)))
            if key not in known:
                progress.phase(_words(one, two), 0.1 + 0.9 * (done + index / len(pairs)) / steps)
                known[key] = _choice(work, one, two)
            choice = known[key]
            if choice is not None and (best is None or choice.rank > best.rank):
                best = choice
        if best is None:
            return
        _join(work, best)
        done += 1
        bodies = [body for body in bodies if body not in best.bodies]
        bodies.append(body_of(looks, work.groups[-1].poses))


def _words(one: Body, two: Body) -> str:
    return f"looking for scan {min(one.poses) + 1} on {min(two.poses) + 1} by shape"


def _choice(work: Work, one: Body, two: Body) -> Choice | None:
    """The likeliest place of a body on another; None where nothing is likely, or where a person has cut them apart."""
    if any(frozenset((a, b)) in work.how.cut for a in one.poses for b in two.poses):
        return None
    fits = [fit for fit in fits_by_shape(one, two) if not fit.objection and fit.worth >= LEAST_WORTH]
    if not fits:
        return None
    rival = next((fit for fit in fits[1:] if _is_other(fits[0], fit, one)), None)
    choice = Choice((one, two), fits[0], rival)
    return choice if choice.is_sure or choice.fit.worth >= DOUBTED_WORTH else None


def _is_other(fit: Fit, other: Fit, body: Body) -> bool:
    apart = other.move.inverse @ fit.move
    shift = np.linalg.norm(apart.apply(body.sheet.centre) - body.sheet.centre)
    return bool(shift > body.sheet.size / 40 or apart.angle > 2)


def _join(work: Work, choice: Choice) -> None:
    """Make one group of two."""
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
