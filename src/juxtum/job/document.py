"""The job as a document: what was brought, and what was decided to do with it."""

from __future__ import annotations

import uuid
from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field, model_validator

from juxtum.capture.kept.document import CaptureRecord
from juxtum.errors import JobError
from juxtum.evaluate.kinds import Profile
from juxtum.exchange.inputfile import InputFile
from juxtum.instruments import Circumstances
from juxtum.job.procedure import Procedure
from juxtum.job.readiness import Readiness, Tick
from juxtum.job.roles import Input, Role, free_name
from juxtum.job.steps import (
    AlignModel,
    BestFit,
    CleaningModel,
    CleaningStep,
    Decide,
    Fragments,
    Join,
    Measure,
    Rough,
    Step,
    Trim,
)
from juxtum.plan.document import Plan

Text = Annotated[str, Field(max_length=500)]
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
        """All scans and clouds, in order."""
        return tuple(held for held in self.inputs if held.is_scan)

    @property
    def scan_in_force(self) -> str:
        """The name of the scan that is shown and judged: the one which the alignment in force lays."""
        names, laid = list(self.scan_names), self.procedure.in_force
        if laid is not None and (laid.scan in names or not names):
            return laid.scan
        if self.procedure.separation is not None:
            return self.procedure.separation.names[0]
        # Where nothing is aligned yet: what was joined last, or the first that was brought.
        return names[-1 if self.procedure.joins else 0] if names else str(Role.SCAN)

    @property
    def scan_names(self) -> tuple[str, ...]:
        """All that can be in force: what was measured, what is joined of it, and the parts in it."""
        apart = self.procedure.separation
        joined = (step.name for step in self.procedure.joins)
        return (*(held.name for held in self.scans), *joined, *(apart.names if apart is not None else ()))

    @property
    def join_in_force(self) -> Join | None:
        """What makes the scan in force, where that is joined of several."""
        name = scan_behind(self)
        return next((step for step in self.procedure.joins if step.name == name), None)

    @property
    def measured(self) -> tuple[InputFile, ...]:
        """The file of the scan in force, or those that it is joined of."""
        joined = self.join_in_force
        names = (scan_behind(self),) if joined is None else joined.used
        return tuple(held.file for held in self.scans if held.name in names)

    @property
    def scan(self) -> InputFile | None:
        """The file of the scan in force."""
        return next((held.file for held in self.scans if held.name == scan_behind(self)), None)

    def with_nominal(self, file: InputFile | None) -> Job:
        """With another nominal, or with none; what was touched named the faces of the one before, and goes with it."""
        first = (
            ()
            if file is None
            else (Input(name=free_name(Role.NOMINAL, self.scan_names), role=Role.NOMINAL, file=file),)
        )
        is_same = self.nominal is None or file == self.nominal
        others = (held for held in self.inputs if held.is_scan or (is_same and not held.is_nominal))
        return self.model_copy(update={"inputs": (*first, *others)})

    def with_scan(self, file: InputFile | None) -> Job:
        """With another file for the scan in force, or without it; beside the others where that is joined of several."""
        if self.join_in_force is not None and file is not None:
            return self.with_further(file)
        name = scan_behind(self)
        if file is None:
            return self.model_copy(update={"inputs": tuple(held for held in self.inputs if held.name != name)})
        return self.with_file(name, file)

    def with_file(self, name: str, file: InputFile) -> Job:
        """With another file for the scan of a name; a new scan where there is none of it.

        What was touched belongs to the part of the scan that goes, and goes with it.
        """
        before = next((held.file for held in self.inputs if held.name == name), file)
        kept = tuple(
            held for held in self.inputs if held.name != name and (held.is_nominal or held.is_scan or before == file)
        )
        made = Input(name=name, role=Role.SCAN, file=file)
        at = next((k for k, held in enumerate(self.inputs) if held.name == name), len(kept))
        return self.model_copy(update={"inputs": (*kept[:at], made, *kept[at:])})

    def with_further(self, file: InputFile, role: Role = Role.SCAN) -> Job:
        """With one more input beside those it has."""
        taken = (*(held.name for held in self.inputs), *(step.name for step in self.procedure.joins))
        made = Input(name=free_name(role, taken), role=role, file=file)
        return self.model_copy(update={"inputs": (*self.inputs, made)})

    def without_input(self, name: str) -> Job:
        """Without an input; the procedure goes on with another scan where it was about the one that goes.

        Raises
        ------
        JobError
            When there is none of that name.
        """
        if any(step.name == name for step in self.procedure.joins):
            return self._without_join(name)
        if name not in {held.name for held in self.inputs}:
            raise JobError(f"there is no input called '{name}'", self.title, "Choose one of the inputs of the job")
        for step in self.procedure.joins:
            if name in step.scans:
                left = step.without_scan(name)
                return (self._without_join(step.name) if left is None else self.with_step(left)).without_input(name)
        others = [held.name for held in self.scans if held.name != name]
        moved = self.on_scan(others[0]) if others and name == self.scan_in_force else self
        return moved.model_copy(update={"inputs": tuple(held for held in self.inputs if held.name != name)})

    def _without_join(self, name: str) -> Job:
        """With the scans of a join by themselves again; the procedure goes on with the first of them."""
        step = next(step for step in self.procedure.joins if step.name == name)
        apart = self.without(step)
        return apart.model_copy(update={"procedure": apart.procedure.with_scan_renamed(name, step.scans[0])})

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


def scan_behind(job: Job) -> str:
    """The scan that holds the one in force: itself, unless it is one of many parts in a scan."""
    apart, name = job.procedure.separation, job.scan_in_force
    return apart.scan if apart is not None and name in apart.names else name


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
