"""Sections for others: numbers for programs, curves for CAD, a picture, and a table."""

from __future__ import annotations

import csv
import io
from collections.abc import Sequence
from pathlib import Path
from typing import Any
from xml.sax.saxutils import escape

import numpy as np

from juxtum.errors import InputError
from juxtum.evaluate.readings import Reading
from juxtum.evaluate.sections import Section, SectionFeature
from juxtum.exchange.dxf import GREY, RUST, TEAL, VIOLET, DxfCircle, DxfLine, write_dxf
from juxtum.exchange.writing import write_atomically
from juxtum.look import LIGHT
from juxtum.scene.palette import MapScale
from juxtum.scene.section_picture import SectionPicture, Stroke, section_picture, usual_enlargement

SUFFIXES = (".dxf", ".svg", ".csv")
COLUMNS = ("section", "curve", "point", "x", "y", "z", "right", "up", "face", "deviation")
WIDTH = 900.0
"""Of a picture, pixels."""


def section_document(section: Section) -> dict[str, Any]:
    """Numbers of a section; see docs/result-format.md."""
    found = section.found
    plane = section.plane
    return {
        "name": plane.name,
        "point": plane.point.tolist(),
        "normal": plane.normal.tolist(),
        "right": plane.axes[0].tolist(),
        "up": plane.axes[1].tolist(),
        "nominal": {"length": section.drawn.length, "area": section.drawn.area},
        "measured": {"length": section.measured_length, "area": section.measured_area, "points": len(section.points)},
        "seen": section.seen,
        "deviation": {
            "least": float(found.min()) if len(found) else None,
            "greatest": float(found.max()) if len(found) else None,
            "rms": float(np.sqrt(np.mean(found**2))) if len(found) else None,
            "points": len(found),
        },
        "features": [_feature(feature) for feature in section.features],
    }


def _feature(f: SectionFeature) -> dict[str, Any]:
    def piece(which: Any) -> dict[str, Any] | None:
        if which is None:
            return None
        if f.shape == "line":
            return {"point": which.point.tolist(), "angle": which.angle}
        if f.shape == "point":
            return {"point": which.point.tolist()}
        if f.shape == "slot":
            width, inside = 2 * abs(which.radius), which.radius < 0
            return {
                "centre": which.point.tolist(),
                "angle": which.angle,
                "length": which.length,
                "width": width,
                "inside": inside,
            }
        return {"centre": which.point.tolist(), "radius": abs(which.radius), "inside": which.radius < 0}

    return {
        "name": f.name,
        "shape": f.shape,
        "face": f.face,
        "nominal": piece(f.drawn),
        "measured": piece(f.measured),
        "deviation": f.deviation,
        "expanded_uncertainty": None if f.budget is None or not f.budget.is_known else f.budget.expanded,
        "turn": f.turn,
        "turn_expanded_uncertainty": f.turn_expanded,
        "length_expanded_uncertainty": f.length_expanded,
        "form": f.form,
        "points": f.count,
        "seen": f.seen,
        "reason": f.reason,
    }


def write_sections(
    path: Path,
    sections: Sequence[Section],
    scale: MapScale,
    enlarged: int | None = None,
    readings: Sequence[Reading] = (),
) -> None:
    """Write sections as the suffix says: .dxf in part coordinates, .svg with deviations enlarged, .csv point by point.

    Raises
    ------
    InputError
        For another suffix.
    JobError
        When it cannot be written.
    """
    suffix = path.suffix.lower()
    if suffix not in SUFFIXES:
        raise InputError(f"'{suffix or path.name}' is not a format for sections", str(path), "Use .dxf, .svg or .csv")
    if suffix == ".dxf":
        write_atomically(path, lambda there: _dxf(there, sections))
    elif suffix == ".svg":
        text = svg(sections, scale, enlarged or usual_enlargement(sections), readings)
        write_atomically(path, lambda there: there.write_text(text, "utf-8"))
    else:
        write_atomically(path, lambda there: there.write_text(_csv(sections), "utf-8"))


def _csv(sections: Sequence[Section]) -> str:
    out = io.StringIO()
    rows = csv.writer(out)
    rows.writerow(COLUMNS)
    for section in sections:
        name = section.plane.name
        for number, curve in enumerate(section.drawn.curves, 1):
            places = section.plane.space(curve.points)
            faces = section.drawn.faces[number - 1]
            for k, (flat, place) in enumerate(zip(curve.points, places, strict=True)):
                face = int(faces[min(k, len(faces) - 1)]) + 1
                rows.writerow([name, f"nominal {number}", k + 1, *_cells(place), *_cells(flat), face, ""])
        places = section.plane.space(section.points)
        for number, run in enumerate(section.runs or (np.arange(len(section.points)),), 1):
            for k, row in enumerate(run):
                value = section.deviations[row]
                named = str(section.faces[row] + 1) if section.faces[row] >= 0 else ""
                cell = "" if np.isnan(value) else f"{value:.5f}"
                rows.writerow(
                    [name, f"measured {number}", k + 1, *_cells(places[row]), *_cells(section.points[row]), named, cell]
                )
    return out.getvalue()


def _cells(values: Any) -> list[str]:
    return [f"{v:.5f}" for v in values]


def _dxf(path: Path, sections: Sequence[Section]) -> None:
    layers: dict[str, int] = {}
    entities: list[DxfLine | DxfCircle] = []
    for section in sections:
        plane, stem = section.plane, _layer(section.plane.name)
        names = {kind: f"{stem} {kind}" for kind in ("nominal", "measured", "deviations", "features")}
        layers |= dict(zip(names.values(), (GREY, VIOLET, RUST, TEAL), strict=True))
        for curve in section.drawn.curves:
            entities.append(DxfLine(names["nominal"], plane.space(curve.points), curve.is_closed))
        for curve in section.measured:
            entities.append(DxfLine(names["measured"], plane.space(curve.points), curve.is_closed))
        for row in np.flatnonzero(np.isfinite(section.deviations)):
            ends = plane.space(np.stack([section.feet[row], section.points[row]]))
            entities.append(DxfLine(names["deviations"], ends))
        entities += [made for f in section.features if (made := _entity(f, section, names["features"])) is not None]
    write_dxf(path, layers, entities)


def _layer(name: str) -> str:
    """A layer's name without the signs that the format keeps for itself."""
    return "".join("-" if c in '<>/\\":;?*|=`,' else c for c in name) or "section"


def _entity(feature: SectionFeature, section: Section, layer: str) -> DxfLine | DxfCircle | None:
    """The measured line or arc between the ends of the drawn one; what they make together is drawn by them."""
    piece, plane = feature.measured, section.plane
    if piece is None or feature.shape in ("slot", "point"):
        return None
    if feature.shape == "line":
        along = (feature.ends - piece.point) @ piece.direction
        return DxfLine(layer, plane.space(piece.point + along[:, None] * piece.direction))
    centre = plane.space(piece.point[None])[0]
    if feature.shape == "circle":
        return DxfCircle(layer, centre, plane.normal, abs(piece.radius))
    ends = plane.space(feature.ends if piece.radius > 0 else feature.ends[::-1])
    return DxfCircle(layer, centre, plane.normal, abs(piece.radius), (ends[0], ends[1]))


def svg(sections: Sequence[Section], scale: MapScale, enlarged: int, readings: Sequence[Reading] = ()) -> str:
    """A picture of sections below each other, each with a bar of its scale and its features in words."""
    parts, top = [], 0.0
    for section in sections:
        part, height = _svg_of(section, section_picture(section, scale, enlarged, readings=readings), top)
        parts.append(part)
        top += height
    head = (
        f'<svg xmlns="http://www.w3.org/2000/svg" width="{WIDTH:.0f}" height="{top:.0f}" '
        f'viewBox="0 0 {WIDTH:.0f} {top:.0f}" font-family="sans-serif" font-size="12" fill="{LIGHT.ink}">'
    )
    return (
        f'{head}\n<rect width="{WIDTH:.0f}" height="{top:.0f}" fill="{LIGHT.panel}"/>\n'
        + "\n".join(parts)
        + "\n</svg>\n"
    )


def _svg_of(section: Section, picture: SectionPicture, top: float) -> tuple[str, float]:
    size = np.maximum(np.ptp(picture.bounds, axis=0), 1e-6)
    factor = min((WIDTH - 80) / size[0], 640 / size[1])
    height = float(factor * size[1]) + 110
    low = picture.bounds[0]

    def at(points: Any) -> str:
        return " ".join(
            f"{40 + factor * (x - low[0]):.2f},{top + height - 60 - factor * (y - low[1]):.2f}" for x, y in points
        )

    lines = [_svg_stroke(stroke, at) for stroke in picture.strokes]
    for named in picture.names:
        away = (24 if named.is_reading else 11) / factor
        x, y = at((named.place + away * named.aside - [0.0, 4 / factor])[None]).split(",")
        lines.append(
            f'<text x="{x}" y="{y}" font-size="10" text-anchor="middle" fill="{LIGHT.accent}">{escape(named.text)}</text>'
        )
    bar = _round_length(120 / factor)
    foot = top + height - 30
    lines.append(f'<path d="M40 {foot:.1f} h{bar * factor:.2f}" stroke="{LIGHT.ink}" stroke-width="2"/>')
    words = (
        f"{bar:g} mm; deviations {picture.enlarged} times enlarged; {100 * section.seen:.0f} % of the drawn line seen"
    )
    lines.append(f'<text x="40" y="{foot + 16:.1f}">{escape(words)}</text>')
    lines.append(f'<text x="40" y="{top + 24:.1f}" font-size="15">{escape(section.plane.name)}</text>')
    return "\n".join(lines), height


def _svg_stroke(stroke: Stroke, at: Any) -> str:
    kind = "polygon" if stroke.is_closed else "polyline"
    width = {"drawn": 1.0, "measured": 1.4, "whisker": 0.8}[stroke.role]
    return f'<{kind} points="{at(stroke.points)}" fill="none" stroke="{stroke.colour}" stroke-width="{width}"/>'


def _round_length(length: float) -> float:
    """The next round length below."""
    power = 10.0 ** np.floor(np.log10(max(length, 1e-9)))
    return float(max(n for n in (1, 2, 5) if n * power <= length * 1.0000001) * power)
