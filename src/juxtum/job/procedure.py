"""What is done with the inputs of a job: steps in their order."""

from __future__ import annotations

from typing import Annotated, TypeVar

from pydantic import BaseModel, ConfigDict, Field

from juxtum.errors import JobError
from juxtum.evaluate.kinds import LINES, Kind
from juxtum.job.steps import (
    AlignModel,
    AlignStep,
    CleaningModel,
    CleaningStep,
    ConstructStep,
    Decide,
    FeatureStep,
    Join,
    Measure,
    ReadingStep,
    SectionStep,
    Separate,
    Step,
    StepModel,
    TakingStep,
    WallsStep,
)

StepType = TypeVar("StepType", bound=StepModel)


class Procedure(BaseModel):
    """An ordered list of steps that can be replayed on other inputs."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    steps: Annotated[tuple[Step, ...], Field(max_length=5000)] = ()

    @property
    def cleaning(self) -> tuple[CleaningStep, ...]:
        """What is done to scans, in order."""
        return tuple(s for s in self.steps if isinstance(s, CleaningModel))

    def cleaning_of(self, scan: str) -> tuple[CleaningStep, ...]:
        """What is done to the scan of a name, in order."""
        return tuple(s for s in self.cleaning if s.scan == scan)

    @property
    def joins(self) -> tuple[Join, ...]:
        """What makes one scan of several, in order."""
        return tuple(s for s in self.steps if isinstance(s, Join))

    @property
    def separation(self) -> Separate | None:
        """What tells many parts in one scan apart; the last such step counts."""
        return (self.of(Separate) or (None,))[-1]

    @property
    def alignments(self) -> tuple[AlignStep, ...]:
        """All alignments, in order."""
        return tuple(s for s in self.steps if isinstance(s, AlignModel))

    @property
    def characteristics(self) -> tuple[Kind, ...]:
        """The lines of the drawing, in order."""
        return tuple(s for s in self.steps if isinstance(s, LINES))

    @property
    def next_number(self) -> str:
        """The number of the next characteristic when nobody chooses one."""
        used = [int(c.id) for c in self.characteristics if c.id.isdigit()]
        return str(max(used, default=0) + 1)

    @property
    def judging(self) -> tuple[Step, ...]:
        """All that is said of a map: its limits, the decision rule, characteristics, readings, sections and features.

        Whose map is in force says nothing of any.
        """
        return (
            self.measure,
            self.decide.model_copy(update={"alignment": ""}),
            *self.characteristics,
            *self.readings,
            *self.sections,
            *self.features,
            *self.of(WallsStep),
        )

    @property
    def readings(self) -> tuple[TakingStep, ...]:
        """Single readings and grids, in order."""
        return tuple(s for s in self.steps if isinstance(s, TakingStep))

    @property
    def sections(self) -> tuple[SectionStep, ...]:
        """Where nominal and scan are cut, in order."""
        return self.of(SectionStep)

    @property
    def features(self) -> tuple[FeatureStep | ConstructStep, ...]:
        """Features of the scan and those made of them, in order."""
        return tuple(s for s in self.steps if isinstance(s, FeatureStep | ConstructStep))

    def of(self, kind: type[StepType]) -> tuple[StepType, ...]:
        """All steps of one kind."""
        return tuple(s for s in self.steps if isinstance(s, kind))

    @property
    def measure(self) -> Measure:
        """How deviations are taken; the last such step counts."""
        return (self.of(Measure) or (Measure(),))[-1]

    @property
    def decide(self) -> Decide:
        """Alignment in force and decision rule; the last such step counts."""
        return (self.of(Decide) or (Decide(),))[-1]

    def alignment(self, name: str) -> AlignStep:
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

    @property
    def in_force(self) -> AlignStep | None:
        """The alignment in force; the last one where what decides names none that there is."""
        named = [s for s in self.alignments if s.name == self.decide.alignment]
        return (named or self.alignments or (None,))[-1]

    def with_step(self, step: Step) -> Procedure:
        """With a step added; settings and alignments of the same name are replaced where they stand."""
        for index, old in enumerate(self.steps):
            if _same_slot(old, step):
                return Procedure(steps=(*self.steps[:index], step, *self.steps[index + 1 :]))
        return Procedure(steps=(*self.steps, step))

    def with_scan_renamed(self, old: str, new: str) -> Procedure:
        """With all cleaning and aligning of one scan done to another."""
        mine = (isinstance(s, CleaningModel | AlignModel) and s.scan == old for s in self.steps)
        moved = (
            s.model_copy(update={"scan": new}) if is_mine else s for s, is_mine in zip(self.steps, mine, strict=True)
        )
        return Procedure(steps=tuple(moved))

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
        return Procedure(steps=tuple(made if isinstance(s, LINES) and s.id == name else s for s in self.steps))


def with_characteristics(procedure: Procedure, drawn: tuple[Kind, ...]) -> Procedure:
    """A procedure with other characteristics in place of all that there are."""
    return Procedure(steps=(*(s for s in procedure.steps if not isinstance(s, LINES)), *drawn))


def with_characteristic_earlier(procedure: Procedure, name: str) -> Procedure:
    """A procedure with the characteristic of a number one place earlier among the characteristics."""
    places = [k for k, s in enumerate(procedure.steps) if isinstance(s, LINES)]
    order = [procedure.steps[k] for k in places]
    row = next((k for k, s in enumerate(order) if isinstance(s, LINES) and s.id == name), 0)
    if row == 0:
        return procedure
    order[row - 1], order[row] = order[row], order[row - 1]
    steps = list(procedure.steps)
    for place, step in zip(places, order, strict=True):
        steps[place] = step
    return Procedure(steps=tuple(steps))


def _same_slot(old: Step, new: Step) -> bool:
    if isinstance(old, Measure | Decide | WallsStep):
        return type(old) is type(new)
    if isinstance(old, AlignModel) and isinstance(new, AlignModel):
        return bool(old.name == new.name)
    if isinstance(old, Join) and isinstance(new, Join):
        return bool(old.name == new.name)
    if isinstance(old, LINES) and isinstance(new, LINES):
        return old.id == new.id
    if isinstance(old, FeatureStep | ConstructStep) and isinstance(new, FeatureStep | ConstructStep):
        return bool(old.label == new.label)
    if isinstance(old, ReadingStep | SectionStep) and type(old) is type(new):
        return bool(old.label == new.label)
    return False
