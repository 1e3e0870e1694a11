"""The plan held against what happened, place by place: what was promised and came, what did not, and why."""

from __future__ import annotations

from dataclasses import dataclass
from enum import IntEnum
from typing import Any

import numpy as np

from juxtum.capture.live.coverage import Seen
from juxtum.capture.live.patch import State
from juxtum.capture.live.session import CaptureSession
from juxtum.geometry.arrays import Bools, Floats, Ints, frozen
from juxtum.geometry.kdtree import kd_tree
from juxtum.plan.blind import Cause, Method
from juxtum.plan.planner import Planner, chances
from juxtum.wording import percent

LIKELY = 0.5
"""A place is promised when it is captured with at least this chance."""
SMALLEST = 0.002
"""Faces of which less than this share of the whole is missing are not named."""
MOST_NAMED = 6
MOST_COARSER = 0.2
"""Points may be so much farther apart than planned, as a share, before a face counts as coarse."""


class Held(IntEnum):
    """How a place turned out; the order in which the stage's layers show it."""

    MISSING = 0
    MORE = 1
    KEPT = 2
    NEITHER = 3


@dataclass(frozen=True)
class Shortfall:
    """A face of which something that was promised is not captured: its number, the area in mm2, and why."""

    face: int
    area: float
    why: str


@dataclass(frozen=True, eq=False)
class Promise:
    """The whole of it.

    Parameters
    ----------
    promised : array (C,)
        Of each cell of the coverage.
    held : array (C,)
        Of each cell, values of `Held`.
    kept, missing, more : float
        Shares of the measured area, 0 to 1.
    coarse : tuple of int
        Faces that were to be refined, and were not.
    fine : float
        How far apart their points were to be, mm.
    """

    promised: Bools
    held: Ints
    kept: float
    missing: float
    more: float
    shortfalls: tuple[Shortfall, ...]
    coarse: tuple[int, ...] = ()
    fine: float = 0.0

    @property
    def words(self) -> str:
        """In one or two sentences."""
        said = f"As promised {percent(self.kept, 1)} of the area; promised and not captured {percent(self.missing, 1)}"
        said += f"; captured beyond the promise {percent(self.more, 1)}." if self.more > 0.0005 else "."
        if self.coarse:
            faces = f"face{'s' if len(self.coarse) > 1 else ''} {', '.join(map(str, self.coarse))}"
            said += f" The plan wants points {self.fine:g} mm apart on {faces}, where they are as coarse as elsewhere: refine there."
        return said

    def document(self) -> dict[str, Any]:
        """For scripts."""
        short = [{"face": s.face, "area": round(s.area, 1), "why": s.why} for s in self.shortfalls]
        shares = {"kept": self.kept, "missing": self.missing, "more": self.more}
        return {name: round(value, 4) for name, value in shares.items()} | {
            "shortfalls": short,
            "coarse": list(self.coarse),
        }


def promised_of(planner: Planner, places: Floats, faces: Ints) -> Bools:
    """Which places (N, 3) on faces (N,), numbers, the plan says will be captured."""
    ground = planner.ground()
    chance = chances(planner, planner.assess())
    missed = np.where(ground.covers, 1.0 - chance[:, None], 1.0)
    likely: Floats = 1.0 - missed.prod(0)
    for spot in planner.blind():
        if spot.method is Method.PROBE and spot.cause is not Cause.HIDDEN:
            likely[np.isin(ground.patches.faces + 1, spot.faces)] *= 1 - spot.share
    return np.asarray(likely[_nearest_patch(planner, places, faces)] >= LIKELY)


def _nearest_patch(planner: Planner, places: Floats, faces: Ints) -> Ints:
    """Row of the plan's patch (N,) on the same face that is nearest to each place."""
    patches = planner.ground().patches
    rows = np.zeros(len(places), dtype=np.int64)
    for number in np.unique(faces):
        mine, own = faces == number, np.flatnonzero(patches.faces + 1 == number)
        own = own if len(own) else np.arange(len(patches.places))
        rows[mine] = own[kd_tree(patches.places[own]).query(places[mine])[1]]
    return rows


def held_of(promised: Bools, captured: Bools) -> Ints:
    """How each place turned out, values of `Held`."""
    states = [Held.KEPT, Held.MISSING, Held.MORE]
    return np.select([promised & captured, promised & ~captured, captured], states, Held.NEITHER)


def hold_against(session: CaptureSession) -> Promise:
    """Promise and capture of a session, cell by cell."""
    cells, planner = session.cells, session.planner
    promised = promised_of(planner, cells.places, cells.faces)
    captured = session.coverage.seen >= Seen.ONE_PASS
    held = held_of(promised, captured)
    total = float(cells.areas.sum())
    kept, missing, more = (float(cells.areas[held == k].sum()) / total for k in (Held.KEPT, Held.MISSING, Held.MORE))
    return Promise(
        frozen(promised, bool),
        frozen(held, np.int64),
        kept,
        missing,
        more,
        _shortfalls(session, held == Held.MISSING, total),
        *_coarse(session),
    )


def _coarse(session: CaptureSession) -> tuple[tuple[int, ...], float]:
    """Faces that the plan wants refined and that no fine patch covers, and how fine."""
    planner, to_part = session.planner, session.map.to_part
    offer = next((p for p in planner.prices() if p.refined and p.base == planner.spacing()), None)
    if offer is None or to_part is None:
        return (), 0.0
    enough = offer.fine * (1 + MOST_COARSER)
    fine = [p for p in session.good if p.spacing <= enough]

    def is_refined(number: int) -> bool:
        centre = planner.nominal.face(number).centre[None]
        return any(p.zone is None or bool(p.zone.holds(centre)[0]) for p in fine)

    return tuple(number for number in offer.refined if not is_refined(number)), offer.fine


def _shortfalls(session: CaptureSession, missing: Bools, total: float) -> tuple[Shortfall, ...]:
    cells = session.cells
    found = []
    for number in np.unique(cells.faces[missing]):
        mine = missing & (cells.faces == number)
        area = float(cells.areas[mine].sum())
        if area >= SMALLEST * total:
            found.append(Shortfall(int(number), area, _why(session, mine)))
    return tuple(sorted(found, key=lambda s: -s.area)[:MOST_NAMED])


def _why(session: CaptureSession, mine: Bools) -> str:
    """The likeliest reason that some cells (C,) are missing."""
    cells, ground = session.cells, session.planner.ground()
    rows = _nearest_patch(session.planner, cells.places[mine], cells.faces[mine])
    looking = ground.covers[:, rows].any(1)
    wanted = {int(k) for k in np.unique(ground.views.setups[looking])}
    been = {p.position for p in session.good}
    if wanted and not wanted & been:
        return f"the part was not scanned in position {min(wanted) + 1}"
    counts = session.coverage.counts[mine]
    if (counts > 0).mean() > LIKELY:
        return f"seen, but with {percent(float((counts / session.coverage.needed[mine]).mean()), 0)} of the points that are needed"
    lost = [k + 1 for k in _targets_not_found(session)]
    if lost:
        return (
            f"nothing came from there; target{'s' if len(lost) > 1 else ''} {', '.join(map(str, lost[:5]))} not found"
        )
    if any(h.word == State.LOST for h in session.happenings):
        return "nothing came from there; the scanner lost its targets on the way"
    return "nobody looked there yet"


def _targets_not_found(session: CaptureSession) -> list[int]:
    """Planned targets that the device has not found."""
    found = set(session.map.planned_rows.values())
    return [k for k in range(len(session.planner.plan.targets)) if k not in found]
