"""The plan's own path over the part: which poses, in which order, and how the hand moves between them."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Sequence
from dataclasses import dataclass, replace

import numpy as np

from juxtum.devices.patterns import FRAMES
from juxtum.devices.protocol import Message
from juxtum.geometry.arrays import Bools, Floats, Ints, unit
from juxtum.instruments.models import Mode
from juxtum.plan.planner import Planner
from juxtum.plan.targets.ground import Ground
from juxtum.plan.targets.linking import sighted
from juxtum.plan.targets.targets import arrays

VIEWS_EACH = 2
"""Poses from which each patch is wanted."""
TRAVEL = 300.0
"""Speed of the hand between poses, mm/s."""
MOST_STEPS = 400
FARTHER = 0.6
"""Of the way from the best to the farthest stand-off."""


@dataclass(frozen=True, eq=False)
class Stop:
    """A pose of the path: part coordinates, and the position of the part."""

    eye: Floats
    axis: Floats
    up: Floats
    position: int

    def farther_off(self, mode: Mode) -> Stop:
        """The same view from farther off, where the field shows more targets."""
        _, best, far = mode.stand_off
        return replace(self, eye=self.eye - FARTHER * (far - best) * self.axis)


@dataclass(frozen=True, eq=False)
class TrackedPoses:
    """Which of the plan's poses track, and what they see of targets: those on the part, then those of the equipment.

    Parameters
    ----------
    holds : array (P,)
    seen : array (P, T)
        Nothing where a tracker does without.
    stays : array (T,)
        Which of them move with the part.
    """

    holds: Bools
    seen: Bools
    stays: Bools


def tracked_poses(planner: Planner) -> TrackedPoses:
    """What the plan's targets do for its poses; takes a moment."""
    ground, placed, holds = planner.ground(), planner.plan.placed, planner.holding()
    if planner.model.tracker is not None or not planner.plan.is_tracked:
        return TrackedPoses(holds, np.zeros((len(ground.views), 0), dtype=bool), np.zeros(0, dtype=bool))
    there = sighted(ground, *arrays(placed))
    return TrackedPoses(holds, there.seen, there.stays)


def path(
    ground: Ground, poses: TrackedPoses, wanted: Bools | None = None, known: Sequence[int] = ()
) -> tuple[Stop, ...]:
    """Fewest poses, by greedy choice, that see every patch twice and track; each tied by targets to those before it.

    Parameters
    ----------
    poses : TrackedPoses
        Of the ground's poses.
    wanted : array (K,), optional
        Patches that matter; all when not given.
    known : sequence of int
        Targets that the map knows beforehand.
    """
    covers = ground.covers & poses.holds[:, None]
    areas = ground.patches.areas if wanted is None else np.where(wanted, ground.patches.areas, 0.0)
    lacks = np.minimum(covers.sum(0), VIEWS_EACH).astype(np.float64)
    chosen: list[int] = []
    while (lacks * areas).sum() > 1e-3 * areas.sum() and len(chosen) < MOST_STEPS:
        gains = covers @ (areas * (lacks > 0) * lacks)
        gains[chosen] = 0
        best = int(np.argmax(gains))
        if gains[best] <= 0:
            break
        chosen.append(best)
        lacks = np.maximum(lacks - covers[best], 0)
    return tuple(stop_at(ground, k) for k in _ordered(ground, chosen, poses, known))


def stop_at(ground: Ground, pose: int) -> Stop:
    """A stop at one of the ground's poses."""
    views = ground.views
    return Stop(views.eyes[pose], views.axes[pose], views.ups[pose], int(views.setups[pose]))


def _ordered(ground: Ground, chosen: list[int], poses: TrackedPoses, beforehand: Sequence[int]) -> list[int]:
    """One position after the other; the nearest pose next among those that see enough targets known by then.

    Where none does, a pose between is put in that sees known targets and as many new ones as it can.
    """
    seen, views, order = poses.seen, ground.views, list[int]()
    known = np.zeros(seen.shape[1], dtype=bool)
    known[list(beforehand)] = True
    for setup in range(len(views.turned)):
        known &= poses.stays
        left = [k for k in chosen if views.setups[k] == setup]
        if known.any() and not poses.stays.all():
            # On equipment the first view ties this position to those before it: the one with most known targets.
            first = int(np.argmax(np.where(poses.holds & (views.setups == setup), (seen & known).sum(1), -1)))
            left = [k for k in left if k != first]
            order.append(first)
            known |= seen[first]
        while left:
            tied = _well_tied(seen, known, left, ground.needs.least) if known.any() else _fullest(seen, left)
            if tied:
                now = order[-1] if order else tied[0]
                apart = np.linalg.norm(views.eyes[tied] - views.eyes[now], axis=1) + 200 * np.linalg.norm(
                    views.axes[tied] - views.axes[now], axis=1
                )
                nearest = tied[int(np.argmin(apart))]
                left.remove(nearest)
            else:
                bridge = bridge_to(ground, poses, np.flatnonzero(known), setup, ())
                # Where nothing ties the rest it goes last, and the hand will hear that tracking is lost.
                nearest = bridge if bridge is not None else left.pop(0)
            order.append(nearest)
            known |= seen[nearest]
    return order


def _fullest(seen: Bools, left: list[int]) -> list[int]:
    """Where to begin: the pose that sees most targets; all of them where a tracker does without."""
    return [max(left, key=lambda k: int(seen[k].sum()))] if seen.shape[1] else left


def _well_tied(seen: Bools, known: Bools, left: list[int], least: int) -> list[int]:
    """Poses that see one known target more than needed; where there are none, those that see just enough."""
    counts = (seen[left] & known).sum(1)
    most = next((n for n in (least + 1, least) if (counts >= n).any()), None)
    return [] if most is None else [k for k, count in zip(left, counts, strict=True) if count >= most]


def bridge_to(
    ground: Ground, poses: TrackedPoses, known: Sequence[int] | Ints, setup: int, shunned: Collection[int]
) -> int | None:
    """The pose that sees enough known targets and most new ones; None where there is none."""
    is_known = np.zeros(poses.seen.shape[1], dtype=bool)
    is_known[np.asarray(known, dtype=np.int64)] = True
    held, fresh = (poses.seen & is_known).sum(1), (poses.seen & ~is_known).sum(1)
    fits = poses.holds & (ground.views.setups == setup) & (held >= ground.needs.least) & (fresh > 0)
    fits[list(shunned)] = False
    if not fits.any():
        return None
    # A target more that is known makes a view surer than a new one makes it worth.
    return int(np.argmax(np.where(fits, 2.0 * np.minimum(held, ground.needs.least + 2) + fresh, -1.0)))


def hands(stops: tuple[Stop, ...], mode: Mode, spacing: float, start: float = 0.0, skip: int = 0) -> Iterator[Message]:
    """How the hand moves along the path: `hand` messages, one a frame, with times in seconds.

    At each stop the scanner is swept until lines have passed every place at the wanted spacing.

    Parameters
    ----------
    skip : int
        The first so many stops are only where the hand comes from.
    """
    time, before = start, None
    frames = frames_at_stop(mode, spacing)
    for index, stop in enumerate(stops):
        if index < skip:
            before = stop
            continue
        if before is not None and before.position == stop.position:
            # The trigger is let go on the way: targets may be out of view there.
            yield Message("pause", {"on": True})
            for eye, axis, up in _between(before, stop, mode):
                yield _hand(eye, axis, up, stop.position, time)
                time += 1 / FRAMES
        yield Message("pause", {"on": False})
        right = np.cross(stop.axis, stop.up)
        gap = mode.field[0] / max(mode.lines / (2 if mode.pattern == "cross" else 1), 1)
        sweep = gap if mode.pattern != "single" else mode.field[0]
        for k in range(frames):
            along = sweep * ((k + 0.5) / frames - 0.5)
            across = along * (0.6 if mode.pattern == "cross" else 0.0)
            offset = right * (along if mode.pattern != "single" else 0.0) + stop.up * (
                across if mode.pattern != "single" else along
            )
            yield _hand(stop.eye + offset, stop.axis, stop.up, stop.position, time)
            time += 1 / FRAMES
        before = stop


def frames_at_stop(mode: Mode, spacing: float) -> int:
    """Frames until a stop's field is covered at a spacing, given what lines and rate allow."""
    width, height = mode.field if mode.pattern != "single" else (mode.field[0], mode.field[0])
    per_frame = (
        min(mode.lines * width / max(spacing, mode.spacing[0]), mode.rate / FRAMES)
        if mode.lines
        else width * height / spacing**2
    )
    return int(np.clip(np.ceil(0.8 * width * height / spacing**2 / max(per_frame, 1)), 4, 400))


def _between(a: Stop, b: Stop, mode: Mode) -> Iterator[tuple[Floats, Floats, Floats]]:
    """From stop to stop round the part: the place looked at and the direction change evenly."""
    best = mode.stand_off[1]
    steps = int(np.clip(np.linalg.norm(b.eye - a.eye) / TRAVEL * FRAMES, 2, 60))
    for k in range(1, steps):
        share = k / steps
        axis = unit((1 - share) * a.axis + share * b.axis)
        aim = (1 - share) * (a.eye + best * a.axis) + share * (b.eye + best * b.axis)
        up = (1 - share) * a.up + share * b.up
        if np.linalg.norm(axis) > 0.5:
            yield aim - best * axis, axis, up


def _hand(eye: Floats, axis: Floats, up: Floats, position: int, time: float) -> Message:
    numbers = {name: [round(float(v), 4) for v in value] for name, value in (("eye", eye), ("axis", axis), ("up", up))}
    return Message("hand", {**numbers, "position": position, "time": round(time, 4)})
