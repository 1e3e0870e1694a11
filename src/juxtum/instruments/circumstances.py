"""How a part was really measured: what verdicts rest on besides the data. A plan only proposes it."""

from __future__ import annotations

from datetime import datetime, timedelta
from enum import StrEnum
from typing import Annotated

from pydantic import BaseModel, ConfigDict, Field

from juxtum.instruments.coats import COATS
from juxtum.instruments.stated import Environment, Instrument

NO_INSTRUMENT = "no instrument stated"
NO_TEMPERATURE = "the temperature of the part is not stated: nothing was corrected, and nothing is counted for it"
SIMULATED = "the scan is simulated: a stand-in made its points, and nothing here was measured"
Text = Annotated[str, Field(max_length=200)]
Length = Annotated[float, Field(ge=0, le=10, allow_inf_nan=False)]


class Origin(StrEnum):
    """Where the scan of a job comes from."""

    FOREIGN = "foreign"
    CAPTURED = "captured"


class Coating(BaseModel):
    """A coat that was put on the part.

    Parameters
    ----------
    name : str
        Of the coat, as it is offered.
    faces : tuple of int
        Numbers of the faces that were coated; all of them when empty.
    thickness, spread : float
        Of the layer and half its spread, mm.
    applied : datetime, optional
        When; none when nobody said, and then it counts as being on.
    lasts : float, optional
        Minutes until it has gone by itself; none when it stays.
    """

    model_config = ConfigDict(extra="forbid", frozen=True)

    name: Text = ""
    faces: Annotated[tuple[Annotated[int, Field(ge=1)], ...], Field(max_length=10_000)] = ()
    thickness: Length
    spread: Length
    applied: datetime | None = None
    lasts: Annotated[float, Field(gt=0, le=1e6)] | None = None

    @classmethod
    def of(cls, name: str, faces: tuple[int, ...], applied: datetime) -> Coating:
        """A coat of those on offer, put on now."""
        coat = COATS[name]
        lasts = coat.lasts if coat.lasts < 1e6 else None
        return cls(
            name=coat.name, faces=faces, thickness=coat.thickness, spread=coat.spread, applied=applied, lasts=lasts
        )

    def is_on(self, began: datetime | None, ended: datetime | None) -> bool:
        """Whether it was on the part at any time between two moments; nobody's saying counts as yes."""
        if self.applied is None or began is None or ended is None:
            return True
        gone = None if self.lasts is None else self.applied + timedelta(minutes=self.lasts)
        return self.applied <= ended and (gone is None or gone >= began)


class Circumstances(BaseModel):
    """The instrument, the temperature, the coats; what nobody stated is not known.

    Parameters
    ----------
    instrument : Instrument, optional
        None when nobody stated it: then values have no uncertainty and nothing is decided.
    coats : tuple of Coating
        All that were put on; which of them count, the time of the capture tells.
    began, ended : datetime, optional
        Of the capture.
    is_simulated : bool
        Whether a stand-in made the points.
    """

    model_config = ConfigDict(extra="forbid", frozen=True)

    origin: Origin = Origin.FOREIGN
    instrument: Instrument | None = None
    environment: Environment = Environment()
    coats: Annotated[tuple[Coating, ...], Field(max_length=100)] = ()
    began: datetime | None = None
    ended: datetime | None = None
    is_simulated: bool = False

    @property
    def coats_on(self) -> tuple[Coating, ...]:
        """The coats that were on the part while it was measured."""
        return tuple(coat for coat in self.coats if coat.is_on(self.began, self.ended))

    @property
    def objection(self) -> str:
        """Why nothing can be decided; empty when it can."""
        return "" if self.instrument is not None else NO_INSTRUMENT

    @property
    def notes(self) -> tuple[str, ...]:
        """What is not known, in words."""
        words = (
            () if self.instrument is not None else (f"{NO_INSTRUMENT}: the uncertainty of every value is not known",)
        )
        words = words if self.environment.temperature is not None else (*words, NO_TEMPERATURE)
        return (*words, SIMULATED) if self.is_simulated else words


def for_other_parts(circumstances: Circumstances) -> Circumstances:
    """What holds for the next part too: the instrument and the room, not this part's coats and hours."""
    return Circumstances(instrument=circumstances.instrument, environment=circumstances.environment)
