"""Groups of scans that hang together, and whether one may be laid onto another without contradiction."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from juxtum.align.scans.overlap import band, over, overlap_of
from juxtum.align.scans.shape import Search
from juxtum.align.scans.sheet import Sheet
from juxtum.align.scans.sight import hides
from juxtum.align.scans.ties import LEAST_COUNT, LEAST_SHARE, MOST_AGAINST, Tie
from juxtum.geometry import RigidTransform
from juxtum.geometry.registration import Pulls, Rounds, register

POINTS = 700
MOST_HIDDEN = 0.005
"""So much of a scan may stand in the light of another: edges do, a little, whatever the pose."""


@dataclass(frozen=True, eq=False)
class Group:
    """Scans by their places in the list, with their poses in the group's own frame."""

    poses: dict[int, RigidTransform]


@dataclass(frozen=True, eq=False)
class Merge:
    """A group laid onto another.

    Parameters
    ----------
    move : RigidTransform
        From the second group's frame into the first's.
    worth : float
        Points on each other less those that contradict, less where the whole would spread farther; the larger the likelier.
    share : float
        The largest overlap of any two of their scans, 0 to 1: how sure it is that they belong together at all.
    objection : str
        Why it cannot be; empty when it can.
    """

    move: RigidTransform
    worth: float
    share: float
    objection: str


def merged(first: Group, second: Group, move: RigidTransform) -> Group:
    """Both in the first one's frame."""
    return Group(first.poses | {k: move @ pose for k, pose in second.poses.items()})


def weigh(sheets: Sequence[Sheet], searches: Sequence[Search], groups: tuple[Group, Group], tie: Tie) -> Merge:
    """Lay the group of a tie's one scan onto that of its other, all of their overlaps together, and look at what speaks against it."""
    one, two = groups
    # The tie lays its first scan onto its second.
    if tie.first in one.poses:
        move = one.poses[tie.first] @ tie.move.inverse @ two.poses[tie.second].inverse
    else:
        move = one.poses[tie.second] @ tie.move @ two.poses[tie.first].inverse
    move = _laid(sheets, one, two, move) or move
    on, beside, best = 0, 0.0, 0.0
    for a, pose_a in one.poses.items():
        for b, pose_b in two.poses.items():
            found = overlap_of(sheets[b], sheets[a], pose_a.inverse @ move @ pose_b)
            on, beside = on + found.count, beside + found.against * found.count
            best = max(best, found.share)
    hidden = _hidden(searches, one, two, move)
    objection = ""
    if best < LEAST_SHARE or on < LEAST_COUNT:
        objection = "they have too little in common"
    elif beside > MOST_AGAINST * on:
        objection = (
            f"{100 * beside / (on + beside):.0f} % of the points where they overlap lie beside the other surface"
        )
    elif hidden > MOST_HIDDEN:
        objection = f"{100 * hidden:.1f} % of one would stand in the light of the other, which was seen there"
    worth = (on - 4 * beside - 20_000 * hidden) * _spread(sheets, one) / _spread(sheets, merged(one, two, move))
    return Merge(move, worth, best, objection)


def _spread(sheets: Sequence[Sheet], group: Group) -> float:
    """How far its points lie from their middle, root of the mean square: of two places the one is likelier that keeps together."""
    points = np.concatenate([pose.apply(sheets[k].points[sheets[k].some(300)]) for k, pose in group.poses.items()])
    return float(np.sqrt(points.var(axis=0).sum()))


def _laid(sheets: Sequence[Sheet], one: Group, two: Group, start: RigidTransform) -> RigidTransform | None:
    """The second group as a whole onto the first."""
    pairs = [(a, b) for a in one.poses for b in two.poses]
    size = max(sheets[b].size for b in two.poses)
    far = max(band(sheets[a], sheets[b]) for a, b in pairs)
    near = 3 * max(s.spacing for s in sheets)
    clouds = {
        b: (sheets[b].points[sheets[b].some(POINTS)], sheets[b].normals[sheets[b].some(POINTS)]) for b in two.poses
    }

    def pulls_at(move: RigidTransform, index: int) -> Pulls | None:
        reach = max(near, far * 0.75**index)
        points, normals, heights = [], [], []
        for a, b in pairs:
            own = one.poses[a].inverse @ move @ two.poses[b]
            found = over(own.apply(clouds[b][0]), own.turn(clouds[b][1]), sheets[a], reach)
            points.append((move @ two.poses[b]).apply(clouds[b][0][found.rows]))
            normals.append(one.poses[a].turn(sheets[a].normals[found.others]))
            heights.append(found.heights)
        h = np.concatenate(heights)
        if len(h) < LEAST_COUNT // 2:
            return None
        scale = (reach / 2) ** 2
        return Pulls(np.concatenate(points), np.concatenate(normals), h, (scale / (scale + h**2)) ** 2)

    return register(pulls_at, start, Rounds(16, 1e-5 * size, size, least=8))


def _hidden(searches: Sequence[Search], one: Group, two: Group, move: RigidTransform) -> float:
    """The largest share of any scan that stands in the light of one of the other group."""
    worst = 0.0
    for a, pose_a in one.poses.items():
        for b, pose_b in two.poses.items():
            there = pose_a.inverse @ move @ pose_b
            for seen, standing, way in ((a, b, there), (b, a, there.inverse)):
                sight, sheet = searches[seen].sight, searches[standing].sheet
                if sight is not None:
                    points = way.apply(sheet.points[sheet.some(2000)])
                    worst = max(worst, hides(points, sight, 1.5 * sight.pixel))
    return worst
