"""What a capture is made of: states, zones, patches, happenings."""

from __future__ import annotations

from dataclasses import dataclass, field
from enum import StrEnum

import numpy as np

from juxtum.capture.live.points import PointStore
from juxtum.geometry.arrays import Bools, Floats


class State(StrEnum):
    """One word, large."""

    READY = "ready"
    SCANNING = "scanning"
    PAUSED = "paused"
    WEAK = "weak"
    LOST = "lost"
    HIDDEN = "hidden"
    MOVED = "moved"
    JUMP = "jump"
    FULL = "full"
    GONE = "no device"


STATES = {
    "tracking": State.SCANNING,
    "weak": State.WEAK,
    "lost": State.LOST,
    "paused": State.PAUSED,
    "hidden": State.HIDDEN,
    "tracker moved": State.MOVED,
}


@dataclass(frozen=True)
class Zone:
    """Where fine points are wanted: a ball about a place of the part."""

    place: tuple[float, float, float]
    radius: float

    def holds(self, places: Floats) -> Bools:
        """Which places (N, 3) in part coordinates lie in it."""
        return np.asarray(np.linalg.norm(places - np.array(self.place), axis=1) <= self.radius)


@dataclass(eq=False)
class Patch:
    """What was captured in one go.

    Parameters
    ----------
    number : int
    position : int
        0 as the part stands, 1 turned over.
    """

    number: int
    position: int
    mode: str
    spacing: float
    store: PointStore
    counts: Floats
    zone: Zone | None = None
    seconds: float = 0.0
    frames: int = 0
    held: int = 0
    """Frames with the stand-off where it should be."""
    tracked: int = 0
    last_frame: int = 0
    """Number, of the device, of the last frame that brought points; 0 when it was another device's."""
    times_lost: int = 0
    dark: int = 0
    """Frames in which much of the surface gave too little light, or too much."""
    has_jumped: bool = False
    notes: list[str] = field(default_factory=list)


@dataclass(frozen=True, eq=False)
class Happening:
    """Something that the record keeps: when (seconds), what, in one word, and why."""

    time: float
    word: str
    why: str = ""
