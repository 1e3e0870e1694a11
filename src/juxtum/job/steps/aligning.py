"""Steps that lay a scan into part coordinates."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import Annotated, Literal, Self

import numpy as np
from pydantic import Field, ValidationError, model_validator

from juxtum.align import Alignment, align_pairs, best_fit, rough_align
from juxtum.align.best_fit import BestFitOptions
from juxtum.align.datums import DatumFeature, datum_alignment
from juxtum.align.known_targets import target_alignment
from juxtum.align.reference_points import ReferencePoint, SpotRule, reference_point_alignment
from juxtum.align.result import no_alignment
from juxtum.align.zone_fit import Zone, zone_fit
from juxtum.errors import AlignmentError, InputError, JuxtumError
from juxtum.evaluate.fields import Finite, Name, Numbers, Triple
from juxtum.exchange.named_places import read_named_places
from juxtum.geometry import RigidTransform
from juxtum.job.steps.base import COATS, NOMINAL, Outcomes, Source, StepModel, alignment, surface
from juxtum.nominal.fingerprints import Fingerprint, FoundAgain
from juxtum.progress import Progress

Lost = Annotated[tuple[Fingerprint, ...], Field(max_length=10_000)]
"""Faces of an earlier nominal that were not found in this one."""


STAYS = "that stays as it was"
"""How notes of free motions end."""
ZONE_COUNT = 20_000
"""Points of a fit into a zone: they are averaged over cells."""


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
        # A motion that the start left free is nobody's any more, unless it was not allowed to move since.
        kept = [note for note in start.notes if STAYS not in note or "start" in made.locked.values()]
        notes = tuple(dict.fromkeys((*kept, *made.notes)))
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


class FaceWeight(StepModel):
    """What points on some faces count for beside those on others."""

    faces: Numbers
    weight: Annotated[Finite, Field(gt=0, le=1e6)]
    lost: Lost = ()


class BestFit(AlignModel):
    """Best fit to the nominal surface."""

    kind: Literal["best-fit"] = "best-fit"
    name: Name = "best fit"
    trim: Annotated[Finite, Field(ge=0, le=0.5)] = 0.02
    faces: Numbers = ()
    lost: Lost = ()
    motions: tuple[Literal["Tx", "Ty", "Tz", "Rx", "Ry", "Rz"], ...] = ()
    """Those that are allowed; all when empty."""
    weights: Annotated[tuple[FaceWeight, ...], Field(max_length=100)] = ()
    criterion: Literal["squares", "zone", "stock"] = "squares"
    """Least squares; as far inside the limits as can be; as much stock left everywhere as can be."""
    lower: Finite = -0.2
    upper: Finite = 0.2

    @model_validator(mode="after")
    def _ordered(self) -> Self:
        if self.lower >= self.upper:
            raise ValueError("the lower limit must lie below the upper limit")
        if self.weights and self.criterion != "squares":
            raise ValueError("weights belong to least squares: the worst place has none")
        return self

    @property
    def faces_named(self) -> tuple[int, ...]:
        """Those that it is fitted to, and those that have a weight of their own."""
        return (*self.faces, *(number for one in self.weights for number in one.faces))

    def on_faces(self, found: FoundAgain) -> Self:
        """The same on another revision of the nominal."""
        weights = tuple(found.on_faces(one) for one in self.weights)
        return found.on_faces(self.model_copy(update={"weights": tuple(w for w in weights if w.faces)}))

    def reads(self) -> tuple[Source, ...]:
        """Also how thick its coat is, since it is fitted to the surface."""
        return (*super().reads(), COATS)

    def found(self, outcomes: Outcomes, start: RigidTransform, progress: Progress) -> Alignment:
        """Fit."""
        _see_that_none_is(self.lost, self.name)
        scan, nominal = outcomes.scan(self.scan), outcomes.nominal
        weights = None
        if self.weights:
            weights = np.ones(len(nominal.faces))
            for one in self.weights:
                weights[[nominal.face(number).number - 1 for number in one.faces]] = one.weight
        options = BestFitOptions(
            trim=self.trim, faces=self.faces, coat=outcomes.coats, motions=self.motions, weights=weights
        )
        if self.criterion == "squares":
            return best_fit(scan, nominal, start, options, progress)
        zone = Zone(self.lower, self.upper) if self.criterion == "zone" else Zone(0.0, np.inf)
        return zone_fit(scan, nominal, start, zone, replace(options, count=ZONE_COUNT), progress)


class ReferencePlace(StepModel):
    """A place of the drawing and the directions in which the part is held there: X, Y, Z, or N for the surface's own."""

    name: Name
    place: Triple
    held: Annotated[str, Field(pattern="^[XYZN]{1,4}$")] = "N"
    weight: Annotated[Finite, Field(gt=0, le=1e6)] = 1.0


class ReferencePoints(AlignModel):
    """Alignment by reference points with locked directions."""

    kind: Literal["reference-points"] = "reference-points"
    name: Name = "reference points"
    points: Annotated[tuple[ReferencePlace, ...], Field(min_length=1, max_length=200)]
    radius: Annotated[Finite, Field(gt=0, le=100)] | None = None
    reach: Annotated[Finite, Field(gt=0, le=1000)] | None = None

    def reads(self) -> tuple[Source, ...]:
        """Also how thick its coat is, since it is met at its surface."""
        return (*super().reads(), COATS)

    def found(self, outcomes: Outcomes, start: RigidTransform, progress: Progress) -> Alignment:
        """Meet the scan at all points."""
        points = tuple(ReferencePoint(p.name, np.array(p.place), p.held, p.weight) for p in self.points)
        rule = SpotRule(outcomes.coats, self.radius, self.reach)
        return reference_point_alignment(outcomes.scan(self.scan), outcomes.nominal, start, points, rule, progress)


def read_reference_places(path: Path) -> tuple[ReferencePlace, ...]:
    """Reference points of a list: name, X, Y, Z, and held (any of X Y Z N; N when left out) and weight.

    Raises
    ------
    InputError
        Naming the line that cannot be read.
    """
    made = []
    for row in read_named_places(path, "reference points", ("held", "weight")):
        try:
            held = "".join(row.more.get("held", "N").upper().split())
            made.append(ReferencePlace(name=row.name, place=row.place, held=held, weight=row.more.get("weight", 1.0)))
        except ValidationError as problem:
            raise InputError(
                f"line {row.line}: '{row.more.get('held', '')}' and '{row.more.get('weight', '')}' are not what is held there and its weight",
                str(path), "Give any of X, Y, Z and N, and a number",
            ) from problem  # fmt: skip
    return tuple(made)


class KnownTargets(AlignModel):
    """Alignment by targets whose places in part coordinates are known."""

    kind: Literal["known-targets"] = "known-targets"
    name: Name = "known targets"
    measured: Annotated[tuple[Triple, ...], Field(min_length=4, max_length=5000)]
    known: Annotated[tuple[Triple, ...], Field(min_length=4, max_length=5000)]
    tolerance: Annotated[Finite, Field(gt=0, le=100)] = 0.5

    @property
    def is_picked(self) -> bool:
        """Its measured targets are those of one scan."""
        return True

    def reads(self) -> tuple[Source, ...]:
        """Nothing but the two lists."""
        return self._start

    def found(self, outcomes: Outcomes, start: RigidTransform, progress: Progress) -> Alignment:
        """Lay one list onto the other."""
        return target_alignment(np.array(self.measured), np.array(self.known), self.tolerance)


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
