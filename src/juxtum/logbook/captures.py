"""How long captures took, against what was estimated for them: what later estimates count with."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from statistics import median

from sqlalchemy import select

from juxtum.capture.kept.document import CaptureRecord
from juxtum.instruments.models import InstrumentModel
from juxtum.instruments.owned import NOTHING_KNOWN, Pace
from juxtum.job import Job
from juxtum.logbook.book import Logbook
from juxtum.logbook.tables import CaptureRow, InstrumentRow
from juxtum.plan.cost.effort import HANDLING
from juxtum.plan.planner import Planner

FEWEST = 3
"""Captures from which a pace is taken: two may both have been unusual."""
LAST = 12
"""So many of the newest count; people get quicker."""
WHOLE = 0.9
"""A capture that brought less than this share of what was promised was broken off and tells nothing of the time."""
BELIEVED = (0.1, 10.0)
"""Ratios beyond these come from clocks or plans that had nothing to do with each other."""


@dataclass(frozen=True)
class CaptureEntry:
    """A capture that is to be written down.

    Parameters
    ----------
    job, began : str
        Identity of the job and when it began: what is taken up again later is the same capture.
    planned, seconds : float
        Of recording, as estimated without regard to any pace, and as it was.
    promised, coverage : float
        Share of the measured area that the plan promised and that was captured.
    """

    mode: str
    job: str
    part: str
    began: str
    planned: float
    seconds: float
    promised: float
    coverage: float


def entry_of(job: Job, planner: Planner, record: CaptureRecord) -> CaptureEntry | None:
    """What is worth writing down of a capture; None of a stand-in's, of one without a promise, and of one in several modes.

    Only what was recorded is timed, so the time for turning and looking is left out of the estimate too.
    """
    expected, mode = planner.plan.expected, planner.mode.name
    is_alike = {patch.mode for patch in record.patches} <= {mode, ""}
    if record.stand_in or expected is None or not record.patches or not is_alike:
        return None
    unpaced = replace(planner, owned=NOTHING_KNOWN).effort().effort.capture
    return CaptureEntry(
        mode, job.id, job.brief.part, record.began, 60 * unpaced / HANDLING, record.seconds, expected.coverage, record.one_pass
    )  # fmt: skip


def write_capture(book: Logbook, model: InstrumentModel, entry: CaptureEntry, at: datetime | None = None) -> CaptureRow:
    """Write a capture down, over what was written of it before."""
    instrument = book.instrument(model)
    with book.session() as session:
        row = session.scalars(select(CaptureRow).filter_by(job=entry.job, began=entry.began)).first()
        if row is None:
            row = CaptureRow(job=entry.job, began=entry.began)
            session.add(row)
        row.instrument_id, row.mode, row.part = instrument.id, entry.mode, entry.part[:200]
        row.planned, row.seconds = entry.planned, entry.seconds
        row.promised, row.coverage, row.at = entry.promised, entry.coverage, at or datetime.now()
        session.flush()
        return row


def captures_with(book: Logbook, model: str) -> Sequence[CaptureRow]:
    """All captures with the instruments of a model, the newest first."""
    with book.session() as session:
        query = select(CaptureRow).join(InstrumentRow, InstrumentRow.id == CaptureRow.instrument_id)
        return session.scalars(query.where(InstrumentRow.model == model).order_by(CaptureRow.at.desc())).all()


def counts(row: CaptureRow) -> bool:
    """Whether a capture tells how fast the shop works."""
    if row.planned <= 0 or row.seconds <= 0 or row.coverage < WHOLE * row.promised:
        return False
    return BELIEVED[0] <= row.seconds / row.planned <= BELIEVED[1]


def paces(book: Logbook) -> tuple[Pace, ...]:
    """How fast the shop works with each instrument and mode that enough captures tell of."""
    with book.session() as session:
        models = session.scalars(select(InstrumentRow.model).distinct().order_by(InstrumentRow.model)).all()
    made = []
    for model in models:
        by_mode: dict[str, list[float]] = {}
        for row in filter(counts, captures_with(book, model)):
            by_mode.setdefault(row.mode, []).append(row.seconds / row.planned)
        made += [
            Pace(model, mode, float(median(ratios[:LAST])), len(ratios[:LAST]))
            for mode, ratios in sorted(by_mode.items())
            if len(ratios) >= FEWEST
        ]
    return tuple(made)
