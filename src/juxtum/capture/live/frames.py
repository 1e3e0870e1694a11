"""A scanner's frame as the session takes it: checked once, so that nothing a device says can be half believed."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from juxtum.capture.live.patch import STATES, State
from juxtum.devices.protocol import DeviceError, Message, Points
from juxtum.geometry import RigidTransform
from juxtum.geometry.arrays import Floats

LATEST = 1e7
"""Seconds beyond which a time is damage."""
MOST_HANDLES = 100_000


@dataclass(frozen=True, eq=False)
class Frame:
    """One frame.

    Parameters
    ----------
    stand_off : float, optional
        mm; None where there is no surface.
    dark, bloomed : float
        Shares of what is in the window with too little and too much light.
    targets : int
        In view and known to the map.
    new : dict
        Places (3,) in the map of targets that were added, by their handles.
    pose : RigidTransform, optional
        From the device to the map; None where there are no points.
    """

    time: float | None
    state: State
    why: str
    exposure: int
    stand_off: float | None
    dark: float
    bloomed: float
    targets: int
    new: dict[int, Floats]
    number: int
    event: str
    since: int
    """Number of the frame with which a jump began; 0 when the device does not say."""
    handles: tuple[int, ...]
    pose: RigidTransform | None
    points: Points

    def moved(self, to_map: RigidTransform) -> Frame:
        """The frame in another map."""
        pose = None if self.pose is None else to_map @ self.pose
        return replace(self, pose=pose, new=moved_targets(self.new, to_map))


def read_frame(message: Message) -> Frame:
    """Check a `frame` message.

    Raises
    ------
    DeviceError
        Naming the field that cannot be.
    """
    time = message.number("time") if "time" in message.fields else None
    if time is not None and not 0 <= time <= LATEST:
        raise DeviceError(f"a frame of the time {time:g} s cannot be", "device", "Restart it")
    stand_off = message.fields.get("stand_off")
    handles = message.table("handles", 1).reshape(-1)
    return Frame(
        time=time, state=STATES.get(message.text("state", "lost"), State.LOST), why=message.text("why"),
        exposure=int(np.clip(message.number("exposure", 5), 1, 9)), stand_off=None if stand_off is None else message.number("stand_off"),
        dark=message.number("dark", 0.0), bloomed=message.number("bloomed", 0.0), targets=int(np.clip(message.number("known", 0), 0, 1e6)),
        new=placed_targets(message, "new", 4), event=message.text("event"),
        number=_counted(message, "number"), since=_counted(message, "since"), handles=tuple(_handle(h) for h in handles),
        pose=_pose(message) if "pose" in message.fields else None, points=message.points(),
    )  # fmt: skip


def placed_targets(message: Message, name: str, width: int) -> dict[int, Floats]:
    """Rows of handle, x, y, z as places (3,) by handle."""
    return {_handle(row[0]): row[1:4] for row in message.table(name, width)}


def moved_targets(targets: dict[int, Floats], to_map: RigidTransform) -> dict[int, Floats]:
    """Targets in another map."""
    return {k: to_map.apply(place) for k, place in targets.items()}


def _counted(message: Message, name: str) -> int:
    return int(np.clip(message.number(name, 0), 0, 1e15))


def _handle(value: float) -> int:
    if not 0 <= value < MOST_HANDLES or value != int(value):
        raise DeviceError(f"a target cannot have the handle {value:g}", "device", "Restart it")
    return int(value)


def _pose(message: Message) -> RigidTransform:
    try:
        return RigidTransform(message.vector("pose", 16).reshape(4, 4))
    except DeviceError:
        raise
    except ValueError as problem:
        raise DeviceError("the device sent a pose that is not rigid", "device", "Restart it") from problem
