"""What frames bring: whether they came before, how fast points come, and how often each cell was seen."""

from __future__ import annotations

import zlib
from collections import deque
from collections.abc import Sequence

import numpy as np

from juxtum.capture.live.coverage import Coverage
from juxtum.capture.live.dial import read_dial
from juxtum.capture.live.frames import Frame
from juxtum.capture.live.patch import Patch, State, Zone
from juxtum.capture.live.points import normals_of, places_of
from juxtum.devices.protocol import Points
from juxtum.geometry import RigidTransform
from juxtum.geometry.arrays import Floats, unit
from juxtum.instruments.models import Mode

TOO_DARK, TOO_BRIGHT = 0.4, 0.3
"""Shares of what is in the window from which the light is wrong."""
REMEMBERED = 30
"""Frames over which rates are taken."""


class FrameLog:
    """The newest frames: their marks and their numbers of points."""

    def __init__(self) -> None:
        self._recent: deque[tuple[int, int]] = deque(maxlen=64)
        self._rates: list[tuple[float, int]] = []

    def came_before(self, frame: Frame) -> bool:
        """Whether the same points were sent under the same number a moment ago."""
        if not frame.number or not len(frame.points):
            return False
        mark = frame.number, zlib.crc32(frame.points.tobytes())
        if mark in self._recent:
            return True
        self._recent.append(mark)
        return False

    def forget(self) -> None:
        """A device that was restarted counts anew."""
        self._recent.clear()

    def note(self, time: float, points: int) -> None:
        """So many points came at a time, s."""
        self._rates = [*self._rates[-REMEMBERED:], (time, points)]

    @property
    def rate(self) -> float:
        """Points per second lately."""
        if len(self._rates) < 2 or self._rates[-1][0] <= self._rates[0][0]:
            return 0.0
        return sum(n for _, n in self._rates[1:]) / (self._rates[-1][0] - self._rates[0][0])


def pass_frame(patch: Patch, frame: Frame, step: float, mode: Mode) -> None:
    """Count that a frame passed, whether it brought points or not; `step` is the time since the one before, s."""
    patch.seconds += step
    if frame.state is not State.PAUSED:
        # Shares are of the frames in which it scans, not of the way from one stop to the next.
        patch.frames += 1
        patch.held += read_dial(mode, frame.stand_off).is_held
        patch.dark += frame.dark > TOO_DARK or frame.bloomed > TOO_BRIGHT


def count_frame(
    coverage: Coverage, patch: Patch, points: Points, places: Floats, poses: tuple[RigidTransform, RigidTransform]
) -> None:
    """Count the points of a frame, as they lie in the map (N, 3).

    Parameters
    ----------
    poses : pair of RigidTransform
        From the device to the map, and from the map to the part.
    """
    pose, to_part = poses
    turned = points["normal"].astype(np.float64) @ (to_part.rotation @ pose.rotation).T
    more = coverage.count(to_part.apply(places), unit(turned))
    patch.counts += more
    coverage.counts += more


def recount(coverage: Coverage, patch: Patch, to_part: RigidTransform) -> None:
    """Count a patch again, every point of it where they are not too many."""
    points = patch.store.all()
    counts = np.zeros_like(patch.counts)
    if len(points):
        step = max(1, len(points) // 200_000)
        some = points[::step]
        counts = coverage.count_all(to_part.apply(places_of(some)), to_part.turn(normals_of(some))) * step
    coverage.counts += counts - patch.counts
    patch.counts = counts


def erase(patches: Sequence[Patch], zone: Zone, to_part: RigidTransform) -> list[Patch]:
    """Take the points of a zone out of patches; those that had some are to be counted again."""
    changed = []
    for patch in patches:
        inside = zone.holds(to_part.apply(places_of(patch.store.all())))
        if inside.any():
            patch.store.keep(~inside)
            changed.append(patch)
    return changed
