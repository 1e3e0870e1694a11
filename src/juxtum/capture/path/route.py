"""The plan's own path over the part: which poses, in which order, and how the hand moves between them."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import numpy as np

from juxtum.devices.patterns import FRAMES
from juxtum.devices.protocol import Message
from juxtum.geometry.arrays import Bools, Floats, unit
from juxtum.instruments.models import Mode
from juxtum.plan.planner import Planner
from juxtum.plan.targets.ground import Ground

VIEWS_EACH = 2
"""Poses from which each patch is wanted."""
TRAVEL = 300.0
"""Speed of the hand between poses, mm/s."""
MOST_STEPS = 400


@dataclass(frozen=True, eq=False)
class Stop:
    """A pose of the path: part coordinates, and the position of the part."""

    eye: Floats
    axis: Floats
    up: Floats
    position: int


@dataclass(frozen=True, eq=False)
class TrackedPoses:
    """Which of the plan's poses track (P,), and which of the planned targets they see (P, T); none where a tracker does without."""

    holds: Bools
    seen: Bools


def tracked_poses(planner: Planner) -> TrackedPoses:
    """What the plan's targets do for its poses; takes a moment."""
    ground, placed, holds = planner.ground(), planner.plan.placed, planner.holding()
    if planner.model.tracker is not None or not placed:
        return TrackedPoses(holds, np.zeros((len(ground.views), 0), dtype=bool))
    return TrackedPoses(
        holds, ground.seen_targets(np.array([t.place for t in placed]), np.array([t.normal for t in placed]))
    )


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
    views = ground.views
    order = _ordered(ground, chosen, poses, known)
    return tuple(Stop(views.eyes[k], views.axes[k], views.ups[k], int(views.setups[k])) for k in order)


def _ordered(ground: Ground, chosen: list[int], poses: TrackedPoses, beforehand: Sequence[int]) -> list[int]:
    """One position after the other; the nearest pose next among those that see enough targets known by then.

    Where none does, a pose between is put in that sees known targets and as many new ones as it can.
    """
    seen, views, order = poses.seen, ground.views, list[int]()
    known = np.zeros(seen.shape[1], dtype=bool)
    known[list(beforehand)] = True
    ties = ground.needs.least + 1
    for setup in range(len(views.turned)):
        left = [k for k in chosen if views.setups[k] == setup]
        between = np.flatnonzero(poses.holds & (views.setups == setup))
        while left:
            tied = [k for k in left if not known.any() or (seen[k] & known).sum() >= ties]
            if tied:
                now = order[-1] if order else tied[0]
                apart = np.linalg.norm(views.eyes[tied] - views.eyes[now], axis=1) + 200 * np.linalg.norm(
                    views.axes[tied] - views.axes[now], axis=1
                )
                nearest = tied[int(np.argmin(apart))]
                left.remove(nearest)
            else:
                held = (seen[between] & known).sum(1)
                fresh = (seen[between] & ~known).sum(1)
                news = np.where((held >= ground.needs.least) & (fresh > 0), fresh + 0.05 * np.minimum(held, 15), 0.0)
                # Where nothing ties the rest it goes last, and the hand will hear that tracking is lost.
                nearest = int(between[int(np.argmax(news))]) if news.max(initial=0.0) >= 1 else left.pop(0)
            order.append(nearest)
            known |= seen[nearest]
    return order


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
