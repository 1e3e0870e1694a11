"""Instruments as documents, coats, and how a part was really measured."""

from juxtum.instruments.circumstances import Circumstances, Coating, Origin
from juxtum.instruments.stated import Environment, Instrument

__all__ = ["Circumstances", "Coating", "Environment", "Instrument", "Origin"]
