"""Steps that work on a surface: take targets off, repair, fill, smooth, thin. Each says what it did, on every part."""

from __future__ import annotations

from typing import Annotated, Literal, Self

import numpy as np
from pydantic import Field, model_validator

from juxtum.assemble.finishing import Discs, Filling, Worked, fill, find_discs, repair, smooth, thin, without_targets
from juxtum.assemble.holes import Hole, holes_of
from juxtum.errors import InputError
from juxtum.evaluate.fields import Finite, Triple
from juxtum.geometry import TriangleMesh
from juxtum.geometry.arrays import Floats
from juxtum.geometry.mesh import Scan
from juxtum.job.steps.base import Outcomes
from juxtum.job.steps.cleaning import CleaningModel
from juxtum.progress import Progress

Bound = Annotated[Finite, Field(gt=0, le=10)]
NEAR = 1.0
"""A place picked farther from the middle of a hole than so many times its width is none of it."""


class FinishingModel(CleaningModel):
    """What all work on a surface has in common: it needs a mesh, and says what it did."""

    @property
    def title(self) -> str:
        """For undo and lists."""
        raise NotImplementedError

    def work(self, mesh: TriangleMesh, progress: Progress) -> Worked:
        """The surface after it, with what has to be told."""
        raise NotImplementedError

    def worked(self, outcomes: Outcomes, progress: Progress) -> Worked:
        """The same for the surface as the steps before left it.

        Raises
        ------
        InputError
            When the scan is a list of points.
        """
        scan = outcomes.whole(self.scan)
        if not isinstance(scan, TriangleMesh):
            what = "a list of points has no surface to work on"
            raise InputError(what, self.title, "Make a surface of it first: bring it with others and join them")
        return self.work(scan, progress)

    def run(self, outcomes: Outcomes, progress: Progress) -> Scan:
        """The surface after it."""
        return self.worked(outcomes, progress).mesh


class TargetsOff(FinishingModel):
    """Take away the surface of reference targets, at places in scan coordinates or found by their shape."""

    kind: Literal["targets-off"] = "targets-off"
    places: Annotated[tuple[Triple, ...], Field(max_length=5000)] = ()
    by_shape: bool = False
    """Whether those that stand out of the surface go as well, found on each part anew."""
    diameter: Annotated[Finite, Field(gt=0, le=100)] = 8.0

    @model_validator(mode="after")
    def _something(self) -> Self:
        if not self.places and not self.by_shape:
            raise ValueError("no place of a target is named, nor are they looked for")
        return self

    @property
    def title(self) -> str:
        """For undo and lists."""
        some = f"{len(self.places)} targets" if len(self.places) != 1 else "1 target"
        if not self.by_shape:
            return f"take {some} off"
        return f"take {some} and those found by shape off" if self.places else "take targets off, found by shape"

    @property
    def is_picked(self) -> bool:
        """Targets stick elsewhere on the next part; what is found by shape is found there."""
        return bool(self.places)

    def work(self, mesh: TriangleMesh, progress: Progress) -> Worked:
        """Without them."""
        places = np.array(self.places).reshape(-1, 3)
        if self.by_shape:
            found = find_discs(mesh, self.diameter, progress)
            if not len(places) and not found.found:
                return Worked(mesh, (_none_words(found),))
            places = np.concatenate(
                [places, [place for place in found.places if _is_apart(place, places, self.diameter)]]
            )
        return without_targets(mesh, places, self.diameter, progress)


def _none_words(discs: Discs) -> str:
    """Why nothing was taken off, as a clause."""
    if not np.isfinite(discs.lowest):
        return f"the surface is too coarse to tell targets of {discs.diameter:g} mm, and none was taken off"
    return f"no disc of {discs.diameter:g} mm stands out of the surface as a target does"


def _is_apart(place: Floats, others: Floats, diameter: float) -> bool:
    """Whether a place is none of those (K, 3) that are known already."""
    return not len(others) or float(np.linalg.norm(others - place, axis=1).min()) > diameter / 2


class Repair(FinishingModel):
    """Mend what keeps a surface from being one sheet with an inside and an outside."""

    kind: Literal["repair"] = "repair"

    @property
    def title(self) -> str:
        """For undo and lists."""
        return "repair the surface"

    def work(self, mesh: TriangleMesh, progress: Progress) -> Worked:
        """Mended."""
        return repair(mesh, progress)


class Fill(FinishingModel):
    """Close holes with invented faces: those of some kinds up to a perimeter, or those that were picked."""

    kind: Literal["fill"] = "fill"
    how: Literal["flat", "curvature"] = "curvature"
    of: Annotated[tuple[Literal["target", "hole", "edge"], ...], Field(max_length=3)] = ("target",)
    longest: Annotated[Finite, Field(gt=0)] | None = None
    """Perimeter in mm up to which holes are filled; all of the kind where it is not given."""
    places: Annotated[tuple[Triple, ...], Field(max_length=2000)] = ()
    """Middles of the holes that were picked, in scan coordinates; where there are some, they alone are filled."""

    @model_validator(mode="after")
    def _something(self) -> Self:
        if not self.of and not self.places:
            raise ValueError("no kind of hole is named")
        return self

    @property
    def title(self) -> str:
        """For undo and lists."""
        if self.places:
            return "fill 1 hole" if len(self.places) == 1 else f"fill {len(self.places)} holes"
        return f"fill {' and '.join(self.of)} holes"

    @property
    def is_picked(self) -> bool:
        """Where single holes were picked."""
        return bool(self.places)

    def work(self, mesh: TriangleMesh, progress: Progress) -> Worked:
        """Filled."""
        progress.phase("looking for holes")
        holes = holes_of(mesh)
        chosen, missed = self._picked(holes) if self.places else (self._of_kind(holes), 0)
        made = fill(mesh, chosen, Filling(self.how), progress)
        if not missed:
            return made
        words = (
            "where a hole was picked there is none" if missed == 1 else f"at {missed} places picked there is no hole"
        )
        return Worked(made.mesh, (*made.notes, words))

    def _of_kind(self, holes: tuple[Hole, ...]) -> list[Hole]:
        most = np.inf if self.longest is None else self.longest
        return [hole for hole in holes if hole.kind in self.of and hole.perimeter <= most]

    def _picked(self, holes: tuple[Hole, ...]) -> tuple[list[Hole], int]:
        chosen: dict[int, Hole] = {}
        missed = 0
        for place in self.places:
            apart = [float(np.linalg.norm(hole.place - np.array(place))) for hole in holes]
            nearest = int(np.argmin(apart)) if apart else -1
            if nearest < 0 or apart[nearest] > NEAR * holes[nearest].across:
                missed += 1
            else:
                chosen[nearest] = holes[nearest]
        return list(chosen.values()), missed


class Smooth(FinishingModel):
    """Smooth, keeping edges; no place moves farther than the bound."""

    kind: Literal["smooth"] = "smooth"
    bound: Bound
    rounds: Annotated[int, Field(ge=1, le=60)] = 8

    @property
    def title(self) -> str:
        """For undo and lists."""
        return f"smooth within {self.bound:g} mm"

    def work(self, mesh: TriangleMesh, progress: Progress) -> Worked:
        """Smoothed."""
        return smooth(mesh, self.bound, self.rounds, progress)


class Thin(FinishingModel):
    """Thin to a number of triangles, or as far as the bound lets it."""

    kind: Literal["thin"] = "thin"
    bound: Bound
    triangles: Annotated[int, Field(ge=20, le=100_000_000)] | None = None

    @property
    def title(self) -> str:
        """For undo and lists."""
        return f"thin within {self.bound:g} mm" if self.triangles is None else f"thin to {self.triangles} triangles"

    def work(self, mesh: TriangleMesh, progress: Progress) -> Worked:
        """Thinned."""
        return thin(mesh, self.bound, self.triangles, progress)
