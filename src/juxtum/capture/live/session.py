"""A capture while it goes on: patches, coverage, what the device says, and what the person is told."""

from __future__ import annotations

from functools import cached_property

import numpy as np

from juxtum.capture.live.counting import FrameLog, count_frame, pass_frame
from juxtum.capture.live.frames import Frame, moved_targets, placed_targets, read_frame
from juxtum.capture.live.gathering import Gathering
from juxtum.capture.live.patch import Happening, Patch, State
from juxtum.capture.live.points import MemoryFull
from juxtum.capture.live.sieve import Sieve
from juxtum.capture.path.route import Stop, TrackedPoses, tracked_poses
from juxtum.capture.path.tracker_stations import TrackerStations
from juxtum.devices.protocol import DeviceError, Message, Points
from juxtum.geometry import RigidTransform
from juxtum.geometry.arrays import Bools, Floats
from juxtum.plan.planner import Planner

LONGEST_PATCH = 60.0
"""Seconds after which a patch is kept by itself: what runs is not yet on disk."""
MOST_HAPPENINGS = 5000
ROOMY = 0.9
"""From this share of the memory on it counts as full."""


def _bounds(points: Floats) -> Floats:
    return np.array([points.min(0), points.max(0)])


class CaptureSession(Gathering):
    """Takes messages of a scanner and keeps what they bring.

    Parameters
    ----------
    planner : Planner
        Tells what is measured, how fine, and where the targets should be.
    memory : float
        Bytes that points may use.
    """

    def __init__(self, planner: Planner, memory: float, spacing: float | None = None) -> None:
        super().__init__(planner, memory, spacing)
        self._log = FrameLog()
        """A frame that comes again does not count again."""
        self.happenings: list[Happening] = []
        self.last: Frame | None = None
        self.time = 0.0
        self.last_stop: Stop | None = None
        """Where a run by itself left the hand."""
        self._began: float | None = None
        self.is_simulated = True
        """Whether what comes is made by a stand-in."""
        self.device = ""
        """What the device calls itself."""
        self.sieve = Sieve()
        self.left_out = 0
        """Points that the sieve did not keep."""

    @cached_property
    def poses(self) -> TrackedPoses:
        """What the plan's targets do for its poses; takes a moment when it is first asked for."""
        return tracked_poses(self.planner)

    @cached_property
    def stations(self) -> TrackerStations | None:
        """Where the tracker is put; None where none follows the scanner."""
        return TrackerStations(self.planner) if self.planner.model.tracker is not None else None

    # -- messages ---------------------------------------------------------------------------------------------

    def take(self, message: Message) -> None:
        """Take one message of the device.

        Raises
        ------
        DeviceError
            When the device refuses something, or says what cannot be.
        """
        if message.kind == "frame":
            self._frame(read_frame(message).moved(self.to_map))
        elif message.kind == "map":
            self.map.add(moved_targets(placed_targets(message, "targets", 5), self.to_map))
        elif message.kind == "referenced":
            self._news(moved_targets(placed_targets(message, "new", 4), self.to_map))
        elif message.kind == "error":
            raise DeviceError(message.text("what", "the device refused"), "device", message.text("next"))

    def lost_device(self, why: str) -> None:
        """The connection broke: what was captured stays, the running patch is accepted."""
        self.accept()
        self.state, self.why = State.GONE, why
        self.note("no device", why)

    def found_device(self) -> None:
        """It is there again, with the session's map; where its tracker stands it must be told anew."""
        self.to_map = RigidTransform.identity()
        if self.stations is not None:
            self.stations.forget()
        self._log.forget()
        for patch in self.patches:
            patch.last_frame = 0
        self.state, self.why = State.READY, ""

    def note(self, word: str, why: str = "") -> None:
        """Keep in the record that something happened."""
        self.happenings = [*self.happenings[-MOST_HAPPENINGS:], Happening(self.time, word, why)]

    def _frame(self, frame: Frame) -> None:
        if self._log.came_before(frame):
            return
        self.last = frame
        time = self.time if frame.time is None else frame.time
        step = float(np.clip(time - self.time, 0.0, 1.0)) if self._began is not None else 0.0
        if self._began is None:
            self._began = time
        self.time = time
        self._news(frame.new)
        # Full memory stays full until something is discarded, whatever the device says; a jump until a new patch is begun.
        is_full = self.state is State.FULL and self.budget.used > ROOMY * self.budget.limit
        if not is_full and (self.state is not State.JUMP or self.current is not None):
            self._enter(frame.state, frame.why)
        self._events(frame)
        if self.current is not None:
            self._count(self.current, frame, step)
        self._log.note(self.time, len(frame.points))

    def _count(self, patch: Patch, frame: Frame, step: float) -> None:
        """What a frame adds to the patch that runs; after a minute it is kept and another begins."""
        if self.sieve.is_preview:
            return
        pass_frame(patch, frame, step, self.mode)
        tracked = (State.SCANNING,) if self.sieve.is_clean else (State.SCANNING, State.WEAK)
        if len(frame.points) and frame.pose is not None and frame.state in tracked:
            patch.tracked += 1
            patch.last_frame = frame.number
            self._take_points(patch, frame.points, frame.pose)
        if patch is self.current and patch.seconds > LONGEST_PATCH:
            state = self.state
            self.begin(patch.zone, patch.spacing)
            self.state = state

    def _enter(self, state: State, why: str) -> None:
        if state is self.state:
            self.why = why
            return
        if self.current is not None and state in (State.LOST, State.HIDDEN, State.MOVED):
            self.current.times_lost += 1
            self.note(state.value, why)
        self.state, self.why = state, why
        if self.current is None and state is State.SCANNING:
            self.state = State.READY

    def _events(self, frame: Frame) -> None:
        if frame.event == "jump":
            self._jumped("the pattern of targets was taken for another one", frame.since)
        elif frame.event == "target moved":
            names = ", ".join(map(str, frame.handles))
            self.note("target moved", f"target {names} is not where it was and is left out")
            for handle in frame.handles:
                self.map.targets.pop(handle, None)

    def _jumped(self, why: str, since: int) -> None:
        """The running patch is lost, and those that were accepted since the jump began: kept aside, they no longer count."""
        self.note("jump", why)
        for patch in self.patches:
            if not patch.has_jumped and (patch is self.current or 0 < since <= patch.last_frame):
                self.coverage.counts -= patch.counts
                patch.has_jumped = True
                patch.notes.append(why)
        if self.current is None:
            return
        self.current = None
        self.state, self.why = State.JUMP, "this patch is lost; the others are not. Start a new one"

    @cached_property
    def laid(self) -> tuple[tuple[RigidTransform, Floats], ...]:
        """For each position of the part: from part to table coordinates, and the part's bounds (2, 3) there, mm."""
        corners = self.planner.nominal.mesh.points
        turned = self.planner.ground().views.turned
        return tuple((move, _bounds(move.apply(corners))) for move in turned)

    def passed(self, points: Points, pose: RigidTransform) -> Bools:
        """Which points (N,) of a frame the sieve keeps."""
        heights = None
        if self.sieve.cut is not None and self.map.to_part is not None:
            move, bounds = self.laid[min(self.position, len(self.laid) - 1)]
            heights = move.apply(self.map.to_part.apply(pose.apply(points["place"])))[:, 2] - bounds[0][2]
        return self.sieve.kept(points, heights)

    def _take_points(self, patch: Patch, points: Points, pose: RigidTransform) -> None:
        kept = self.passed(points, pose)
        self.left_out += len(points) - int(kept.sum())
        points = points[kept]
        if len(points) == 0:
            return
        if patch.zone is not None and self.map.to_part is not None:
            inside = patch.zone.holds(self.map.to_part.apply(pose.apply(points["place"])))
            points = points[inside]
            if len(points) == 0:
                return
        try:
            places = patch.store.add(points, pose)
        except MemoryFull as problem:
            self.accept()
            self.state, self.why = State.FULL, problem.next
            self.note("full", problem.what)
            return
        if self.map.to_part is not None:
            count_frame(self.coverage, patch, points, places, (pose, self.map.to_part))

    def _news(self, new: dict[int, Floats]) -> None:
        if new:
            if self.map.to_part is not None:
                self.note("target found", ", ".join(map(str, new)))
            self.map.add(new)

    # -- what there is ----------------------------------------------------------------------------------------

    @property
    def rate(self) -> float:
        """Points per second lately."""
        return self._log.rate
