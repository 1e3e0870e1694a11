"""Steps that take away from a scan what does not belong to the part."""

from __future__ import annotations

from typing import Annotated, Literal, Self

import numpy as np
from pydantic import Field, model_validator

from juxtum.assemble import Prism, drop_fragments, find_flat, grown, inside_prism, keep_pieces, on_visible_side, trim
from juxtum.assemble.strays import without_strays
from juxtum.assemble.table import could_be_the_part, thinnest
from juxtum.errors import InputError
from juxtum.evaluate.fields import Finite, Name, Triple
from juxtum.geometry import Plane
from juxtum.geometry.arrays import Bools
from juxtum.geometry.mesh import Scan
from juxtum.job.steps.base import NOMINAL, Outcomes, Source, StepModel, surface
from juxtum.nominal import Nominal
from juxtum.progress import Progress


class PlaneChoice(StepModel):
    """A plane in scan coordinates."""

    point: Triple
    normal: Triple

    def plane(self) -> Plane:
        """The plane as geometry."""
        return Plane(np.array(self.point), np.array(self.normal))


class CleaningModel(StepModel):
    """What all cleaning has in common: the name of the scan that is cleaned."""

    scan: Name = "scan"

    def reads(self) -> tuple[Source, ...]:
        """The scan as the steps before it left it."""
        return (surface(self.scan),)

    def may_read(self) -> tuple[Source, ...]:
        """What is taken into account where the job has it."""
        return ()

    def run(self, outcomes: Outcomes, progress: Progress) -> Scan:
        """The scan without what goes."""
        raise NotImplementedError


class Trim(CleaningModel):
    """Cut a scan along a plane; the largest flat region under the part when no plane is given."""

    kind: Literal["trim"] = "trim"
    plane: PlaneChoice | None = None
    offset: Finite = 0.5
    keep: Literal["above", "below"] = "above"

    @property
    def title(self) -> str:
        """For undo and lists."""
        return "trim off the table" if self.plane is None else "trim by plane"

    @property
    def is_picked(self) -> bool:
        """Where the plane was picked."""
        return self.plane is not None

    def may_read(self) -> tuple[Source, ...]:
        """A table that is to be found is told from the part by the nominal."""
        return (NOMINAL,) if self.plane is None else ()

    def run(self, outcomes: Outcomes, progress: Progress) -> Scan:
        """Cut; a scan without a table stays as it is when the plane was to be found.

        A face of the part is not taken for a table, and a thin part is not cut off with it.
        """
        scan = outcomes.whole(self.scan)
        cut = self.cut(scan, outcomes.nominal_if_any, progress)
        return scan if cut is None else trim(scan, *cut)

    def cut(self, scan: Scan, nominal: Nominal | None, progress: Progress) -> tuple[Plane, float] | None:
        """Along which plane, its normal to what stays, and how far above it; None where the table is not found."""
        progress.phase("looking for the table")
        plane = self.table(scan, nominal, progress) if self.plane is None else self.plane.plane()
        if plane is None:
            return None
        if self.keep == "below":
            return plane.flipped(), -self.offset
        offset = self.offset if self.plane is not None or nominal is None else min(self.offset, 0.4 * thinnest(nominal))
        # What is found to be a table, and is all there is, is a face with stickers or letters on it.
        is_all = self.plane is None and not (plane.distances(scan.points) > offset).any()
        return None if is_all else (plane, offset)

    @staticmethod
    def table(scan: Scan, nominal: Nominal | None, progress: Progress) -> Plane | None:
        """The table in a scan; none when what looks like one belongs to the part."""
        flat = find_flat(scan)
        if flat is None or (nominal is not None and could_be_the_part(scan, flat, nominal, progress)):
            return None
        return flat.plane


class Fragments(CleaningModel):
    """Drop loose pieces: smaller than `smallest` mm2 or than a `share` of the largest, all but some of the largest, or far ones."""

    kind: Literal["fragments"] = "fragments"
    smallest: Annotated[Finite, Field(ge=0)] | None = None
    share: Annotated[Finite, Field(ge=0, le=1)] | None = None
    keep: Annotated[int, Field(ge=1, le=100_000)] | None = None
    """So many of the largest stay."""
    apart: Annotated[Finite, Field(gt=0)] | None = None
    """Pieces farther from the largest than so many spacings go."""

    @property
    def title(self) -> str:
        """For undo and lists."""
        if self.keep is not None:
            return f"keep the {self.keep} largest pieces"
        if self.apart is not None:
            return f"drop pieces over {self.apart:g} spacings away"
        if self.share is not None:
            return f"drop pieces under {100 * self.share:g} % of the largest"
        return "keep the largest piece" if self.smallest is None else f"drop pieces under {self.smallest:g} mm\u00b2"

    def run(self, outcomes: Outcomes, progress: Progress) -> Scan:
        """Drop them."""
        progress.phase("counting pieces")
        if self.keep is not None or self.apart is not None:
            return keep_pieces(outcomes.whole(self.scan), self.keep, self.apart)
        return drop_fragments(outcomes.whole(self.scan), self.smallest, self.share)


class Strays(CleaningModel):
    """Drop single points that are alone or stick out of their neighbours."""

    kind: Literal["strays"] = "strays"

    @property
    def title(self) -> str:
        """For undo and lists."""
        return "drop stray points"

    def run(self, outcomes: Outcomes, progress: Progress) -> Scan:
        """Drop them."""
        progress.phase("looking for stray points")
        return without_strays(outcomes.whole(self.scan))


class Selection(CleaningModel):
    """Delete what appears inside an outline or under a stroke drawn on the screen, or all else."""

    kind: Literal["selection"] = "selection"
    view: Annotated[tuple[Finite, ...], Field(min_length=16, max_length=16)]
    outline: Annotated[tuple[tuple[Finite, Finite], ...], Field(min_length=1, max_length=2000)]
    brush: tuple[Annotated[Finite, Field(gt=0)], Annotated[Finite, Field(gt=0)]] | None = None
    """Half the width of the stroke across and up the screen; none for an outline."""
    side: Literal["through", "visible"] = "through"
    grow: Annotated[Finite, Field(ge=-1000, le=1000)] = 0.0
    """So many mm more round it, or less."""
    delete: Literal["inside", "outside"] = "inside"

    @model_validator(mode="after")
    def _has_area(self) -> Self:
        if self.brush is None and len(self.outline) < 3:
            raise ValueError("the outline needs three corners")
        return self

    @property
    def is_picked(self) -> bool:
        """It was drawn over one scan."""
        return True

    @property
    def title(self) -> str:
        """For undo and lists."""
        return "delete the selection" if self.delete == "inside" else "keep the selection"

    def run(self, outcomes: Outcomes, progress: Progress) -> Scan:
        """Delete."""
        progress.phase("deleting the selection")
        scan = outcomes.whole(self.scan)
        keep = ~self.chosen(scan)
        if not keep.any():
            raise InputError("nothing would be left of the scan", self.title, "Select less")
        return scan.kept(keep)

    def chosen(self, scan: Scan) -> Bools:
        """The points (N,) of a scan that go."""
        brush = None if self.brush is None else np.array(self.brush)
        prism = Prism(np.array(self.view).reshape(4, 4), np.array(self.outline), brush)
        inside = inside_prism(scan.points, prism)
        if self.side == "visible":
            rows = np.flatnonzero(inside)
            inside[rows] = on_visible_side(scan, rows, prism.towards)
        inside = grown(scan.points, inside, self.grow)
        return inside if self.delete == "inside" else ~inside
