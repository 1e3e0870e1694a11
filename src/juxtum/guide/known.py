"""What of a job has to be known before anything can be said about it."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Protocol

from juxtum.assemble.assembling import Tied
from juxtum.geometry import Plane
from juxtum.geometry.arrays import Floats
from juxtum.geometry.mesh import Scan
from juxtum.job import Evaluation, Job
from juxtum.job.inputs import LoadedScan
from juxtum.nominal import Nominal


class KnownPieces(Protocol):
    """Connected pieces of a scan."""

    @property
    def areas(self) -> Floats:
        """Their areas, falling, mm2."""


class KnownScan(Protocol):
    """One of several scans."""

    @property
    def name(self) -> str:
        """What steps call it by."""

    @property
    def file(self) -> str:
        """The name of its file."""

    @property
    def scan(self) -> Scan:
        """As its cleaning left it."""


class Known(Protocol):
    """Results of a job; what could not be had yet is None."""

    @property
    def job(self) -> Job:
        """The job."""

    @property
    def nominal(self) -> Nominal | None:
        """What the part should be."""

    @property
    def part(self) -> Nominal | None:
        """What is planned on: the nominal, or a scan in its place."""

    @property
    def scan(self) -> Scan | None:
        """The clean scan in force."""

    @property
    def table(self) -> Plane | None:
        """A table that is still in the scan."""

    @property
    def pieces(self) -> KnownPieces | None:
        """Its connected pieces."""

    @property
    def loaded(self) -> LoadedScan | None:
        """The scan in force as it was brought or joined."""

    @property
    def brought(self) -> Sequence[KnownScan]:
        """Every scan, where there are several."""

    @property
    def tied(self) -> Tied | None:
        """Where they lie, where the scan in force is joined of them."""

    @property
    def in_force(self) -> str:
        """The name of the alignment whose map is shown."""

    @property
    def evaluation(self) -> Evaluation | None:
        """What was measured in it."""
