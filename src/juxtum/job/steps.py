"""The steps of a procedure: parameters only, told apart by their `kind`."""

from __future__ import annotations

from typing import Annotated, Literal

import numpy as np
from pydantic import BaseModel, ConfigDict, Field, model_validator

from juxtum.align import Alignment, align_pairs, best_fit, rough_align
from juxtum.align.best_fit import BestFitOptions
from juxtum.align.datums import DatumFeature, datum_alignment
from juxtum.align.result import no_alignment
from juxtum.assemble import Prism, drop_fragments, find_flat, inside_prism, trim
from juxtum.assemble.table import could_be_the_part, thinnest
from juxtum.errors import InputError
from juxtum.evaluate import DecisionRule
from juxtum.evaluate.fields import Finite, Name, Numbers, Triple
from juxtum.evaluate.kinds import Kind
from juxtum.geometry import Plane, RigidTransform
from juxtum.geometry.arrays import Floats
from juxtum.geometry.mesh import Scan
from juxtum.nominal import Nominal
from juxtum.progress import Progress


class StepModel(BaseModel):
    """What all steps have in common: they are frozen and refuse unknown parameters."""

    model_config = ConfigDict(extra="forbid", frozen=True)


class PlaneChoice(StepModel):
    """A plane in scan coordinates."""

    point: Triple
    normal: Triple

    def plane(self) -> Plane:
        """The plane as geometry."""
        return Plane(np.array(self.point), np.array(self.normal))


class Trim(StepModel):
    """Cut a scan along a plane; the largest flat region under the part when no plane is given."""

    kind: Literal["trim"] = "trim"
    plane: PlaneChoice | None = None
    offset: Finite = 0.5
    keep: Literal["above", "below"] = "above"

    @property
    def title(self) -> str:
        """For undo and lists."""
        return "trim off the table" if self.plane is None else "trim by plane"

    def run(self, scan: Scan, progress: Progress, nominal: Nominal | None = None) -> Scan:
        """Cut; a scan without a table stays as it is when the plane was to be found.

        Parameters
        ----------
        nominal : Nominal, optional
            What the part should be: a face of the part is not taken for a table, and a thin part is not cut off with it.
        """
        progress.phase("looking for the table")
        plane = self.table(scan, nominal, progress) if self.plane is None else self.plane.plane()
        if plane is None:
            return scan
        if self.keep == "below":
            return trim(scan, plane.flipped(), -self.offset)
        offset = self.offset if self.plane is not None or nominal is None else min(self.offset, 0.4 * thinnest(nominal))
        return trim(scan, plane, offset)

    @staticmethod
    def table(scan: Scan, nominal: Nominal | None, progress: Progress) -> Plane | None:
        """The table in a scan; none when what looks like one belongs to the part."""
        flat = find_flat(scan)
        if flat is None or (nominal is not None and could_be_the_part(scan, flat, nominal, progress)):
            return None
        return flat.plane


class Fragments(StepModel):
    """Drop loose pieces smaller than `smallest` mm2 or than a `share` of the largest, or all but the largest."""

    kind: Literal["fragments"] = "fragments"
    smallest: Annotated[Finite, Field(ge=0)] | None = None
    share: Annotated[Finite, Field(ge=0, le=1)] | None = None

    @property
    def title(self) -> str:
        """For undo and lists."""
        if self.share is not None:
            return f"drop pieces under {100 * self.share:g} % of the largest"
        return "keep the largest piece" if self.smallest is None else f"drop pieces under {self.smallest:g} mm\u00b2"

    def run(self, scan: Scan, progress: Progress, nominal: Nominal | None = None) -> Scan:
        """Drop them."""
        progress.phase("counting pieces")
        return drop_fragments(scan, self.smallest, self.share)


class Selection(StepModel):
    """Delete what appears inside an outline drawn on the screen, or all else."""

    kind: Literal["selection"] = "selection"
    view: Annotated[tuple[Finite, ...], Field(min_length=16, max_length=16)]
    outline: Annotated[tuple[tuple[Finite, Finite], ...], Field(min_length=3, max_length=2000)]
    delete: Literal["inside", "outside"] = "inside"

    @property
    def title(self) -> str:
        """For undo and lists."""
        return "delete the selection" if self.delete == "inside" else "keep the selection"

    def run(self, scan: Scan, progress: Progress, nominal: Nominal | None = None) -> Scan:
        """Delete."""
        progress.phase("deleting the selection")
        prism = Prism(np.array(self.view).reshape(4, 4), np.array(self.outline))
        inside = inside_prism(scan.points, prism)
        keep = ~inside if self.delete == "inside" else inside
        if not keep.any():
            raise InputError("nothing would be left of the scan", self.title, "Select less")
        return scan.kept(keep)


CleaningStep = Trim | Fragments | Selection


Coat = Floats | None
"""Thickness on each nominal face (F,), mm; None where nothing is coated."""


class AlignModel(StepModel):
    """What all alignments have in common: a name for their frame, and the frame they start from."""

    name: Name
    start: Name | None = None


class AsScanned(AlignModel):
    """Take the scan as it lies."""

    kind: Literal["as-scanned"] = "as-scanned"
    name: Name = "as scanned"

    def run(self, scan: Scan, nominal: Nominal, start: RigidTransform, progress: Progress, coat: Coat = None) -> Alignment:
        """Nothing moves."""
        return no_alignment()


class Rough(AlignModel):
    """Automatic rough alignment from any pose."""

    kind: Literal["rough"] = "rough"
    name: Name = "rough"
    choice: Annotated[int, Field(ge=0, le=1000)] = 0
    """Which of the poses that fit equally well is taken."""

    def run(self, scan: Scan, nominal: Nominal, start: RigidTransform, progress: Progress, coat: Coat = None) -> Alignment:
        """Find the pose."""
        return rough_align(scan, nominal, progress, self.choice)


class Pairs(AlignModel):
    """Alignment by picked pairs: places on the scan and on the nominal."""

    kind: Literal["pairs"] = "pairs"
    name: Name = "pairs"
    measured: Annotated[tuple[Triple, ...], Field(max_length=1000)]
    nominal: Annotated[tuple[Triple, ...], Field(max_length=1000)]

    def run(self, scan: Scan, nominal: Nominal, start: RigidTransform, progress: Progress, coat: Coat = None) -> Alignment:
        """Lay the pairs onto each other."""
        return align_pairs(np.array(self.measured).reshape(-1, 3), np.array(self.nominal).reshape(-1, 3))


class BestFit(AlignModel):
    """Best fit to the nominal surface."""

    kind: Literal["best-fit"] = "best-fit"
    name: Name = "best fit"
    trim: Annotated[Finite, Field(ge=0, le=0.5)] = 0.02
    faces: Numbers = ()

    def run(self, scan: Scan, nominal: Nominal, start: RigidTransform, progress: Progress, coat: Coat = None) -> Alignment:
        """Fit."""
        return best_fit(scan, nominal, start, BestFitOptions(trim=self.trim, faces=self.faces, coat=coat), progress)


class DatumChoice(StepModel):
    """A datum letter and its nominal faces."""

    letter: Annotated[str, Field(pattern="^[A-Z]$")]
    faces: Annotated[Numbers, Field(min_length=1)]


class Datums(AlignModel):
    """Alignment to a datum system."""

    kind: Literal["datums"] = "datums"
    name: Name = "datums"
    datums: Annotated[tuple[DatumChoice, ...], Field(min_length=1, max_length=6)]

    def run(self, scan: Scan, nominal: Nominal, start: RigidTransform, progress: Progress, coat: Coat = None) -> Alignment:
        """Lock datum by datum."""
        progress.phase("fitting the datums")
        features = tuple(DatumFeature(d.letter, d.faces) for d in self.datums)
        return datum_alignment(scan, nominal, start, features, coat)


AlignStep = AsScanned | Rough | Pairs | BestFit | Datums


class Measure(StepModel):
    """How the nominal is searched, and the limits of the map, mm and degrees."""

    kind: Literal["measure"] = "measure"
    limit: Annotated[Finite, Field(gt=0, le=1000)] = 3.0
    angle: Annotated[Finite, Field(gt=0, le=180)] = 60.0
    lower: Finite = -0.2
    upper: Finite = 0.2

    @model_validator(mode="after")
    def _ordered(self) -> Measure:
        if self.lower >= self.upper:
            raise ValueError("the lower limit must lie below the upper limit")
        return self


class ReadingStep(StepModel):
    """A reading at a place in part coordinates."""

    kind: Literal["reading"] = "reading"
    label: Name
    place: Triple


class GridStep(StepModel):
    """A grid of readings over a nominal face."""

    kind: Literal["grid"] = "grid"
    label: Name
    face: Annotated[int, Field(ge=1)]
    spacing: Annotated[Finite, Field(gt=0)]


class Decide(StepModel):
    """The frame to which verdicts refer, and the decision rule."""

    kind: Literal["decide"] = "decide"
    frame: Name = "best fit"
    rule: DecisionRule = DecisionRule.GUARDED
    guard: Annotated[Finite, Field(ge=0, le=10)] = 1.0


MeasureStep = Measure | ReadingStep | GridStep | Decide
Step = Annotated[CleaningStep | AlignStep | MeasureStep | Kind, Field(discriminator="kind")]
