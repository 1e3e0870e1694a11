"""The instrument and the room: what they contribute to the uncertainty."""

from __future__ import annotations

import math
from pathlib import Path
from typing import Literal

from pydantic import BaseModel, ConfigDict, Field

from juxtum.exchange.documents import Form, read_document


class Instrument(BaseModel):
    """A measuring instrument and its length error `a + b*L`.

    Parameters
    ----------
    a : float
        Constant part of the maximum permissible error, mm.
    b : float
        Part that grows with length, mm per metre.
    repeatability : float
        Standard deviation of a place or size that is measured anew, mm; not contained in a and b. 0 where nobody stated it.
    certificate_u, certificate_k : float, optional
        Expanded uncertainty (mm) and its k from the certificate.
    """

    model_config = ConfigDict(extra="forbid", frozen=True)

    schema_name: Literal["juxtum-instrument-1"] = Field("juxtum-instrument-1", alias="schema")
    name: str = Field("Instrument without a name", min_length=1, max_length=200)
    serial: str = Field("", max_length=200)
    a: float = Field(ge=0, le=10)
    b: float = Field(ge=0, le=10)
    repeatability: float = Field(0.0, ge=0, le=10)
    certificate: str = Field("", max_length=200)
    certificate_u: float = Field(0.0, ge=0, le=10)
    certificate_k: float = Field(2.0, gt=0, le=10)

    def length_error(self, length: float) -> float:
        """Maximum permissible error over a length in mm, mm."""
        return self.a + self.b * length / 1000

    def standard(self, length: float) -> float:
        """Standard uncertainty of what is measured over a length in mm by the instrument alone, its certificate left out, mm."""
        return math.hypot(self.length_error(length) / math.sqrt(3), self.repeatability)


class Environment(BaseModel):
    """Temperature of the part and how it answers to it.

    Parameters
    ----------
    temperature, temperature_u : float
        Of the part while it was scanned and its standard uncertainty, degrees Celsius; None when nobody stated it.
    room : float, optional
        Of the air and the instrument, degrees Celsius.
    expansion, expansion_u : float
        Coefficient of linear expansion and its standard uncertainty, 1e-6 per kelvin.
    """

    model_config = ConfigDict(extra="forbid", frozen=True)

    temperature: float | None = Field(None, ge=-40, le=120)
    room: float | None = Field(None, ge=-40, le=60)
    temperature_u: float = Field(0.5, ge=0, le=20)
    expansion: float = Field(10.5, ge=0, le=200)
    expansion_u: float = Field(1.0, ge=0, le=50)

    @property
    def to_reference(self) -> float:
        """Factor that brings lengths measured at this temperature to 20 degrees Celsius."""
        return 1.0 / (1.0 + self.expansion * 1e-6 * (self.expected_temperature - 20.0))

    @property
    def instrument_temperature(self) -> float:
        """Of the instrument: that of the room, or 20 degrees where nobody stated one."""
        return 20.0 if self.room is None else self.room

    @property
    def expected_temperature(self) -> float:
        """The temperature that planning counts with: the stated one, or that of the drawing."""
        return 20.0 if self.temperature is None else self.temperature


def read_instrument(path: Path) -> Instrument:
    """Read an instrument from its JSON document.

    Raises
    ------
    InputError
        When it is not JSON or says something impossible.
    """
    return read_document(path, Form(Instrument, "an instrument", "See docs/instrument-format.md"))
