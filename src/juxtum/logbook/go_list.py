"""The go/no-go list: what the plan asks for before the capture, what is done, what is missing."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from enum import StrEnum
from typing import TYPE_CHECKING

from juxtum.capture.calibration.calibrating import order_for
from juxtum.instruments.coats import COATS, Coat
from juxtum.instruments.models import InstrumentModel
from juxtum.job import Job
from juxtum.job.readiness import Policy
from juxtum.plan.cost.preparing import soak_minutes
from juxtum.plan.planner import Planner

if TYPE_CHECKING:
    from juxtum.logbook.tables import CalibrationRow


KNOCK = "knock"
"""Written among the calibrations when somebody says that the instrument was knocked or dropped."""
HOURS, KELVIN = 8.0, 4.0
"""A calibration holds so long, and while the room is no more than so much warmer or colder than it was then."""


class Standing(StrEnum):
    """How an item stands."""

    DONE = "done"
    MISSING = "missing"
    TO_TICK = "to do"


@dataclass(frozen=True)
class GoItem:
    """One line of the list.

    Parameters
    ----------
    key : str
        Of what a person ticks; the others follow from the plan and the logbook.
    """

    key: str
    title: str
    standing: Standing
    words: str = ""

    @property
    def is_done(self) -> bool:
        """Whether it no longer holds the capture up."""
        return self.standing is Standing.DONE


def go_list(
    job: Job, planner: Planner, calibrations: Sequence[CalibrationRow], now: datetime | None = None
) -> tuple[GoItem, ...]:
    """Everything, in the order in which it is done."""
    items = [*_prepared(job, planner)]
    room = job.circumstances.environment.instrument_temperature
    items += _calibrations(planner.model, calibrations, now or datetime.now(), room)
    items.append(_ticked(job, "safe", "cautions read and site rules followed"))
    ready = job.readiness
    if ready.policy is not Policy.NONE:
        said = f"{ready.reason}; overridden by {ready.by}: {ready.note}"
        words = said if ready.note and not ready.objection else ready.reason
        standing = Standing.MISSING if ready.objection else Standing.DONE
        items.append(GoItem("", f"instrument: {ready.policy}", standing, words))
    return tuple(items)


def _prepared(job: Job, planner: Planner) -> list[GoItem]:
    """Plan, part, coat, targets, equipment and bars."""
    plan = planner.plan
    items = [
        GoItem(
            "",
            "plan",
            Standing.DONE if plan.is_tracked else Standing.MISSING,
            plan.targets_words if plan.is_tracked else "plan the targets first",
        ),
        _ticked(job, "warm", "instrument warm", f"{planner.model.warm_up_minutes:.0f} min switched on"),
        _ticked(job, "soak", "part at room temperature", _soak(planner, job)),
        _ticked(job, "clean", "part clean and dry"),
    ]
    if plan.coat != "none":
        items.append(_ticked(job, "coat", f"coated: {COATS[plan.coat].name}", _coat_words(job, COATS[plan.coat])))
    if plan.targets:
        items.append(
            _ticked(
                job,
                "targets",
                "targets stuck in their order",
                "see the set-up sheet" if plan.coat == "none" else "see the set-up sheet; no coat under or on them",
            )
        )
    if plan.equipment:
        names = ", ".join(item.name for item in plan.equipment)
        items.append(_ticked(job, "equipment", "part put down on its equipment", names))
    if planner.model.chain(plan.chain).needs == "bars":
        items.append(_ticked(job, "bars", f"{plan.bars} scale bars laid out"))
    return items


def is_go(items: Sequence[GoItem]) -> bool:
    """Whether nothing is missing."""
    return all(item.is_done for item in items)


def _ticked(job: Job, key: str, title: str, words: str = "") -> GoItem:
    tick = job.tick(key)
    if tick is None:
        return GoItem(key, title, Standing.TO_TICK, words)
    return GoItem(key, title, Standing.DONE, "; ".join(word for word in (words, tick.words) if word))


def _coat_words(job: Job, coat: Coat) -> str:
    """When the coat is dry and gone; by the clock once it is on."""
    worn = next((c for c in job.circumstances.coats if c.applied is not None), None)
    if worn is not None and worn.applied is not None:
        until = "" if worn.lasts is None else f", gone at {worn.applied + timedelta(minutes=worn.lasts):%H:%M}"
        return f"put on at {worn.applied:%H:%M}{until}"
    gone = "" if math.isinf(coat.lasts) else f", gone after {coat.lasts:.0f} min"
    return f"dry after {coat.drying:.0f} min{gone}"


def _soak(planner: Planner, job: Job) -> str:
    mass = planner.task.mass(planner.nominal)
    if math.isnan(mass):
        return ""
    minutes = soak_minutes(mass, planner.nominal.area, 10.0, capacity=planner.task.capacity)
    return f"about {minutes:.0f} min for 10 K"


def _calibrations(model: InstrumentModel, rows: Sequence[CalibrationRow], now: datetime, room: float) -> list[GoItem]:
    """Each kind in its order; what was calibrated before an earlier kind, a knock or another temperature no longer holds."""
    items, after = [], datetime.min
    knocked = max((r.at for r in rows if r.kind == KNOCK), default=datetime.min)
    for kind in order_for(model):
        last = next((r for r in rows if r.kind == kind.value), None)
        void = "not today" if last is None or last.at.date() != now.date() else _void(last, now, room, knocked)
        if last is None or void:
            items.append(GoItem("", f"{kind.value} calibrated", Standing.MISSING, void))
            after = datetime.max
        elif last.at < after:
            items.append(
                GoItem(
                    "", f"{kind.value} calibrated", Standing.MISSING, "again: what comes before it was calibrated later"
                )
            )
        elif not last.passed:
            items.append(
                GoItem(
                    "",
                    f"{kind.value} calibrated",
                    Standing.MISSING,
                    f"failed: {1000 * last.value:.0f} \u00b5m, {1000 * last.limit:.0f} allowed",
                )
            )
            after = datetime.max
        else:
            words = f"{last.at:%H:%M}, {1000 * last.value:.0f} of {1000 * last.limit:.0f} \u00b5m, {last.temperature:.1f} \u00b0C"
            items.append(GoItem("", f"{kind.value} calibrated", Standing.DONE, words))
            after = last.at
    return items


def _void(row: CalibrationRow, now: datetime, room: float, knocked: datetime) -> str:
    """Why a calibration of today no longer holds; empty while it does."""
    if row.at < knocked:
        return f"again: the instrument was knocked at {knocked:%H:%M}"
    if now - row.at > timedelta(hours=HOURS):
        return f"again: {HOURS:g} hours have passed since {row.at:%H:%M}"
    if abs(room - row.temperature) > KELVIN:
        colder = "warmer" if room > row.temperature else "colder"
        return f"again: it is {abs(room - row.temperature):.1f} K {colder} than it was then"
    return ""
