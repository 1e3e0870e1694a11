"""Run-out about the axis of a datum: circular and total (ISO 1101)."""

from __future__ import annotations

from typing import ClassVar, Literal

import numpy as np

from juxtum.errors import InputError
from juxtum.evaluate.drawn.frames import Frame
from juxtum.evaluate.drawn.references import Faces
from juxtum.evaluate.drawn.taken import NotSeenError, Taken, axis_alone
from juxtum.evaluate.given import Given
from juxtum.evaluate.kinds.base import Strokes
from juxtum.evaluate.kinds.form import SLICE_TILES
from juxtum.evaluate.kinds.found import Found, unbounded_width_of, worst_of
from juxtum.evaluate.kinds.toleranced import Zoned
from juxtum.geometry.arrays import Bools, Floats
from juxtum.geometry.features import Feature, Plane

ARROW: Strokes = (((0.1, 0.9), (0.85, 0.15)), ((0.55, 0.15), (0.85, 0.15), (0.85, 0.45)))
BESIDE, LEANING = 0.01, 1e-4
"""What was drawn nearer to the axis of the datum than so many mm, and leans to it by less than this, turns about it."""


class _RunOut(Zoned):
    """What a dial would show while the part turns about the datum's axis."""

    is_total: ClassVar[bool]
    errors_count: ClassVar[float] = 2**0.5
    offset_ways: ClassVar[tuple[int, int]] = (2, 2)

    needs_datum: ClassVar[bool] = True
    needs_axis: ClassVar[bool] = True

    def found(self, given: Given, member: tuple[Faces, ...], frame: Frame) -> Found:
        """The worst slice or ring, or all of it."""
        taken = self.take(given, member[0])
        axis = next((d.nominal for d in frame.datums if not isinstance(d.nominal, Plane)), None)
        direction = axis.holds().direction if axis is not None else None
        if axis is None or direction is None:
            raise InputError("its datum has no axis", f"characteristic {self.id}", "Name a cylinder as datum")
        if isinstance(taken.nominal, Plane) and abs(float(taken.nominal.normal @ direction)) < 0.9:
            what = f"face {member[0][0]} is a plane that does not face along the datum's axis"
            raise InputError(what, f"characteristic {self.id}", "Name a face that turns about it")
        self._turns_about(taken.nominal, axis, member[0][0])
        heights, groups = self._read(taken, frame, axis, direction)
        turns: list[Found] = []
        for rows in groups:
            tiles = taken.tiles.part(rows)
            width = unbounded_width_of(tiles, heights[rows])
            place, words = taken.places[rows][width.tile], self.short.lower()
            framed = 2 * frame.spread(place, taken.facing[rows][width.tile])
            turns.append(
                Found(width.value, width.standard, taken.size, place, words, freedom=tiles.freedom, framed=framed, alike=width.alike, ways=self.offset_ways[0])
            )  # fmt: skip
        if (worst := worst_of(turns)) is None:
            raise NotSeenError("no turn of it is seen well enough", next="Scan more of it, all round")
        return worst

    def _turns_about(self, drawn: Feature, axis: Feature, face: int) -> None:
        """What is round must have been drawn about the axis of the datum: else a dial would show how it was drawn.

        Raises
        ------
        InputError
        """
        own, datum = axis_alone(drawn).holds(), axis_alone(axis).holds()
        if isinstance(drawn, Plane) or datum.direction is None:
            return
        arm = own.place - datum.place
        beside = float(np.linalg.norm(arm - float(arm @ datum.direction) * datum.direction))
        leans = 0.0 if own.direction is None else float(np.linalg.norm(np.cross(own.direction, datum.direction)))
        if beside < BESIDE and leans < LEANING:
            return
        how = (
            f"its own lies {beside:.2f} mm beside it"
            if leans < LEANING
            else f"its own leans {np.degrees(np.arcsin(min(leans, 1.0))):.2f} degrees"
        )
        what = f"face {face} was not drawn about the axis of the datum: {how}"
        raise InputError(what, f"characteristic {self.id}", "Name a face that turns about it, or another datum")

    def _read(self, taken: Taken, frame: Frame, axis: Feature, direction: Floats) -> tuple[Floats, list[Bools]]:
        """What the dial shows at each tile (K,), and which tiles go together."""
        spots = frame.move.apply(taken.spots)
        arms = spots - axis.point
        along = arms @ direction
        reach = np.linalg.norm(arms - np.outer(along, direction), axis=1)
        drawn_arms = taken.places - axis.point
        drawn_along = drawn_arms @ direction
        drawn_reach = np.linalg.norm(drawn_arms - np.outer(drawn_along, direction), axis=1)
        is_facing = isinstance(taken.nominal, Plane) and abs(float(taken.nominal.normal @ direction)) > 0.9
        if is_facing:
            heights, across = along, drawn_reach
        else:
            # At right angles to the drawn surface: on a cone a dial stands so.
            steep = taken.facing @ direction
            radial = np.einsum(
                "ij,ij->i",
                taken.facing,
                (drawn_arms - np.outer(drawn_along, direction)) / np.maximum(drawn_reach, 1e-9)[:, None],
            )
            heights, across = radial * (reach - drawn_reach) + steep * (along - drawn_along), drawn_along
        if self.is_total:
            return heights, [np.ones(len(heights), dtype=bool)]
        span = max(float(np.ptp(across)), 1e-9)
        number = np.floor((across - across.min()) / span * max(int(span / 4.0), 1) * (1 - 1e-9))
        return heights, [rows for k in np.unique(number) if (rows := number == k).sum() >= SLICE_TILES]


class CircularRunOut(_RunOut):
    """Circular run-out."""

    tag: ClassVar[str] = "runout"
    name: ClassVar[str] = "circular run-out"
    short: ClassVar[str] = "Circular run-out"
    symbol: ClassVar[Strokes] = ARROW
    is_total: ClassVar[bool] = False
    method: ClassVar[str] = (
        "What a dial shows over one turn of the part about the axis of the datum, in the worst slice or ring (ISO 1101). Heights are averaged "
        "over tiles of 2 mm (less on parts under 40 mm)."
    )

    kind: Literal["runout"] = "runout"


class TotalRunOut(_RunOut):
    """Total run-out."""

    tag: ClassVar[str] = "total-runout"
    name: ClassVar[str] = "total run-out"
    short: ClassVar[str] = "Total run-out"
    symbol: ClassVar[Strokes] = (
        ((0.02, 0.9), (0.5, 0.2)),
        ((0.3, 0.2), (0.5, 0.2), (0.5, 0.42)),
        ((0.42, 0.9), (0.9, 0.2)),
        ((0.7, 0.2), (0.9, 0.2), (0.9, 0.42)),
    )
    is_total: ClassVar[bool] = True
    method: ClassVar[str] = (
        "What a dial shows that is led along the whole surface while the part turns about the axis of the datum (ISO 1101). Heights are "
        "averaged over tiles of 2 mm (less on parts under 40 mm)."
    )

    kind: Literal["total-runout"] = "total-runout"
