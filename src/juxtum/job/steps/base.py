"""What all steps share: they are documents, they name what they read, and they are given it."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, NamedTuple, Self

from pydantic import BaseModel, ConfigDict

from juxtum.align import Alignment
from juxtum.errors import JobError
from juxtum.geometry.arrays import Floats
from juxtum.geometry.mesh import Scan, TriangleMesh
from juxtum.nominal import Nominal
from juxtum.nominal.fingerprints import FoundAgain

Coat = Floats | None
"""Thickness on each nominal face (F,), mm; None where nothing is coated."""


class Source(NamedTuple):
    """The name of an outcome: its family, its own name, and a part of it where it has parts.

    Examples
    --------
    >>> Source("alignment", "best fit").text
    "alignment 'best fit'"
    """

    family: str
    name: str = ""
    part: str = ""

    @property
    def text(self) -> str:
        """For sentences."""
        return f"{self.family} '{self.name}'" if self.name else self.family


NOMINAL = Source("nominal")
COATS = Source("coats")


def surface(scan: str) -> Source:
    """A scan after all its cleaning."""
    return Source("surface", scan)


def alignment(name: str) -> Source:
    """An alignment of the procedure."""
    return Source("alignment", name)


class Outcomes:
    """What a step reads, by its source.

    Parameters
    ----------
    held : mapping
        Outcomes by their source.
    """

    def __init__(self, held: Mapping[Source, Any]) -> None:
        self._held = held

    def of(self, source: Source) -> Any:
        """An outcome.

        Raises
        ------
        JobError
            When the step never said that it reads it.
        """
        if source not in self._held:
            raise JobError(
                f"a step takes the {source.text}, which it does not read",
                "procedure",
                "This is an error of the program",
            )
        return self._held[source]

    def scan(self, name: str) -> Scan:
        """What was measured of a scan: its surface without what is invented.

        Raises
        ------
        InputError
            When all of it is invented.
        """
        found = self.whole(name)
        return found.measured if isinstance(found, TriangleMesh) else found

    def whole(self, name: str) -> Scan:
        """The surface of a scan, with what is invented: for work on it, never for measuring."""
        found: Scan = self.of(surface(name))
        return found

    @property
    def nominal(self) -> Nominal:
        """The nominal part."""
        found: Nominal = self.of(NOMINAL)
        return found

    @property
    def nominal_if_any(self) -> Nominal | None:
        """The nominal part, where the job has one."""
        return self._held.get(NOMINAL)

    def alignment(self, name: str) -> Alignment:
        """An alignment."""
        found: Alignment = self.of(alignment(name))
        return found

    @property
    def coats(self) -> Coat:
        """What was on each face while it was measured."""
        found: Coat = self.of(COATS)
        return found


class StepModel(BaseModel):
    """What all steps have in common: they are frozen and refuse unknown parameters."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    @property
    def is_picked(self) -> bool:
        """Whether it holds places of the one scan on which they were picked."""
        return False

    @property
    def faces_named(self) -> tuple[int, ...]:
        """Faces that have to be found again in another revision of the nominal."""
        return ()

    def on_faces(self, found: FoundAgain) -> Self:
        """The same on another revision of the nominal."""
        return self
