"""Pictures of the set-up sheet: the part from the sides that show its targets, and on its equipment."""

from __future__ import annotations

from dataclasses import dataclass
from itertools import product

import numpy as np
import numpy.typing as npt

from juxtum.geometry.arrays import unit
from juxtum.instruments.models import Kind, shipped
from juxtum.plan.photos.bars import lay_bars
from juxtum.plan.planner import Planner
from juxtum.plan.targets.approach import way_words
from juxtum.plan.targets.gear import Gear
from juxtum.plan.targets.targets import arrays
from juxtum.scene.camera import View
from juxtum.scene.drawables import nominal_edges, nominal_surface
from juxtum.scene.plan_layers import gear_ends, gear_lines
from juxtum.scene.stage import Detail, Stage

SIDES = (View.CORNER, View.FRONT, View.BACK, View.LEFT, View.RIGHT, View.TOP, View.BELOW)
PICTURE = (900, 600)
STRIP = (1400, 230)
UP = np.array([0.0, 0.0, 1.0])
LONG = 5.0
"""A part so many times longer than wide is also pictured in strips."""


@dataclass(frozen=True, eq=False)
class SheetPicture:
    """A view of the part and where its targets appear, in parts of width and height: number, x, y."""

    title: str
    pixels: npt.NDArray[np.uint8]
    marks: tuple[tuple[int, float, float], ...]
    bars: tuple[tuple[float, float, float, float], ...]

    @property
    def caption(self) -> str:
        """The title and how many targets the picture shows."""
        count = len(self.marks)
        return f"{self.title}: {count} target{'' if count == 1 else 's'}" if count else self.title


def take_sheet_pictures(planner: Planner, most: int = 10) -> tuple[list[SheetPicture], list[SheetPicture]]:
    """The views that show most targets not shown before; and, of a long part, its sides in strips."""
    stage = Stage()
    try:
        stage.put("nominal", nominal_surface(planner.nominal))
        stage.put("edges", nominal_edges(planner.nominal))
        gear = planner.ground().gear
        stage.put("gear", None if gear is None else gear_lines(gear))
        shown = {view: _visible(stage, planner, view) for view in SIDES}
        told = np.zeros(len(planner.plan.targets), dtype=bool)
        chosen: list[View] = []
        while len(chosen) < most and not told.all():
            view = max(shown, key=lambda v: (int((shown[v] & ~told).sum()), -SIDES.index(v)))
            if not (shown[view] & ~told).any():
                break
            told |= shown[view]
            chosen.append(view)
        pictures = [] if gear is None else [_standing(stage, planner, gear)]
        pictures += [_picture(stage, planner, view, shown[view]) for view in chosen]
        slanted = _slanted(stage, planner, told, most - len(chosen))
        return [*pictures, *slanted], _strips(stage, planner, shown)
    finally:
        stage.close()


def _slanted(stage: Stage, planner: Planner, told: npt.NDArray[np.bool_], most: int) -> list[SheetPicture]:
    """Views between the sides that show targets which no side shows, at most so many."""
    aspect = PICTURE[0] / PICTURE[1]
    ways = [w for w in product((-1, 0, 1), repeat=3) if sum(map(abs, w)) > 1]
    seen: list[npt.NDArray[np.bool_]] = []
    for way in () if told.all() else ways:
        stage.eye.fit(planner.nominal.mesh.bounds, aspect, unit(np.array(way, dtype=float)), UP)
        seen.append(_in_sight(stage, planner))
    made: list[SheetPicture] = []
    while len(made) < most and not told.all():
        best = max(range(len(ways)), key=lambda k: int((seen[k] & ~told).sum()))
        if not (seen[best] & ~told).any():
            break
        told = told | seen[best]
        stage.eye.fit(planner.nominal.mesh.bounds, aspect, unit(np.array(ways[best], dtype=float)), UP)
        made.append(_taken(stage, planner, f"From {way_words(ways[best])}", seen[best], PICTURE, bars=False))
    return made


def _visible(stage: Stage, planner: Planner, view: View) -> npt.NDArray[np.bool_]:
    """Targets that a view shows."""
    stage.look_from(view, PICTURE[0] / PICTURE[1])
    return _in_sight(stage, planner)


def _in_sight(stage: Stage, planner: Planner) -> npt.NDArray[np.bool_]:
    """Targets that the eye sees from where it is."""
    points, normals = arrays(planner.plan.placed)
    visible: npt.NDArray[np.bool_] = normals @ stage.eye.towards > 0.25
    visible[visible] = stage.visible(points[visible], ("nominal",))
    return visible


def _strips(stage: Stage, planner: Planner, shown: dict[View, npt.NDArray[np.bool_]]) -> list[SheetPicture]:
    """The sides of a part that is much longer than wide, cut into pieces that fill the page's width."""
    low, high = planner.nominal.mesh.bounds
    spans = np.sort(high - low)
    if spans[2] < LONG * spans[1] or int(np.argmax(high - low)) != 0:
        return []
    count = int(np.clip(np.ceil(spans[2] / (6.5 * spans[1])), 2, 5))
    strips = []
    for view in (View.FRONT, View.BACK, View.TOP, View.BELOW):
        for k in range(count):
            ends = low[0] + (high[0] - low[0]) * np.array([k, k + 1]) / count
            piece = np.array([[ends[0], low[1], low[2]], [ends[1], high[1], high[2]]])
            stage.look_from(view, STRIP[0] / STRIP[1])
            stage.eye.fit(piece, STRIP[0] / STRIP[1])
            title = f"{_title(view)}, X {ends[0]:.0f} to {ends[1]:.0f}".replace("-", "\u2212")
            strips.append(_taken(stage, planner, title, shown[view], STRIP, bars=False))
    return [s for s in strips if s.marks]


def _standing(stage: Stage, planner: Planner, gear: Gear) -> SheetPicture:
    """The part on its equipment, all of it."""
    stage.look_from(View.CORNER, PICTURE[0] / PICTURE[1])
    ends = np.concatenate([gear_ends(gear).reshape(-1, 3), planner.nominal.mesh.bounds])
    stage.eye.fit(np.stack([ends.min(0), ends.max(0)]), PICTURE[0] / PICTURE[1])
    names = ", ".join(item.name for item in gear.items)
    return _taken(stage, planner, f"On {names}", _in_sight(stage, planner), PICTURE, bars=False)


def _title(view: View) -> str:
    return {View.CORNER: "From the corner", View.BELOW: "From below"}.get(view, view.value.capitalize())


def _picture(stage: Stage, planner: Planner, view: View, visible: npt.NDArray[np.bool_]) -> SheetPicture:
    stage.look_from(view, PICTURE[0] / PICTURE[1])
    return _taken(stage, planner, _title(view), visible, PICTURE, bars=True)


def _taken(
    stage: Stage, planner: Planner, title: str, visible: npt.NDArray[np.bool_], size: tuple[int, int], *, bars: bool
) -> SheetPicture:
    """A picture of what the eye sees, with the places of the targets in it."""
    width, height = size
    pixels = stage.render(width, height, Detail.FULL)[:, :, :3].copy()
    points, _ = arrays(planner.plan.placed)
    spots = stage.project(points, width, height) / np.array([width, height])
    inside = visible & (spots > 0).all(1) & (spots < 1).all(1)
    marks = tuple((k + 1, float(x), float(y)) for k, (x, y) in enumerate(spots) if inside[k])
    lines = []
    for ends in _bars(planner) if bars else []:
        (x1, y1), (x2, y2) = stage.project(ends, width, height) / np.array([width, height])
        if min(x1, x2, y1, y2) >= 0 and max(x1, x2, y1, y2) <= 1:
            lines.append((float(x1), float(y1), float(x2), float(y2)))
    return SheetPicture(title, pixels, marks, tuple(lines))


def _bars(planner: Planner) -> list[npt.NDArray[np.float64]]:
    if planner.model.chain(planner.plan.chain).needs != "bars":
        return []
    laid = lay_bars(planner.nominal, shipped(Kind.PHOTO), planner.task.environment, planner.plan.bars)
    return [bar.ends for bar in laid]
