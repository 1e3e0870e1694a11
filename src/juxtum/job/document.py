"""The job as a document: what was brought, and what was decided to do with it."""

from __future__ import annotations

import uuid
from typing import Annotated, Literal, TypeVar

from pydantic import BaseModel, ConfigDict, Field

from juxtum.capture.document import CaptureRecord
from juxtum.errors import JobError
from juxtum.evaluate.kinds import KINDS, Kind, Profile
from juxtum.exchange.inputfile import InputFile
from juxtum.instruments import Circumstances
from juxtum.job.readiness import Readiness
from juxtum.job.steps import (
    AlignStep,
    AsScanned,
    BestFit,
    CleaningStep,
    Datums,
    Decide,
    Fragments,
    GridStep,
    Measure,
    Pairs,
    ReadingStep,
    Rough,
    Selection,
    Step,
    StepModel,
    Trim,
)
from juxtum.plan.document import Plan

Text = Annotated[str, Field(max_length=500)]
StepType = TypeVar("StepType", bound=StepModel)
LOOSE_SHARE = 0.002
"""Pieces smaller than this share of the largest are taken for loose fragments."""
CLEANING = (Trim, Fragments, Selection)
ALIGNING = (AsScanned, Rough, Pairs, BestFit, Datums)


class Brief(BaseModel):
    """Whose part this is: the cover of the report."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    part: Text = ""
    serial: Text = ""
    drawing: Text = ""
    customer: Text = ""
    operator: Text = ""
    date: Text = ""
    note: Text = ""


class Procedure(BaseModel):
    """An ordered list of steps that can be replayed on other inputs."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    steps: Annotated[tuple[Step, ...], Field(max_length=5000)] = ()

    @property
    def cleaning(self) -> tuple[CleaningStep, ...]:
        """What is done to the scan, in order."""
        return tuple(s for s in self.steps if isinstance(s, CLEANING))

    @property
    def alignments(self) -> tuple[AlignStep, ...]:
        """The frames, in order."""
        return tuple(s for s in self.steps if isinstance(s, ALIGNING))

    @property
    def characteristics(self) -> tuple[Kind, ...]:
        """The lines of the drawing, in order."""
        return tuple(s for s in self.steps if isinstance(s, KINDS))

    @property
    def next_number(self) -> str:
        """The number of the next characteristic when nobody chooses one."""
        used = [int(c.id) for c in self.characteristics if c.id.isdigit()]
        return str(max(used, default=0) + 1)

    @property
    def judging(self) -> tuple[Step, ...]:
        """All that is said of a map: its limits, the decision rule, characteristics and readings."""
        return (self.measure, self.decide, *self.characteristics, *self.readings)

    @property
    def readings(self) -> tuple[ReadingStep | GridStep, ...]:
        """Single readings and grids, in order."""
        return tuple(s for s in self.steps if isinstance(s, ReadingStep | GridStep))

    def of(self, kind: type[StepType]) -> tuple[StepType, ...]:
        """All steps of one kind."""
        return tuple(s for s in self.steps if isinstance(s, kind))

    @property
    def measure(self) -> Measure:
        """How deviations are taken; the last such step counts."""
        return (self.of(Measure) or (Measure(),))[-1]

    @property
    def decide(self) -> Decide:
        """Frame in force and decision rule; the last such step counts."""
        return (self.of(Decide) or (Decide(),))[-1]

    def frame(self, name: str) -> AlignStep:
        """The alignment of a name.

        Raises
        ------
        JobError
            When there is none.
        """
        for step in self.alignments:
            if step.name == name:
                return step
        known = ", ".join(s.name for s in self.alignments) or "none yet"
        raise JobError(f"there is no alignment called '{name}'", "procedure", f"Alignments are: {known}")

    def with_step(self, step: Step) -> Procedure:
        """With a step added; settings and alignments of the same name are replaced where they stand."""
        for index, old in enumerate(self.steps):
            if _same_slot(old, step):
                return Procedure(steps=(*self.steps[:index], step, *self.steps[index + 1 :]))
        return Procedure(steps=(*self.steps, step))

    def without(self, step: Step) -> Procedure:
        """With a step taken out."""
        return Procedure(steps=tuple(s for s in self.steps if s != step))

    def with_characteristic_changed(self, name: str, made: Kind) -> Procedure:
        """With the characteristic of a number replaced where it stands.

        Raises
        ------
        JobError
            When another one has its new number.
        """
        if made.id != name and any(p.id == made.id for p in self.characteristics):
            raise JobError(f"there is a characteristic {made.id} already", "characteristic", "Choose another number")
        return Procedure(steps=tuple(made if isinstance(s, KINDS) and s.id == name else s for s in self.steps))

    def with_characteristic_earlier(self, name: str) -> Procedure:
        """With the characteristic of a number one place earlier among the characteristics."""
        places = [k for k, s in enumerate(self.steps) if isinstance(s, KINDS)]
        order = [self.steps[k] for k in places]
        row = next((k for k, s in enumerate(order) if isinstance(s, KINDS) and s.id == name), 0)
        if row == 0:
            return self
        order[row - 1], order[row] = order[row], order[row - 1]
        steps = list(self.steps)
        for place, step in zip(places, order, strict=True):
            steps[place] = step
        return Procedure(steps=tuple(steps))


def _same_slot(old: Step, new: Step) -> bool:
    if isinstance(old, Measure | Decide):
        return type(old) is type(new)
    if isinstance(old, ALIGNING) and isinstance(new, ALIGNING):
        return bool(old.name == new.name)
    if isinstance(old, KINDS) and isinstance(new, KINDS):
        return old.id == new.id
    if isinstance(old, ReadingStep) and isinstance(new, ReadingStep):
        return old.label == new.label
    return False


class Job(BaseModel):
    """Inputs plus procedure. Results are not part of it: they are derived."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    schema_name: Literal["juxtum-job"] = Field("juxtum-job", alias="schema")
    version: Literal[4] = 4
    id: Annotated[str, Field(pattern="^[0-9a-f]{32}$")] = Field(default_factory=lambda: uuid.uuid4().hex)
    brief: Brief = Brief()
    circumstances: Circumstances = Circumstances()
    """How it was really measured."""
    nominal: InputFile | None = None
    scan: InputFile | None = None
    procedure: Procedure = Procedure()
    plan: Plan | None = None
    capture: CaptureRecord | None = None
    readiness: Readiness = Readiness()
    prepared: Annotated[tuple[Annotated[str, Field(max_length=60)], ...], Field(max_length=100)] = ()
    """What a person has ticked as done before the capture."""

    @property
    def title(self) -> str:
        """Part, or the nominal's name, or a plain word."""
        return self.brief.part or (self.nominal.name if self.nominal else "New job")

    def with_step(self, step: Step) -> Job:
        """With a step added to the procedure."""
        return self.model_copy(update={"procedure": self.procedure.with_step(step)})

    def without(self, step: Step) -> Job:
        """With a step taken out of the procedure."""
        return self.model_copy(update={"procedure": self.procedure.without(step)})


def default_procedure(lower: float = -0.2, upper: float = 0.2) -> Procedure:
    """Trim, drop fragments, rough, best fit, and the profile of the whole part."""
    return Procedure(
        steps=(
            Trim(),
            Fragments(share=LOOSE_SHARE),
            Rough(),
            BestFit(start="rough"),
            Measure(lower=lower, upper=upper),
            Decide(frame="best fit"),
            Profile(id="1", title="Profile of the whole part", lower=lower, upper=upper),
        )
    )
