"""The step that makes one scan of several."""

from __future__ import annotations

from typing import Annotated, Literal, Self

import numpy as np
from pydantic import Field, model_validator

from juxtum.align.scans.work import Joining
from juxtum.assemble.assembling import Brought, Tied, surface_of, tie, ties_from_pairs
from juxtum.evaluate.fields import Finite, Name, Triple
from juxtum.geometry import TriangleMesh
from juxtum.job.steps.base import Outcomes, Source, StepModel, surface
from juxtum.progress import Progress


class PickedPairs(StepModel):
    """Places that two scans have in common, each in the coordinates of its scan."""

    first: Name
    second: Name
    points: Annotated[tuple[tuple[Triple, Triple], ...], Field(min_length=3, max_length=200)]


class Join(StepModel):
    """Lay several scans into one frame and make one surface of them, which has a name like a scan and is used like one."""

    kind: Literal["join"] = "join"
    name: Name = "assembly"
    scans: Annotated[tuple[Name, ...], Field(min_length=2, max_length=200)]
    pairs: Annotated[tuple[PickedPairs, ...], Field(max_length=1000)] = ()
    left_out: Annotated[tuple[Name, ...], Field(max_length=200)] = ()
    """Scans that are not used, though they stay in the list."""
    cut: Annotated[tuple[tuple[Name, Name], ...], Field(max_length=1000)] = ()
    """Pairs of scans whose overlap is not used."""
    by_shape: bool = False
    spacing: Annotated[Finite, Field(gt=0)] | None = None
    """Of the surface, mm; the middle of the scans' own where it is not chosen."""

    @model_validator(mode="after")
    def _told_apart(self) -> Self:
        if len(set(self.scans)) < len(self.scans):
            raise ValueError("a scan is joined to itself")
        if self.name in self.scans:
            raise ValueError("what is joined has the name of one of its scans")
        return self

    @property
    def title(self) -> str:
        """For undo and lists."""
        return f"join {len(self.used)} scans"

    @property
    def is_picked(self) -> bool:
        """Where places were picked on its scans."""
        return bool(self.pairs)

    @property
    def used(self) -> tuple[str, ...]:
        """The scans that are not left out."""
        return tuple(name for name in self.scans if name not in self.left_out)

    def reads(self) -> tuple[Source, ...]:
        """Each scan after its own cleaning."""
        return tuple(surface(name) for name in self.used)

    @property
    def tying(self) -> Join:
        """The same as far as it bears on where the scans lie."""
        return self.model_copy(update={"spacing": None})

    def run(self, outcomes: Outcomes, progress: Progress) -> Tied:
        """Tie them.

        Raises
        ------
        JuxtumError
            When no two of them can be tied.
        """
        names = self.used
        place = {name: k for k, name in enumerate(names)}
        scans = [Brought(name, outcomes.scan(name)) for name in names]
        given = [
            ties_from_pairs(place[p.first], place[p.second], np.array(p.points))
            for p in self.pairs
            if p.first in place and p.second in place
        ]
        cut = frozenset(frozenset((place[a], place[b])) for a, b in self.cut if a in place and b in place)
        return tie(scans, given, Joining(by_shape=self.by_shape, cut=cut), progress)

    def surface(self, made: Tied, progress: Progress) -> TriangleMesh:
        """One mesh of those that are tied."""
        return surface_of(made, self.spacing, progress)

    def with_pairs(self, picked: PickedPairs) -> Join:
        """With other places picked on two of its scans."""
        both = {picked.first, picked.second}
        kept = tuple(p for p in self.pairs if {p.first, p.second} != both)
        return self.model_copy(update={"pairs": (*kept, picked)})

    def with_left_out(self, name: str) -> Join:
        """With a scan left out, or taken in again."""
        others = tuple(n for n in self.left_out if n != name)
        return self.model_copy(update={"left_out": others if name in self.left_out else (*others, name)})

    def with_cut(self, first: str, second: str) -> Join:
        """With the overlap of two scans not used, or used again."""
        others = tuple(pair for pair in self.cut if {*pair} != {first, second})
        return self.model_copy(update={"cut": others if len(others) < len(self.cut) else (*others, (first, second))})

    def without_scan(self, name: str) -> Join | None:
        """Without a scan that goes; None where nothing is left to be joined."""
        left = tuple(n for n in self.scans if n != name)
        if len(left) < 2:
            return None
        return self.model_copy(
            update={
                "scans": left,
                "left_out": tuple(n for n in self.left_out if n != name),
                "pairs": tuple(p for p in self.pairs if name not in (p.first, p.second)),
                "cut": tuple(pair for pair in self.cut if name not in pair),
            }
        )
