"""Pictures of the part for the report, drawn by the same renderer as the window."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from juxtum.evaluate import Reading
from juxtum.geometry.arrays import Floats
from juxtum.geometry.mesh import Scan
from juxtum.job import Evaluation
from juxtum.job.shares import ShownMap
from juxtum.scene.camera import View, view_direction
from juxtum.scene.drawables import foreign_surface, nominal_edges, page_map, passed_surface, unseen_surface
from juxtum.scene.palette import MapScale
from juxtum.scene.stage import Detail, Stage

SIDES = (View.FRONT, View.BACK, View.LEFT, View.RIGHT, View.TOP, View.BELOW)


@dataclass(frozen=True, eq=False)
class Pinned:
    """A reading and where it appears in a picture, in parts of its width and height from the top left."""

    reading: Reading
    x: float
    y: float


@dataclass(frozen=True, eq=False)
class Picture:
    """Pixels (H, W, 3) of a view and the readings that it shows."""

    view: View
    pixels: npt.NDArray[np.uint8]
    pinned: tuple[Pinned, ...]
    part: Floats
    """Where points of the part appear (N, 2), in parts of width and height."""


def take_pictures(
    evaluation: Evaluation, scan: Scan, shown: ShownMap, size: tuple[int, int] = (1400, 950)
) -> list[Picture]:
    """One perspective view and each of the six sides that shows data."""
    stage = Stage()
    try:
        fill_stage(stage, evaluation, scan, shown)
        half = size[0] * 5 // 8, size[1] * 5 // 8
        sides = [_picture(stage, evaluation, view, half) for view in _sides_with_data(evaluation)]
        return [_picture(stage, evaluation, View.CORNER, size), *sides]
    finally:
        stage.close()


def fill_stage(stage: Stage, evaluation: Evaluation, scan: Scan, shown: ShownMap) -> None:
    """Put the map, its limit lines, the part's edges and what was not seen on a stage."""
    normals = None if scan.normals is None else evaluation.alignment.transform.turn(scan.normals)
    stage.set_scale(MapScale(shown.lower, shown.upper, shown.colours))
    surface, lines = page_map(shown.deviation, scan.triangles, normals, (shown.lower, shown.upper))
    stage.put("map", surface)
    stage.put("limits", lines)
    stage.put("unseen", unseen_surface(evaluation.deviation))
    stage.put("foreign", foreign_surface(evaluation.deviation, scan.triangles, normals))
    stage.put("passed", passed_surface(evaluation.deviation))
    stage.put("edges", nominal_edges(evaluation.deviation.nominal))


def _sides_with_data(evaluation: Evaluation) -> list[View]:
    """The sides that look at more than a twentieth of what the best side looks at."""
    shares = {view: _facing(evaluation, view_direction(view)) for view in SIDES}
    return [view for view, share in shares.items() if share > 0.05 * max(shares.values())]


def _facing(evaluation: Evaluation, towards: Floats) -> float:
    d = evaluation.deviation
    found = d.found
    return float(d.weights[found] @ np.maximum(d.normals[found] @ towards, 0))


def _picture(stage: Stage, evaluation: Evaluation, view: View, size: tuple[int, int]) -> Picture:
    width, height = size
    stage.look_from(view, width / height)
    if view is View.CORNER:
        stage.eye.take_perspective()
    pixels = stage.render(width, height, Detail.FULL)[:, :, :3].copy()
    pinned: list[Pinned] = []
    if evaluation.readings:
        places = np.array([r.place for r in evaluation.readings])
        seen = stage.visible(places, ("map", "unseen"))
        spots = _relative(stage, places, width, height)
        pinned = [
            Pinned(r, float(x), float(y)) for r, (x, y), ok in zip(evaluation.readings, spots, seen, strict=True) if ok
        ]
    part = _relative(
        stage, evaluation.deviation.points[:: max(1, len(evaluation.deviation.points) // 5000)], width, height
    )
    return Picture(view, pixels, tuple(pinned), part)


def _relative(stage: Stage, places: Floats, width: int, height: int) -> Floats:
    return np.asarray(stage.project(places, width, height) / np.array([width, height]))
