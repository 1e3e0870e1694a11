"""Steps that lay a scan into part coordinates."""

from __future__ import annotations

from dataclasses import replace
from typing import Annotated, Literal, Self

import numpy as np
from pydantic import Field, model_validator

from juxtum.align import Alignment, align_pairs, best_fit, rough_align
from juxtum.align.best_fit import BestFitOptions
from juxtum.align.datums import DatumFeature, datum_alignment
from juxtum.align.result import no_alignment
from juxtum.errors import AlignmentError, JuxtumError
from juxtum.evaluate.fields import Finite, Name, Numbers, Triple
from juxtum.geometry import RigidTransform
from juxtum.job.steps.base import COATS, NOMINAL, Outcomes, Source, StepModel, alignment, surface
from juxtum.nominal.fingerprints import Fingerprint, FoundAgain
from juxtum.progress import Progress

Lost = Annotated[tuple[Fingerprint, ...], Field(max_length=10_000)]
"""Faces of an earlier nominal that were not found in this one."""


def _see_that_none_is(lost: Lost, where: str) -> None:
    """Refuse to align to faces that are no more."""
    if lost:
        raise AlignmentError(f"{lost[0].text} is not in the nominal any more", where, "Choose its faces anew")


class AlignModel(StepModel):
    """What all alignments have in common: a name, the scan that they lay, and the alignment they start from."""

    name: Name
    scan: Name = "scan"
    start: Name | None = None

    def reads(self) -> tuple[Source, ...]:
        """The clean scan, the nominal, and the alignment that it starts from."""
        return (surface(self.scan), NOMINAL, *self._start)

    @property
    def _start(self) -> tuple[Source, ...]:
        return (alignment(self.start),) if self.start else ()

    def may_read(self) -> tuple[Source, ...]:
        """What is taken into account where the job has it."""
        return ()

    def run(self, outcomes: Outcomes, progress: Progress) -> Alignment:
        """Align; what the start was not sure of, whatever starts from it is not sure of either.

        Raises
        ------
        AlignmentError
            When it cannot be found.
        """
        start = outcomes.alignment(self.start) if self.start else no_alignment()
        try:
            made = self.found(outcomes, start.transform, progress)
        except AlignmentError:
            raise
        except JuxtumError as problem:
            raise AlignmentError(problem.what, problem.where or self.name, problem.next) from problem
        notes = tuple(dict.fromkeys((*start.notes, *made.notes)))
        return replace(made, notes=notes, alternatives=made.alternatives or start.alternatives)

    def found(self, outcomes: Outcomes, start: RigidTransform, progress: Progress) -> Alignment:
        """The alignment by itself."""
        raise NotImplementedError


class AsScanned(AlignModel):
    """Take the scan as it lies."""

    kind: Literal["as-scanned"] = "as-scanned"
    name: Name = "as scanned"

    def reads(self) -> tuple[Source, ...]:
        """Nothing: the scan stays as it lies."""
        return ()

    def found(self, outcomes: Outcomes, start: RigidTransform, progress: Progress) -> Alignment:
        """Nothing moves."""
        return no_alignment()


class Rough(AlignModel):
    """Automatic rough alignment from any pose."""

    kind: Literal["rough"] = "rough"
    name: Name = "rough"
    choice: Annotated[int, Field(ge=0, le=1000)] = 0
    """Which of the poses that fit equally well is taken."""

    def found(self, outcomes: Outcomes, start: RigidTransform, progress: Progress) -> Alignment:
        """Find the pose."""
        return rough_align(outcomes.scan(self.scan), outcomes.nominal, progress, self.choice)


class Pairs(AlignModel):
    """Alignment by picked pairs: places on the scan and on the nominal."""

    kind: Literal["pairs"] = "pairs"
    name: Name = "pairs"
    measured: Annotated[tuple[Triple, ...], Field(max_length=1000)]
    nominal: Annotated[tuple[Triple, ...], Field(max_length=1000)]

    @property
    def is_picked(self) -> bool:
        """Its places are those of one scan."""
        return True

    def reads(self) -> tuple[Source, ...]:
        """Nothing but the places that were picked."""
        return self._start

    def found(self, outcomes: Outcomes, start: RigidTransform, progress: Progress) -> Alignment:
        """Lay the pairs onto each other."""
        return align_pairs(np.array(self.measured).reshape(-1, 3), np.array(self.nominal).reshape(-1, 3))


class BestFit(AlignModel):
    """Best fit to the nominal surface."""

    kind: Literal["best-fit"] = "best-fit"
    name: Name = "best fit"
    trim: Annotated[Finite, Field(ge=0, le=0.5)] = 0.02
    faces: Numbers = ()
    lost: Lost = ()

    @property
    def faces_named(self) -> tuple[int, ...]:
        """Those that it is fitted to."""
        return self.faces

    def on_faces(self, found: FoundAgain) -> Self:
        """The same on another revision of the nominal."""
        return found.on_faces(self)

    def reads(self) -> tuple[Source, ...]:
        """Also how thick its coat is, since it is fitted to the surface."""
        return (*super().reads(), COATS)

    def found(self, outcomes: Outcomes, start: RigidTransform, progress: Progress) -> Alignment:
        """Fit."""
        _see_that_none_is(self.lost, self.name)
        options = BestFitOptions(trim=self.trim, faces=self.faces, coat=outcomes.coats)
        return best_fit(outcomes.scan(self.scan), outcomes.nominal, start, options, progress)


class DatumChoice(StepModel):
    """A datum letter and its nominal faces."""

    letter: Annotated[str, Field(pattern="^[A-Z]$")]
    faces: Numbers = ()
    lost: Lost = ()

    @model_validator(mode="after")
    def _on_something(self) -> DatumChoice:
        if not self.faces and not self.lost:
            raise ValueError("a datum needs at least one face")
        return self


class Datums(AlignModel):
    """Alignment to a datum system."""

    kind: Literal["datums"] = "datums"
    name: Name = "datums"
    datums: Annotated[tuple[DatumChoice, ...], Field(min_length=1, max_length=6)]

    @property
    def faces_named(self) -> tuple[int, ...]:
        """Those of its datums."""
        return tuple(number for datum in self.datums for number in datum.faces)

    def on_faces(self, found: FoundAgain) -> Self:
        """The same on another revision of the nominal."""
        return self.model_copy(update={"datums": tuple(found.on_faces(datum) for datum in self.datums)})

    def reads(self) -> tuple[Source, ...]:
        """Also how thick its coat is, since its datums are fitted to the surface."""
        return (*super().reads(), COATS)

    def found(self, outcomes: Outcomes, start: RigidTransform, progress: Progress) -> Alignment:
        """Lock datum by datum."""
        progress.phase("fitting the datums")
        for datum in self.datums:
            _see_that_none_is(datum.lost, f"datum {datum.letter}")
        features = tuple(DatumFeature(d.letter, d.faces) for d in self.datums)
        return datum_alignment(outcomes.scan(self.scan), outcomes.nominal, start, features, outcomes.coats)
