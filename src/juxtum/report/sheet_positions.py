"""The set-up sheet's pictures of how a part lies in each position, with the sides from which the scanner comes."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt

from juxtum.geometry import RigidTransform
from juxtum.geometry.arrays import Floats, box_corners, unit
from juxtum.look import LIGHT
from juxtum.plan.planner import Planner
from juxtum.plan.targets.approach import Approach, approaches
from juxtum.plan.targets.assess import Assessment
from juxtum.report import drawing as d
from juxtum.scene.drawables import nominal_edges, nominal_surface, segments
from juxtum.scene.stage import Detail, Stage

SIZE = (900, 640)
FROM = unit(np.array([-0.36, -0.87, 0.62]))
"""Where the pictures are taken from, table coordinates: along none of the sides, so that every arrow has a length."""
UP = np.array([0.0, 0.0, 1.0])
NEAR, FAR = 0.06, 0.30
"""Arrows end and begin so far off the part, of its diagonal."""
TABLE = 0.12
"""The table is drawn so much wider than the part, of its diagonal."""
LINE = 10.0
LONG = 2.0
"""A part longer than so many fields of view is followed along its length."""
MARK = 6.0


@dataclass(frozen=True, eq=False)
class PositionPicture:
    """The part as it lies in one position.

    Parameters
    ----------
    title : str
        Which position; empty where there is but one.
    is_long : bool
        Whether the part does not fit a field of view or two.
    arrows : array (N, 2, 2)
        From the scanner's side towards the part, in parts of width and height.
    """

    title: str
    pixels: npt.NDArray[np.uint8]
    sides: tuple[str, ...]
    is_long: bool
    arrows: Floats

    @property
    def caption(self) -> str:
        """From where to scan, in that order."""
        sides = ", ".join(f"{k} {words}" for k, words in enumerate(self.sides, 1))
        begun = f"{self.title}: scan from" if self.title else "Scan from"
        return f"{begun} {sides}" + ("; each along the whole part" if self.is_long else "")


def take_position_pictures(planner: Planner, assessment: Assessment) -> list[PositionPicture]:
    """One for each position of the part in which something is scanned."""
    ground = planner.ground()
    ways = approaches(ground, planner.holding(assessment))
    many = len(ground.views.turned) > 1
    stage = Stage()
    try:
        stage.put("nominal", nominal_surface(planner.nominal))
        stage.put("edges", nominal_edges(planner.nominal))
        made = []
        for number, lay in enumerate(ground.views.turned):
            sides = [way for way in ways if way.position == number]
            if sides:
                made.append(_taken(stage, planner, lay, sides, f"Position {number + 1}" if many else ""))
        return made
    finally:
        stage.close()


def _taken(stage: Stage, planner: Planner, lay: RigidTransform, sides: list[Approach], title: str) -> PositionPicture:
    """The eye goes round the part instead of turning the part."""
    width, height = SIZE
    back, corners = lay.inverse, lay.apply(box_corners(planner.nominal.mesh.bounds))
    if len(planner.ground().views.turned) > 1:
        stage.put("table", segments(back.apply(_table(corners).reshape(-1, 3)).reshape(-1, 2, 3)))
    ends = np.stack([_arrow(corners, side.direction) for side in sides])
    all_of_it = np.concatenate([corners, ends.reshape(-1, 3)])
    shown = back.apply(box_corners(np.stack([all_of_it.min(0), all_of_it.max(0)])))
    stage.eye.fit(np.stack([shown.min(0), shown.max(0)]), width / height, back.turn(FROM), back.turn(UP))
    pixels = stage.render(width, height, Detail.FULL)[:, :, :3].copy()
    places = stage.project(back.apply(ends.reshape(-1, 3)), width, height) / np.array([width, height])
    is_long = float(np.ptp(corners, axis=0).max()) > LONG * planner.mode.field[0]
    return PositionPicture(title, pixels, tuple(side.words for side in sides), is_long, places.reshape(-1, 2, 2))


def _table(corners: Floats) -> Floats:
    """The edge of the table under the part, ends of lines (4, 2, 3)."""
    margin = TABLE * float(np.linalg.norm(np.ptp(corners, axis=0)))
    low, high = corners.min(0)[:2] - margin, corners.max(0)[:2] + margin
    ring = np.array([[low[0], low[1], 0], [high[0], low[1], 0], [high[0], high[1], 0], [low[0], high[1], 0]])
    return np.stack([ring, np.roll(ring, -1, axis=0)], 1)


def _arrow(corners: Floats, direction: Floats) -> Floats:
    """Where the scanner comes from and where its arrow ends, off the part's box (2, 3)."""
    middle, diagonal = corners.mean(0), float(np.linalg.norm(np.ptp(corners, axis=0)))
    half = np.ptp(corners, axis=0) / 2
    out = float(np.min(half[np.abs(direction) > 1e-9] / np.abs(direction)[np.abs(direction) > 1e-9]))
    return np.stack([middle + direction * (out + far * diagonal) for far in (FAR, NEAR)])


def draw_position_pictures(
    canvas: Any, pictures: list[PositionPicture], corner: tuple[float, float], width: float
) -> None:
    """Two in a row below a corner of the page, each with what to do below it."""
    left, top = corner
    wide = (width - 12) / 2
    tall = wide * SIZE[1] / SIZE[0]
    for index, picture in enumerate(pictures):
        _draw(canvas, picture, left + index % 2 * (wide + 12), top - tall, wide)


def height_of(pictures: list[PositionPicture], width: float) -> float:
    """How much of the page they take, pt."""
    if not pictures:
        return 0.0
    wide = (width - 12) / 2
    return wide * SIZE[1] / SIZE[0] + 6 + LINE * max(len(_lines(p, wide)) for p in pictures)


def _lines(picture: PositionPicture, wide: float) -> list[str]:
    return d.wrapped(picture.caption, d.WORD, 8, wide)


def _draw(canvas: Any, picture: PositionPicture, x: float, y: float, wide: float) -> None:
    tall = wide * SIZE[1] / SIZE[0]
    d.picture(canvas, picture.pixels, (x, y, wide, tall))
    for number, ends in enumerate(picture.arrows, 1):
        tail, head = ((x + ax * wide, y + (1 - ay) * tall) for ax, ay in ends)
        d.arrow(canvas, tail, head, LIGHT.accent)
        d.disc(canvas, *tail, MARK, str(number))
    for k, line in enumerate(_lines(picture, wide)):
        d.write(canvas, x, y - 11 - LINE * k, line, d.WORD, 8)
