"""Curves for CAD: DXF with lines in space on named layers."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from juxtum.geometry.arrays import Floats

GREY, VIOLET, RUST, TEAL = 8, 6, 30, 140
"""Colours of the format's own table."""


@dataclass(frozen=True, eq=False)
class DxfLine:
    """A run of straight pieces in space.

    Parameters
    ----------
    layer : str
    points : array (N, 3)
        Part coordinates, mm.
    is_closed : bool
    """

    layer: str
    points: Floats
    is_closed: bool = False


@dataclass(frozen=True, eq=False)
class DxfCircle:
    """A circle, or an arc from one angle to another, in space.

    Parameters
    ----------
    centre, normal : array (3,)
    radius : float
    span : (array (3,), array (3,)), optional
        Points of its two ends, turning about the normal; a whole circle when not given.
    """

    layer: str
    centre: Floats
    normal: Floats
    radius: float
    span: tuple[Floats, Floats] | None = None


def write_dxf(path: Path, layers: dict[str, int], entities: Sequence[DxfLine | DxfCircle]) -> None:
    """Write entities in millimetres.

    Parameters
    ----------
    layers : dict
        Colour of each layer by its name.
    """
    # Late: the library takes its time to load.
    import ezdxf
    from ezdxf.math import OCS

    document = ezdxf.new("R2010")  # type: ignore[attr-defined,unused-ignore]
    document.header["$INSUNITS"] = 4
    document.header["$MEASUREMENT"] = 1
    for name, colour in layers.items():
        document.layers.add(name, color=colour)
    space = document.modelspace()
    for entity in entities:
        where = {"layer": entity.layer}
        if isinstance(entity, DxfLine):
            points = [tuple(map(float, p)) for p in entity.points]
            if len(points) == 2:
                space.add_line(points[0], points[1], dxfattribs=where)
            else:
                space.add_polyline3d(points, close=entity.is_closed, dxfattribs=where)
            continue
        frame = OCS(tuple(map(float, entity.normal)))
        centre = frame.from_wcs(tuple(map(float, entity.centre)))
        held = where | {"extrusion": tuple(map(float, entity.normal))}
        if entity.span is None:
            space.add_circle(centre, entity.radius, dxfattribs=held)
            continue
        ends = [np.array(frame.from_wcs(tuple(map(float, end)))) - np.array(centre) for end in entity.span]
        angles = [float(np.degrees(np.arctan2(end[1], end[0]))) for end in ends]
        space.add_arc(centre, entity.radius, angles[0], angles[1], dxfattribs=held)
    document.saveas(path)
