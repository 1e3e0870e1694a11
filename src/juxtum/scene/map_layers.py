"""What a map is drawn of: one row a layer, from what it is made to its picture."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, TypeVar

import numpy as np

from juxtum.evaluate import Deviation
from juxtum.geometry.arrays import Floats, Ints
from juxtum.geometry.mesh import TriangleMesh
from juxtum.scene.drawables import (
    Lines,
    Surface,
    foreign_surface,
    limit_field,
    limit_lines,
    map_surface,
    passed_surface,
    plain_surface,
    unseen_surface,
)

MOST_LINES = 40

T = TypeVar("T")
Keep = Callable[[str, Any, Callable[[], T]], T]


@dataclass(frozen=True, eq=False)
class MapGiven:
    """What the layers of a map are drawn from.

    Parameters
    ----------
    triangles : array (T, 3)
        Of the scan; none of a cloud.
    normals : array (N, 3), optional
        Of the scan, in part coordinates.
    limits : tuple of float
        Of the map, mm.
    invented : TriangleMesh, optional
        What is shown of the scan and was not measured, in part coordinates.
    keep : callable
        Given a name, what something was made from and how it is made: the same again for the same source.
    """

    deviation: Deviation
    triangles: Ints
    normals: Floats | None
    limits: tuple[float, float]
    keep: Keep[Any]
    invented: TriangleMesh | None = None
    every: float | None = None
    """Lines of the same value at each multiple of this, none where nothing is said."""


@dataclass(frozen=True)
class MapLayer:
    """A layer of the map: its name, which is that of its style, and how it is drawn; None where there is nothing of it."""

    name: str
    draw: Callable[[MapGiven], Surface | Lines | None]
    follows_limits: bool = False


def _limits(given: MapGiven) -> Lines | None:
    if not len(given.triangles):
        return None
    field = given.keep("limit field", given.deviation, lambda: limit_field(given.deviation, given.triangles))
    return limit_lines(field, given.limits)


def _isolines(given: MapGiven) -> Lines | None:
    """At most so many on either side of nothing: more would be a black part."""
    if given.every is None or not len(given.triangles):
        return None
    field = given.keep("limit field", given.deviation, lambda: limit_field(given.deviation, given.triangles))
    known = field.values[np.isfinite(field.values)]
    if not len(known):
        return None
    low, high = float(known.min()), float(known.max())
    first, last = int(np.ceil(low / given.every)), int(np.floor(high / given.every))
    levels = [k * given.every for k in range(max(first, -MOST_LINES), min(last, MOST_LINES) + 1)]
    return limit_lines(field, levels) if levels else None


MAP: tuple[MapLayer, ...] = (
    MapLayer("map", lambda g: map_surface(g.deviation, g.triangles, g.normals)),
    MapLayer("limits", _limits, follows_limits=True),
    MapLayer("isolines", _isolines, follows_limits=True),
    MapLayer("unseen", lambda g: unseen_surface(g.deviation)),
    MapLayer("foreign", lambda g: foreign_surface(g.deviation, g.triangles, g.normals)),
    MapLayer("passed", lambda g: passed_surface(g.deviation)),
    MapLayer("invented", lambda g: None if g.invented is None else plain_surface(g.invented)),
)
MAP_LAYERS = tuple(layer.name for layer in MAP)


def draw_map(given: MapGiven) -> dict[str, Surface | Lines | None]:
    """Every layer of a map by its name."""

    def drawn(layer: MapLayer) -> Surface | Lines | None:
        name = f"{layer.name} {given.limits} {given.every}" if layer.follows_limits else layer.name
        made: Surface | Lines | None = given.keep(name, given.deviation, lambda: layer.draw(given))
        return made

    return {layer.name: drawn(layer) for layer in MAP}
