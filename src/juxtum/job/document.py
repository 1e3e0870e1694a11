"""The job as a document: what was brought, and what was decided to do with it."""

from __future__ import annotations

import uuid
from typing import Annotated, Literal, TypeVar

from pydantic import BaseModel, ConfigDict, Field, model_validator

from juxtum.capture.kept.document import CaptureRecord
from juxtum.errors import JobError
from juxtum.evaluate.kinds import KINDS, Kind, Profile
from juxtum.exchange.inputfile import InputFile
from juxtum.instruments import Circumstances
from juxtum.job.readiness import Readiness, Tick
from juxtum.job.roles import Input, Role, free_name
from juxtum.job.steps import (
    AlignModel,
    AlignStep,
    BestFit,
    CleaningModel,
    CleaningStep,
    Decide,
    Fragments,
    Measure,
    ReadingStep,
    Rough,
    Step,
    StepModel,
    TakingStep,
    Trim,
)
from juxtum.plan.document import Plan

Text = Annotated[str, Field(max_length=500)]
StepType = TypeVar("StepType", bound=StepModel)
LOOSE_SHARE = 0.002
"""Pieces smaller than this share of the largest are taken for loose fragments."""


class Brief(BaseModel):
    """Whose part this is: the cover of the report."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    part: Text = ""
    serial: Text = ""
    drawing: Text = ""
    customer: Text = ""
    operator: Text = ""
    date: Text = ""
    material: Annotated[str, Field(max_length=60)] = ""
    """Of the part, by its name in the table of materials; empty while nobody chose one."""
    note: Text = ""


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
    def alignments(self) -> tuple[AlignStep, ...]:
        """All alignments, in order."""
        return tuple(s for s in self.steps if isinstance(s, AlignModel))

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
    def readings(self) -> tuple[TakingStep, ...]:
        """Single readings and grids, in order."""
        return tuple(s for s in self.steps if isinstance(s, TakingStep))

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
    if isinstance(old, AlignModel) and isinstance(new, AlignModel):
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
    version: Literal[6] = 6
    id: Annotated[str, Field(pattern="^[0-9a-f]{32}$")] = Field(default_factory=lambda: uuid.uuid4().hex)
    brief: Brief = Brief()
    circumstances: Circumstances = Circumstances()
    """How it was really measured."""
    inputs: Annotated[tuple[Input, ...], Field(max_length=1000)] = ()
    """Nominal, scans, clouds, touches: each under a name of its own."""
    procedure: Procedure = Procedure()
    plan: Plan | None = None
    capture: CaptureRecord | None = None
    readiness: Readiness = Readiness()
    prepared: Annotated[tuple[Tick, ...], Field(max_length=100)] = ()
    """What a person has ticked as done before the capture."""

    def tick(self, key: str) -> Tick | None:
        """Who ticked something as done, and when; None while nobody did."""
        return next((tick for tick in self.prepared if tick.key == key), None)

    @model_validator(mode="after")
    def _told_apart(self) -> Job:
        names = [held.name for held in self.inputs]
        if len(set(names)) < len(names):
            raise ValueError("two inputs have the same name")
        if sum(held.is_nominal for held in self.inputs) > 1:
            raise ValueError("a job has one nominal")
        return self

    @property
    def nominal(self) -> InputFile | None:
        """What the part should be."""
        return next((held.file for held in self.inputs if held.is_nominal), None)

    @property
    def scans(self) -> tuple[Input, ...]:
        """All that was measured, in order."""
        return tuple(held for held in self.inputs if not held.is_nominal)

    @property
    def scan_in_force(self) -> str:
        """The name of the scan that is shown and judged: the one which the alignment in force lays."""
        names, laid = [held.name for held in self.scans], self.procedure.in_force
        if laid is not None and (laid.scan in names or not names):
            return laid.scan
        return names[0] if names else str(Role.SCAN)

    @property
    def scan(self) -> InputFile | None:
        """The file of the scan in force."""
        return next((held.file for held in self.scans if held.name == self.scan_in_force), None)

    def with_nominal(self, file: InputFile | None) -> Job:
        """With another nominal, or with none."""
        first = () if file is None else (Input(name=free_name(Role.NOMINAL, self.scans), role=Role.NOMINAL, file=file),)
        return self.model_copy(update={"inputs": (*first, *self.scans)})

    def with_scan(self, file: InputFile | None) -> Job:
        """With another file for the scan in force, or without it."""
        name = self.scan_in_force
        kept = tuple(held for held in self.inputs if held.name != name)
        if file is None:
            return self.model_copy(update={"inputs": kept})
        made = Input(name=name, role=Role.SCAN, file=file)
        at = next((k for k, held in enumerate(self.inputs) if held.name == name), len(kept))
        return self.model_copy(update={"inputs": (*kept[:at], made, *kept[at:])})

    def with_further(self, file: InputFile, role: Role = Role.SCAN) -> Job:
        """With one more input beside those it has."""
        made = Input(name=free_name(role, self.inputs), role=role, file=file)
        return self.model_copy(update={"inputs": (*self.inputs, made)})

    def without_input(self, name: str) -> Job:
        """Without an input; the procedure goes on with another scan where it was about the one that goes.

        Raises
        ------
        JobError
            When there is none of that name.
        """
        if name not in {held.name for held in self.inputs}:
            raise JobError(f"there is no input called '{name}'", self.title, "Choose one of the inputs of the job")
        others = [held.name for held in self.scans if held.name != name]
        moved = self.on_scan(others[0]) if others and name == self.scan_in_force else self
        return moved.model_copy(update={"inputs": tuple(held for held in self.inputs if held.name != name)})

    def on_scan(self, name: str) -> Job:
        """With the scan of a name in force: by an alignment that lays it, or else by the procedure of the one in force so far."""
        laid = [s.name for s in self.procedure.alignments if s.scan == name]
        if laid:
            return self.with_step(self.procedure.decide.model_copy(update={"alignment": laid[-1]}))
        return self.model_copy(update={"procedure": self.procedure.with_scan_renamed(self.scan_in_force, name)})

    @property
    def title(self) -> str:
        """Part, or the nominal's name, or a plain word."""
        return self.brief.part or (self.nominal.name if self.nominal else "New job")

    @property
    def title_with_serial(self) -> str:
        """For the window and the like.

        Examples
        --------
        >>> Job(brief=Brief(part="Lever", serial="7")).title_with_serial
        'Lever 7'
        """
        return f"{self.title} {self.brief.serial}".strip()

    def with_step(self, step: Step) -> Job:
        """With a step added to the procedure."""
        return self.model_copy(update={"procedure": self.procedure.with_step(step)})

    def picked_for(self, name: str) -> tuple[str, ...]:
        """What would be carried over to the scan of a name though it was picked on the one in force: there it may lie elsewhere."""
        steps = (*self.procedure.cleaning, *self.procedure.alignments)
        if any(step.scan == name for step in self.procedure.alignments):
            return ()
        return tuple(dict.fromkeys(step.kind for step in steps if step.is_picked and step.scan == self.scan_in_force))

    def with_step_here(self, step: Step) -> Job:
        """With a step added that is about the scan in force, where it is about a scan at all."""
        about_scan = isinstance(step, CleaningModel | AlignModel)
        return self.with_step(step.model_copy(update={"scan": self.scan_in_force}) if about_scan else step)

    def without(self, step: Step) -> Job:
        """With a step taken out of the procedure."""
        return self.model_copy(update={"procedure": self.procedure.without(step)})


def usual_cleaning(scan: str = "scan") -> tuple[CleaningStep, ...]:
    """Off with the table, then with loose fragments."""
    return (Trim(scan=scan), Fragments(scan=scan, share=LOOSE_SHARE))


def usual_alignment(scan: str = "scan") -> tuple[Rough, BestFit]:
    """Rough from any pose, then best fit from there."""
    return (Rough(scan=scan), BestFit(scan=scan, start="rough"))


def default_procedure(lower: float = -0.2, upper: float = 0.2) -> Procedure:
    """Trim, drop fragments, rough, best fit, and the profile of the whole part."""
    return Procedure(
        steps=(
            *usual_cleaning(),
            *usual_alignment(),
            Measure(lower=lower, upper=upper),
            Decide(alignment="best fit"),
            Profile(id="1", title="Profile of the whole part", lower=lower, upper=upper),
        )
    )
