"""Loops of ties, and how far each is from closing; the scan in the middle of all."""

from __future__ import annotations

from collections import deque
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from juxtum.align.scans.sheet import Sheet
from juxtum.align.scans.ties import Tie
from juxtum.geometry import RigidTransform

LONGEST = 60
"""Scans of a loop that is told."""


@dataclass(frozen=True)
class Loop:
    """A round of ties.

    Parameters
    ----------
    scans : tuple of int
        Their places in the list, in the order of the round.
    before_mm, before_deg : float
        By how much it fails to close when its ties are followed one after another: at the middle of its first scan.
    after_mm, after_deg : float
        The largest disagreement that is left between one of its ties and where the scans lie now.
    """

    scans: tuple[int, ...]
    before_mm: float
    before_deg: float
    after_mm: float
    after_deg: float


def middle_of(count: int, pairs: Sequence[tuple[int, int]]) -> int:
    """The scan from which the farthest other one is the fewest ties away: it stays where it is."""
    steps = [_steps_from(k, count, pairs) for k in range(count)]
    return int(np.argmin([max(s) * count + sum(s) for s in steps]))


def _steps_from(start: int, count: int, pairs: Sequence[tuple[int, int]]) -> list[int]:
    before = _walk(start, pairs)[1]
    return [before.get(k, count) for k in range(count)]


def _walk(start: int, pairs: Sequence[tuple[int, int]]) -> tuple[dict[int, int], dict[int, int]]:
    """From where each scan is reached over the fewest ties, and over how many."""
    came, steps, waiting = {start: start}, {start: 0}, deque([start])
    while waiting:
        at = waiting.popleft()
        for a, b in pairs:
            for here, there in ((a, b), (b, a)):
                if here == at and there not in came:
                    came[there], steps[there] = at, steps[at] + 1
                    waiting.append(there)
    return came, steps


def loops_of(ties: Sequence[Tie], poses: Sequence[RigidTransform | None], sheets: Sequence[Sheet]) -> tuple[Loop, ...]:
    """A shortest round through each tie that closes one."""
    # A tie that leaves a motion free says nothing along it.
    used = [t for t in ties if t.is_used and not t.free and poses[t.first] is not None and poses[t.second] is not None]
    found: dict[tuple[int, ...], Loop] = {}
    for tie in used:
        others = [(t.first, t.second) for t in used if t is not tie]
        came, _ = _walk(tie.first, others)
        if tie.second not in came:
            continue
        way = [tie.second]
        while way[-1] != tie.first:
            way.append(came[way[-1]])
        key = tuple(sorted(way))
        if len(way) <= LONGEST and key not in found:
            found[key] = _loop(tuple(reversed(way)), used, poses, sheets)
    return tuple(sorted(found.values(), key=lambda loop: (-loop.before_mm, loop.scans)))


def _loop(
    way: tuple[int, ...], ties: Sequence[Tie], poses: Sequence[RigidTransform | None], sheets: Sequence[Sheet]
) -> Loop:
    by_pair = {(t.first, t.second): t.move for t in ties} | {(t.second, t.first): t.move.inverse for t in ties}
    round_trip, worst_mm, worst_deg = RigidTransform.identity(), 0.0, 0.0
    for here, there in zip(way, (*way[1:], way[0]), strict=True):
        move, one, two = by_pair[here, there], poses[here], poses[there]
        assert one is not None and two is not None
        round_trip = move @ round_trip
        left = two @ move @ one.inverse
        middle = one.apply(sheets[here].centre)
        worst_mm = max(worst_mm, float(np.linalg.norm(left.apply(middle) - middle)))
        worst_deg = max(worst_deg, float(left.angle))
    middle = sheets[way[0]].centre
    off = float(np.linalg.norm(round_trip.apply(middle) - middle))
    return Loop(way, off, float(round_trip.angle), worst_mm, worst_deg)
