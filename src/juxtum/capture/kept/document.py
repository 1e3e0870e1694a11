"""The capture as a job keeps it: its patches as files, the targets as they were found, and what happened."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from juxtum.exchange.inputfile import InputFile
from juxtum.instruments.models import Document
from juxtum.plan.document import Finite, Triple

Share = Annotated[float, Field(ge=0, le=1)]
Count = Annotated[int, Field(ge=0)]
Seconds = Annotated[float, Field(ge=0, le=1e7)]
Words = Annotated[str, Field(max_length=500)]


class CapturedPatch(Document):
    """What was captured in one go.

    Parameters
    ----------
    file : InputFile
        Its points in the coordinates of the map, PLY.
    position : 0 as the part stands, 1 turned over; on a turntable the number of the way in which it is laid.
    held : share of its frames with the stand-off where it should be.
    """

    number: Annotated[int, Field(ge=1)]
    file: InputFile
    position: Annotated[int, Field(ge=0, le=7)] = 0
    mode: Words = ""
    spacing: Annotated[float, Field(gt=0)] = 1.0
    points: Count = 0
    seconds: Seconds = 0.0
    frames: Count = 0
    held: Share = 0.0
    times_lost: Count = 0


MOST_TARGETS = 5000


class FoundTarget(Document):
    """A target of the map: the device's handle, its place in the map, the planned target it was taken for."""

    handle: Count
    place: Triple
    planned: Annotated[int, Field(ge=1)] | None = None


class Event(Document):
    """What happened, when (seconds), in one word, and why."""

    time: Seconds
    word: Words
    why: Words = ""


class CaptureRecord(Document):
    """All of a capture.

    Parameters
    ----------
    to_part : from the map to the part, 4x4 row by row; none when the part was not recognised.
    coverage : share of the measured area captured densely enough.
    one_pass : share captured at least once.
    calibration : words of the last calibration in force.
    """

    device: Words
    stand_in: bool = True
    seed: int | None = None
    began: Words = ""
    ended: Words = ""
    patches: Annotated[tuple[CapturedPatch, ...], Field(max_length=2000)] = ()
    targets: Annotated[tuple[FoundTarget, ...], Field(max_length=MOST_TARGETS)] = ()
    to_part: Annotated[tuple[Finite, ...], Field(min_length=16, max_length=16)] | None = None
    coverage: Share = 0.0
    one_pass: Share = 0.0
    seconds: Seconds = 0.0
    events: Annotated[tuple[Event, ...], Field(max_length=20_000)] = ()
    calibration: Words = ""
    kind: Literal["scan"] = "scan"

    @property
    def points(self) -> int:
        """Of all patches."""
        return sum(p.points for p in self.patches)
