"""Slots and corners of a section: what lines and arcs beside each other make together."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from juxtum.associate import gauss
from juxtum.errors import FitError
from juxtum.evaluate.sections.pieces import (
    EXACT,
    FEWEST,
    Piece,
    SectionFeature,
    Stretch,
    place_covariance,
    sampling_of,
    upright,
)
from juxtum.evaluate.uncertainty import Budget, Chain
from juxtum.geometry.arrays import Floats, Ints, frozen
from juxtum.geometry.features import Slot

SHARPEST = 0.17
"""Lines that meet at a smaller sine have no corner worth a place."""
APART = ("sampling", "alignment")
"""Lines of a budget that differ from one line of a section to the next."""
FLAT = (0, 1, 2, 5, 6)
"""Of a step of a slot what moves it in the plane: two offsets, a turn, length and width."""


@dataclass(frozen=True, eq=False)
class DrawnSlot:
    """Four stretches that make a slot or a stud with round ends.

    Parameters
    ----------
    members : tuple of int
        Rows of the stretches, in their order round it.
    drawn : Piece
        Its middle, the way of its length, half its width (negative of an opening) and its length.
    """

    members: tuple[int, ...]
    drawn: Piece


def drawn_slots(stretches: Sequence[Stretch]) -> list[DrawnSlot]:
    """Lines and arcs that close to a slot: two lines of one length that run back, two half circles of one radius."""
    after = _follows(stretches)
    found = []
    for first, stretch in enumerate(stretches):
        ring = [first]
        while len(ring) < 4 and after.get(ring[-1], -1) >= 0:
            ring.append(after[ring[-1]])
        is_ring = len(ring) == 4 and len(set(ring)) == 4 and after.get(ring[-1]) == first
        if stretch.shape == "line" and is_ring and first < ring[2]:
            made = _slot_of([stretches[k] for k in ring])
            if made is not None:
                found.append(DrawnSlot(tuple(ring), made))
    return found


def _follows(stretches: Sequence[Stretch]) -> dict[int, int]:
    """Which stretch begins where each ends."""
    begins = np.array([s.points[0] for s in stretches]).reshape(-1, 2)
    found: dict[int, int] = {}
    for row, stretch in enumerate(stretches):
        gaps = np.linalg.norm(begins - stretch.points[-1], axis=1)
        gaps[row] = np.inf
        nearest = int(np.argmin(gaps)) if len(gaps) else -1
        if nearest >= 0 and gaps[nearest] < EXACT:
            found[row] = nearest
    return found


def _slot_of(ring: Sequence[Stretch]) -> Piece | None:
    one, end, two, other_end = ring
    if (one.shape, end.shape, two.shape, other_end.shape) != ("line", "arc", "line", "arc"):
        return None
    radius, way = end.drawn.radius, one.drawn.direction
    centres = end.drawn.point, other_end.drawn.point
    apart = float(np.linalg.norm(centres[0] - centres[1]))
    is_slot = (
        abs(other_end.drawn.radius - radius) < 2 * EXACT
        and float(way @ two.drawn.direction) < -1 + 1e-6
        and abs(abs(float((centres[0] - centres[1]) @ way)) - apart) < 2 * EXACT
        and apart > 2 * EXACT
    )
    if not is_slot:
        return None
    return Piece(frozen((centres[0] + centres[1]) / 2), frozen(way), radius, apart + 2 * abs(radius))


def measured_slot(slot: DrawnSlot, bare: SectionFeature, points: Floats, chain: Chain) -> SectionFeature:
    """The slot that measured points (N, 2) of its walls make.

    Parameters
    ----------
    bare : SectionFeature
        Without what is measured.
    """
    if len(points) < 2 * FEWEST:
        return replace(bare, reason="the scan shows too little of it")
    drawn = slot.drawn
    flat, axis = upright(points), np.array([0.0, 0.0, 1.0])
    start = Slot(
        np.append(drawn.point, 0.0), axis, np.append(drawn.direction, 0.0), drawn.length, 2 * abs(drawn.radius)
    )
    # As a wall that stands on the plane: what is put over and under it keeps it upright.
    lifted = drawn.length * axis
    try:
        made = gauss(start, np.concatenate([flat + lifted, flat - lifted])).feature
    except FitError as problem:
        return replace(bare, reason=problem.what)
    off, rows = made.anchored(np.zeros(3)).linearised(flat)
    rows = rows[:, list(FLAT)]
    gains = np.asarray(np.linalg.pinv(rows), dtype=np.float64)
    spread, around, turn = float(np.std(off)), made.circumference, made.frame[:2, :2]
    wide, long = sampling_of(gains[4], spread, around), sampling_of(gains[3], spread, around)
    way = made.along[:2] if made.along[:2] @ drawn.direction > 0 else -made.along[:2]
    sign = np.sign(drawn.radius)
    piece = Piece(frozen(made.point[:2].copy()), frozen(way.copy()), float(sign * made.width / 2), float(made.length))
    halved = replace(wide, standard=wide.standard / 2)
    coat = float(chain.thickness_on(np.array([bare.face - 1]))[0])
    return replace(
        bare, measured=piece, form=float(np.ptp(off)), deviation=float(sign * made.width / 2 - drawn.radius) - coat,
        budget=chain.budget(made.width, halved, 0.0, bare.face),
        length_expanded=chain.budget(made.length, long, 0.0, bare.face).expanded,
        place=turn.T @ place_covariance(gains[:2], spread, around) @ turn,
    )  # fmt: skip


def corners(stretches: Sequence[Stretch], features: Sequence[SectionFeature], first: int) -> list[SectionFeature]:
    """The places where two lines beside each other meet, drawn and measured, numbered from `first`."""
    found: list[SectionFeature] = []
    for row, after in sorted(_follows(stretches).items()):
        one, two = features[row], features[after]
        if one.shape == two.shape == "line" and abs(_sine(one.drawn, two.drawn)) > SHARPEST:
            found.append(_corner(one, two, first + len(found)))
    return found


def _sine(one: Piece, two: Piece) -> float:
    return float(one.direction[0] * two.direction[1] - one.direction[1] * two.direction[0])


def _meeting(one: Piece, two: Piece) -> Piece:
    across = np.array([[p.direction[1], -p.direction[0]] for p in (one, two)])
    place = np.linalg.solve(across, [float(a @ p.point) for a, p in zip(across, (one, two), strict=True)])
    return Piece(frozen(place), frozen(np.zeros(2)))


def _corner(one: SectionFeature, two: SectionFeature, number: int) -> SectionFeature:
    drawn = _meeting(one.drawn, two.drawn)
    bare = SectionFeature(
        f"corner {number}", "point", one.face, drawn, None, frozen(np.stack([drawn.point, drawn.point])),
        one.count + two.count, np.nan, min(one.seen, two.seen), np.nan, None,
    )  # fmt: skip
    if one.measured is None or two.measured is None:
        missing = one if one.measured is None else two
        return replace(bare, reason=f"{missing.name} is not measured")
    measured = _meeting(one.measured, two.measured)
    off = measured.point - drawn.point
    reasons = [f"{f.name}: {f.reason}" for f in (one, two) if f.reason]
    return replace(
        bare, measured=measured, deviation=float(np.linalg.norm(off)), form=max(one.form, two.form),
        budget=_budget_of(one, two), reason="; ".join(reasons), place=_covariance(one, two, "sampling"),
    )  # fmt: skip


def _budget_of(one: SectionFeature, two: SectionFeature) -> Budget:
    """Of the direction in which the place is known worst: what lines are off by apart from each other, and what they share."""
    assert one.budget is not None and two.budget is not None
    larger = max((one.budget, two.budget), key=lambda budget: budget.standard if budget.is_known else 0.0)
    rest = [c for c in larger.contributions if not c.source.startswith(APART)]
    mine = [
        replace(c, standard=float(np.sqrt(np.linalg.eigvalsh(_covariance(one, two, source)).max())))
        for c in larger.contributions
        for source in APART
        if c.source.startswith(source)
    ]
    return replace(larger, contributions=(*rest, *mine), is_known=one.budget.is_known and two.budget.is_known)


def _covariance(one: SectionFeature, two: SectionFeature, source: str) -> Floats:
    """Covariance (2, 2) of where two lines meet, mm2, by one line of the budgets of their offsets.

    Those hold at the middle of a line; the data leave its ends less sure, since they turn it as well.
    """
    across = np.array([[f.drawn.direction[1], -f.drawn.direction[0]] for f in (one, two)])
    back, corner = np.linalg.inv(across), _meeting(one.drawn, two.drawn).point
    squares = []
    for f in (one, two):
        square = sum(c.standard**2 for c in f.budget.contributions if c.source.startswith(source)) if f.budget else 0.0
        if source == "sampling" and np.isfinite(f.turn_expanded):
            square += (np.radians(f.turn_expanded / 2) * float(np.linalg.norm(corner - f.drawn.point))) ** 2
        squares.append(square)
    return np.asarray(back @ np.diag(squares) @ back.T)


def rows_of(slot: DrawnSlot, stretches: Sequence[Stretch]) -> Ints:
    """All drawn pieces of a slot."""
    return np.concatenate([stretches[k].rows for k in slot.members])
