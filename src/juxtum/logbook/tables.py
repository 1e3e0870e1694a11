"""The tables of the logbook."""

from __future__ import annotations

from datetime import date, datetime

from sqlalchemy import Date, DateTime, Float, ForeignKey, LargeBinary, String, Text, UniqueConstraint
from sqlalchemy.orm import DeclarativeBase, Mapped, mapped_column


class Base(DeclarativeBase):
    """All tables."""


class InstrumentRow(Base):
    """An instrument of the shop: model, serial number, certificate and the day it runs out."""

    __tablename__ = "instruments"
    __table_args__ = (UniqueConstraint("model", "serial"),)

    id: Mapped[int] = mapped_column(primary_key=True)
    model: Mapped[str] = mapped_column(String(60))
    name: Mapped[str] = mapped_column(String(200))
    serial: Mapped[str] = mapped_column(String(100), default="")
    certificate: Mapped[str] = mapped_column(String(120), default="")
    due: Mapped[date | None] = mapped_column(Date)
    owned: Mapped[bool] = mapped_column(default=False)
    """Whether a person entered it; others are here because something was calibrated."""
    document: Mapped[str] = mapped_column(Text, default="")
    """The shop's own document of it, JSON; empty where one that ships says what it does."""


class ArtefactRow(Base):
    """An artefact or equipment: length between its balls or marks and their diameter, mm; U (k = 2), mm; the id of what is a document."""

    __tablename__ = "artefacts"

    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(String(120), unique=True)
    kind: Mapped[str] = mapped_column(String(40))
    length: Mapped[float] = mapped_column(Float)
    diameter: Mapped[float] = mapped_column(Float, default=0.0)
    uncertainty: Mapped[float] = mapped_column(Float)
    certificate: Mapped[str] = mapped_column(String(120), default="")
    due: Mapped[date | None] = mapped_column(Date)
    serial: Mapped[str] = mapped_column(String(100), default="")
    model: Mapped[str] = mapped_column(String(60), default="")
    document: Mapped[str] = mapped_column(Text, default="")
    """The shop's own document of equipment, JSON; empty where one that ships says what it is."""


class CertificateRow(Base):
    """A certificate as it was entered, with its document if one was attached; of an instrument or of an artefact."""

    __tablename__ = "certificates"

    id: Mapped[int] = mapped_column(primary_key=True)
    instrument_id: Mapped[int | None] = mapped_column(ForeignKey("instruments.id"))
    artefact_id: Mapped[int | None] = mapped_column(ForeignKey("artefacts.id"))
    number: Mapped[str] = mapped_column(String(120))
    due: Mapped[date | None] = mapped_column(Date)
    entered: Mapped[datetime] = mapped_column(DateTime)
    entered_by: Mapped[str] = mapped_column(String(200), default="")
    file_name: Mapped[str] = mapped_column(String(200), default="")
    file_hash: Mapped[str] = mapped_column(String(64), default="")
    file: Mapped[bytes | None] = mapped_column(LargeBinary, deferred=True)


class CalibrationRow(Base):
    """A calibration: what came out, the acceptance limit, and all that a record needs."""

    __tablename__ = "calibrations"

    id: Mapped[int] = mapped_column(primary_key=True)
    instrument_id: Mapped[int] = mapped_column(ForeignKey("instruments.id"))
    kind: Mapped[str] = mapped_column(String(40))
    at: Mapped[datetime] = mapped_column(DateTime)
    temperature: Mapped[float] = mapped_column(Float)
    artefact: Mapped[str] = mapped_column(String(120))
    operator: Mapped[str] = mapped_column(String(200))
    value: Mapped[float] = mapped_column(Float)
    limit: Mapped[float] = mapped_column(Float)
    passed: Mapped[bool]


class CheckRow(Base):
    """A check on a certified artefact: errors of size and length against the stated limits, mm."""

    __tablename__ = "checks"

    id: Mapped[int] = mapped_column(primary_key=True)
    instrument_id: Mapped[int] = mapped_column(ForeignKey("instruments.id"))
    artefact: Mapped[str] = mapped_column(String(120))
    at: Mapped[datetime] = mapped_column(DateTime)
    temperature: Mapped[float] = mapped_column(Float)
    operator: Mapped[str] = mapped_column(String(200))
    size_error: Mapped[float] = mapped_column(Float)
    length_error: Mapped[float] = mapped_column(Float)
    size_limit: Mapped[float] = mapped_column(Float)
    length_limit: Mapped[float] = mapped_column(Float)
    passed: Mapped[bool]


class ExerciseRow(Base):
    """One exercise of a learner: time, score from 0 to 100 and the debrief's words."""

    __tablename__ = "exercises"

    id: Mapped[int] = mapped_column(primary_key=True)
    learner: Mapped[str] = mapped_column(String(200))
    exercise: Mapped[str] = mapped_column(String(60))
    part: Mapped[str] = mapped_column(String(200))
    at: Mapped[datetime] = mapped_column(DateTime)
    seconds: Mapped[float] = mapped_column(Float)
    score: Mapped[float] = mapped_column(Float)
    words: Mapped[str] = mapped_column(Text)


class CaptureRow(Base):
    """A capture with a real device: seconds of recording, those that were estimated, and how much of what was promised it brought."""

    __tablename__ = "captures"
    __table_args__ = (UniqueConstraint("job", "began"),)

    id: Mapped[int] = mapped_column(primary_key=True)
    instrument_id: Mapped[int] = mapped_column(ForeignKey("instruments.id"))
    mode: Mapped[str] = mapped_column(String(120))
    job: Mapped[str] = mapped_column(String(64))
    part: Mapped[str] = mapped_column(String(200))
    began: Mapped[str] = mapped_column(String(40))
    at: Mapped[datetime] = mapped_column(DateTime)
    planned: Mapped[float] = mapped_column(Float)
    seconds: Mapped[float] = mapped_column(Float)
    promised: Mapped[float] = mapped_column(Float)
    coverage: Mapped[float] = mapped_column(Float)
