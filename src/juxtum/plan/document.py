"""The plan as a job keeps it: what was chosen, where the targets are, and what was expected of it."""

from __future__ import annotations

from typing import Annotated, Literal

import numpy as np
from pydantic import Field

from juxtum.instruments.equipment import Equipment
from juxtum.instruments.models import Document, InstrumentModel, Kind, Positive, shipped
from juxtum.plan.blind import Finish
from juxtum.plan.targets.targets import Target
from juxtum.plan.targets.views import Stance

Finite = Annotated[float, Field(allow_inf_nan=False)]
Triple = tuple[Finite, Finite, Finite]
FaceNumber = Annotated[int, Field(ge=1)]


class PlannedTarget(Document):
    """A reference target of the plan, part coordinates in mm; its number is its place in the list."""

    place: Triple
    normal: Triple
    face: Annotated[int, Field(ge=0)]
    edge: Finite
    locked: bool = False

    @classmethod
    def of(cls, target: Target) -> PlannedTarget:
        """As a document."""
        place, normal = (
            (round(float(a), 4), round(float(b), 4), round(float(c), 4)) for a, b, c in (target.place, target.normal)
        )
        return cls(place=place, normal=normal, face=target.face, edge=round(target.edge, 3), locked=target.is_locked)

    def target(self) -> Target:
        """As planning works with it."""
        normal = np.array(self.normal)
        return Target(np.array(self.place), normal / np.linalg.norm(normal), self.face, self.edge, self.locked)


class PlannedPose(Document):
    """A pose of the scanner: its place, its direction of view, and the position of the part (0 or 1)."""

    eye: Triple
    axis: Triple
    position: Annotated[int, Field(ge=0, le=1)] = 0


class Box(Document):
    """Something that stands in the way of a tracker, table coordinates."""

    low: Triple
    high: Triple


class Expected(Document):
    """What the plan promised when it was made, for comparison with what happened.

    Parameters
    ----------
    tracked : share of the area, by place, that is seen from two directions while tracking.
    coverage : share of the measured area that a tracking pose sees at all.
    points, minutes : of scanning.
    poses : from where it was planned to look.
    """

    tracked: Annotated[float, Field(ge=0, le=1)]
    coverage: Annotated[float, Field(ge=0, le=1)]
    points: Annotated[float, Field(ge=0)]
    minutes: Annotated[float, Field(ge=0)]
    poses: Annotated[tuple[PlannedPose, ...], Field(max_length=5000)] = ()


class Plan(Document):
    """All choices of the station Plan."""

    instrument: InstrumentModel = Field(default_factory=lambda: shipped(Kind.HANDHELD))
    mode: Annotated[str, Field(max_length=120)] = ""
    chain: Annotated[str, Field(max_length=120)] = ""
    stance: Stance = Stance.TABLE
    diameter: Positive | None = None
    datums: Annotated[tuple[FaceNumber, ...], Field(max_length=1000)] = ()
    """The drawing's datum features, where the job has no datum system yet: lengths start at them, targets keep clear."""
    allowed: Annotated[tuple[FaceNumber, ...], Field(max_length=10_000)] = ()
    goal: Annotated[float, Field(gt=0, le=1)] = 0.98
    """Share of the area, by place, to be seen from two directions while tracking."""
    target_spacing: tuple[Positive, Positive] | None = None
    targets: Annotated[tuple[PlannedTarget, ...], Field(max_length=1000)] = ()
    equipment: Annotated[tuple[Equipment, ...], Field(max_length=8)] = ()
    """What the part stands on or beside, with targets of its own."""
    joined: Literal["by targets", "by shape"] = "by targets"
    """What ties the positions of the part where equipment stays behind."""
    bars: Annotated[int, Field(ge=1, le=20)] = 2
    self_calibration: bool = True
    obstacles: Annotated[tuple[Box, ...], Field(max_length=100)] = ()
    finishes: Annotated[tuple[tuple[FaceNumber, Finish], ...], Field(max_length=10_000)] = ()
    spacing: Positive | None = None
    coat: Annotated[str, Field(pattern="^(none|vanishing|slow vanishing|powder)$")] = "none"
    start: Annotated[str, Field(pattern=r"^([01]?\d|2[0-3])[:.][0-5]\d$")] = "08:00"
    parts_in_tray: Annotated[int, Field(ge=1, le=10_000)] | None = None
    expected: Expected | None = None

    @property
    def placed(self) -> tuple[Target, ...]:
        """The targets as planning works with them."""
        return tuple(t.target() for t in self.targets)

    @property
    def is_tracked(self) -> bool:
        """Whether there is anything that tells the scanner where it is: targets on the part or on equipment."""
        return bool(self.targets or self.equipment)

    @property
    def targets_words(self) -> str:
        """How many targets are stuck, and on what the part stands."""
        stuck = f"{len(self.targets)} target{'' if len(self.targets) == 1 else 's'}"
        if not self.equipment:
            return stuck
        names = ", ".join(item.name for item in self.equipment if item.is_under) or f"{len(self.equipment)} blocks"
        return f"{stuck} on the part, {names}" if self.targets else names

    def with_targets(self, targets: tuple[Target, ...]) -> Plan:
        """With other targets; what was expected before no longer holds."""
        return self.model_copy(update={"targets": tuple(PlannedTarget.of(t) for t in targets), "expected": None})
