"""Opens a logbook, brings its tables up to date, and answers what the stations ask."""

from __future__ import annotations

import threading
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import date, datetime
from typing import Any, TypeVar

from sqlalchemy import Connection, Engine, create_engine, event, func, inspect, make_url, select, text
from sqlalchemy.exc import SQLAlchemyError
from sqlalchemy.orm import Session

from juxtum.errors import JobError
from juxtum.folders import data_folder
from juxtum.instruments.models import InstrumentModel
from juxtum.job.readiness import Policy, Readiness
from juxtum.logbook.tables import (
    ArtefactRow,
    Base,
    CalibrationRow,
    CertificateRow,
    CheckRow,
    ExerciseRow,
    InstrumentRow,
)

Row = TypeVar("Row", bound=Base)
TURN = 7_202_611
"""Number of the lock under which tables are made, as good as any."""


@dataclass(frozen=True)
class Entry:
    """A calibration or check that is to be written down.

    Parameters
    ----------
    kind : str
        Of a calibration; a check has none.
    value, limit : float
        What came out and the acceptance limit, mm.
    """

    kind: str
    artefact: str
    operator: str
    temperature: float
    value: float
    limit: float

    @property
    def passed(self) -> bool:
        """Whether it is within its limit."""
        return abs(self.value) <= self.limit


def _without_password(url: str) -> str:
    """A database address as it may be shown."""
    try:
        return make_url(url).render_as_string(hide_password=True)
    except SQLAlchemyError:
        return "the logbook's address"


def _engine(url: str) -> Engine:
    """The way to a database; SQLite is made to take changes of tables back with everything else."""
    address = make_url(url)
    if address.drivername in ("postgresql", "postgres"):
        address = address.set(drivername="postgresql+psycopg")
    engine = create_engine(address)
    if address.get_backend_name() == "sqlite":

        @event.listens_for(engine, "connect")
        def connected(connection: Any, _: object) -> None:
            # The driver would begin transactions late and end them at every change of a table.
            connection.isolation_level = None
            connection.execute("pragma foreign_keys=on")
            connection.execute("pragma busy_timeout=20000")

        @event.listens_for(engine, "begin")
        def begun(connection: Connection) -> None:
            connection.exec_driver_sql("begin immediate")

    return engine


def _clear_what_was_begun(connection: Connection) -> None:
    """Drop the empty tables of a first opening that was interrupted before it wrote which version they are.

    Raises
    ------
    JobError
        When they hold something.
    """
    known = set(inspect(connection).get_table_names())
    ours = known & set(Base.metadata.tables)
    if not ours or (
        "alembic_version" in known and connection.execute(text("select count(*) from alembic_version")).scalar()
    ):
        return
    tables = [table for table in reversed(Base.metadata.sorted_tables) if table.name in ours]
    if any(connection.execute(select(func.count()).select_from(table)).scalar() for table in tables):
        raise JobError(
            "the logbook does not say which version it is", "logbook", "Restore a copy of it, or name another logbook"
        )
    for table in tables:
        table.drop(connection)


class Logbook:
    """The logbook behind a database address.

    Parameters
    ----------
    url : str, optional
        Any that SQLAlchemy knows; a file in the user's data folder when not given.

    Raises
    ------
    JobError
        When it cannot be opened or was written by a newer program.
    """

    def __init__(self, url: str | None = None) -> None:
        self.url = url or f"sqlite:///{data_folder() / 'logbook.sqlite'}"
        self._lock = threading.RLock()
        self._where = _without_password(self.url)
        try:
            self._engine = _engine(self.url)
            self._upgrade()
        except (SQLAlchemyError, OSError) as problem:
            raise JobError(
                "the logbook cannot be opened", self._where, "Check the file and its folder, or name another logbook"
            ) from problem

    def _upgrade(self) -> None:
        from alembic import command
        from alembic.config import Config
        from alembic.util import CommandError

        config = Config()
        config.set_main_option("script_location", "juxtum.logbook:migrations")
        try:
            with self._engine.begin() as connection:
                if connection.dialect.name == "postgresql":
                    # Programs that open a new logbook at once take turns; SQLite's transactions see to it themselves.
                    connection.execute(text("select pg_advisory_xact_lock(:number)"), {"number": TURN})
                _clear_what_was_begun(connection)
                config.attributes["connection"] = connection
                command.upgrade(config, "head")
        except CommandError as problem:
            raise JobError(
                "the logbook was written by a newer program", self._where, "Use that one, or name another logbook"
            ) from problem

    @contextmanager
    def session(self) -> Iterator[Session]:
        with self._lock:
            try:
                with Session(self._engine, expire_on_commit=False) as session, session.begin():
                    yield session
            except SQLAlchemyError as problem:
                raise JobError(
                    "the logbook could not be read or written", self._where, "Check the file and the free space"
                ) from problem

    def close(self) -> None:
        """Let the database go."""
        self._engine.dispose()

    # -- what is in it ----------------------------------------------------------------------------------------

    def instrument(self, model: InstrumentModel, serial: str = "") -> InstrumentRow:
        """The row of an instrument, entered when it is new, without a certificate: that is for a person to enter."""
        with self.session() as session:
            row = session.scalars(select(InstrumentRow).filter_by(model=model.id, serial=serial)).first()
            if row is None:
                row = InstrumentRow(model=model.id, name=model.name, serial=serial)
                session.add(row)
                session.flush()
            return row

    def set_due(self, what: InstrumentRow | ArtefactRow, certificate: str, due: date | None, by: str = "") -> None:
        """A new certificate of an instrument or an artefact, or none any more; the ones before stay in its history.

        Raises
        ------
        JobError
            When it has been taken out of the logbook.
        """
        with self.session() as session:
            row: InstrumentRow | ArtefactRow | None = session.get(type(what), what.id)  # type: ignore[assignment]
            if row is None:
                raise JobError(f"{what.name} is no longer in the logbook", "logbook", "Choose another")
            is_new = certificate and (row.certificate, row.due) != (certificate, due)
            row.certificate, row.due = certificate, due
            if is_new:
                owner = {"instrument_id" if isinstance(row, InstrumentRow) else "artefact_id": row.id}
                session.add(CertificateRow(number=certificate, due=due, entered=datetime.now(), entered_by=by, **owner))

    def artefacts(self) -> Sequence[ArtefactRow]:
        """All artefacts, by name."""
        with self.session() as session:
            return session.scalars(select(ArtefactRow).order_by(ArtefactRow.name)).all()

    def artefact(self, name: str) -> ArtefactRow:
        """An artefact by its name.

        Raises
        ------
        JobError
        """
        for row in self.artefacts():
            if row.name == name:
                return row
        raise JobError(f"the register knows no artefact '{name}'", "register", "Enter it first")

    def add_calibration(self, instrument: InstrumentRow, entry: Entry, at: datetime | None = None) -> CalibrationRow:
        """Write a calibration down."""
        row = CalibrationRow(
            instrument_id=instrument.id, kind=entry.kind, at=at or datetime.now(), temperature=entry.temperature, artefact=entry.artefact,
            operator=entry.operator, value=entry.value, limit=entry.limit, passed=entry.passed,
        )  # fmt: skip
        return self._add(row)

    def add_check(self, instrument: InstrumentRow, size: Entry, length: Entry, at: datetime | None = None) -> CheckRow:
        """Write a check down: errors of size and of length on one artefact."""
        row = CheckRow(
            instrument_id=instrument.id, artefact=size.artefact, at=at or datetime.now(), temperature=size.temperature, operator=size.operator,
            size_error=size.value, length_error=length.value, size_limit=size.limit, length_limit=length.limit, passed=size.passed and length.passed,
        )  # fmt: skip
        return self._add(row)

    def add_exercise(self, row: ExerciseRow) -> ExerciseRow:
        """Write an exercise down."""
        return self._add(row)

    def _add(self, row: Row) -> Row:
        with self.session() as session:
            session.add(row)
            session.flush()
        return row

    def calibrations(self, instrument: InstrumentRow) -> Sequence[CalibrationRow]:
        """All calibrations of an instrument, the newest first."""
        with self.session() as session:
            return session.scalars(
                select(CalibrationRow).filter_by(instrument_id=instrument.id).order_by(CalibrationRow.at.desc())
            ).all()

    def checks(self, instrument: InstrumentRow) -> Sequence[CheckRow]:
        """All checks of an instrument, the newest first."""
        with self.session() as session:
            return session.scalars(
                select(CheckRow).filter_by(instrument_id=instrument.id).order_by(CheckRow.at.desc())
            ).all()

    def exercises(self, learner: str = "") -> Sequence[ExerciseRow]:
        """Exercises of a learner, or of all, the newest first."""
        with self.session() as session:
            query = select(ExerciseRow).order_by(ExerciseRow.at.desc())
            return session.scalars(query.filter_by(learner=learner) if learner else query).all()

    def readiness(self, policy: Policy, instrument: InstrumentRow, now: datetime | None = None) -> Readiness:
        """Whether a job's policy is met for an instrument, and if not, why."""
        now = now or datetime.now()
        if policy is Policy.NONE:
            return Readiness(policy=policy, is_met=True, reason="no check is asked for")
        if not instrument.certificate or instrument.due is None:
            return Readiness(policy=policy, is_met=False, reason=f"{instrument.name} has no certificate")
        if instrument.due < now.date():
            return Readiness(
                policy=policy,
                is_met=False,
                reason=f"the certificate {instrument.certificate} ran out on {instrument.due.isoformat()}",
            )
        if policy is Policy.CERTIFICATE:
            return Readiness(
                policy=policy,
                is_met=True,
                reason=f"certificate {instrument.certificate}, valid until {instrument.due.isoformat()}",
            )
        today = [check for check in self.checks(instrument) if check.at.date() == now.date() and check.at <= now]
        if not today:
            return Readiness(policy=policy, is_met=False, reason=f"{instrument.name} was not verified today")
        last = today[0]
        if wrong := self._wrong_with(last.artefact, now.date()):
            return Readiness(policy=policy, is_met=False, reason=f"today's check was made on {last.artefact}, {wrong}")
        if not last.passed:
            worst = f"{last.length_error:.3f} mm on {last.artefact}, the limit is {last.length_limit:.3f} mm"
            return Readiness(policy=policy, is_met=False, reason=f"today's check failed: {worst}")
        return Readiness(policy=policy, is_met=True, reason=f"verified at {last.at:%H:%M} on {last.artefact}")

    def _wrong_with(self, artefact: str, today: date) -> str:
        """Why an artefact is none to check on, or ""."""
        row = next((row for row in self.artefacts() if row.name == artefact), None)
        if row is None:
            return "which is not in the register"
        if not row.certificate or row.due is None:
            return "which has no certificate"
        return f"whose certificate ran out on {row.due.isoformat()}" if row.due < today else ""
