"""A section as strokes in its own plane: drawn, measured with deviations enlarged, and what is read from it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np

from juxtum.evaluate.readings import Reading
from juxtum.evaluate.sections import Section, SectionFeature
from juxtum.geometry.arrays import Floats, Ints
from juxtum.look import LIGHT, Look
from juxtum.scene.palette import MapScale, colours

Role = Literal["drawn", "measured", "whisker"]
MOST_WHISKERS = 500
TORN = 12.0
"""A measured curve is not drawn over steps so many times as long as its usual ones."""
IN_PLANE = 0.05
"""A reading so near to a plane lies in its section, mm."""
NICE = (1, 2, 5, 10, 20, 50, 100, 200, 500, 1000)


@dataclass(frozen=True, eq=False)
class Stroke:
    """A line of a picture.

    Parameters
    ----------
    points : array (N, 2)
        mm in the section's plane.
    colour : str
        As #RRGGBB.
    role : str
    is_closed : bool
    """

    points: Floats
    colour: str
    role: Role
    is_closed: bool = False


@dataclass(frozen=True, eq=False)
class Named:
    """A feature's number, or a reading with its value.

    Parameters
    ----------
    text : str
    place : array (2,)
        On the curve, mm.
    aside : array (2,)
        Unit direction in which it stands clear of the curve.
    """

    text: str
    place: Floats
    aside: Floats
    is_reading: bool = False


@dataclass(frozen=True, eq=False)
class SectionPicture:
    """What is drawn of a section.

    Parameters
    ----------
    strokes : tuple of Stroke
        Those below first.
    names : tuple of Named
    bounds : array (2, 2)
        Least and greatest coordinates, mm.
    enlarged : int
        How many times deviations are enlarged.
    shown, feet : array (K, 2)
        Measured points as they are drawn, and their places on the drawn curve, mm.
    """

    strokes: tuple[Stroke, ...]
    names: tuple[Named, ...]
    bounds: Floats
    enlarged: int
    shown: Floats
    feet: Floats


def usual_enlargement(sections: Sequence[Section]) -> int:
    """So that the largest deviations take a thirtieth of the picture."""
    sizes = [float(np.ptp(s.drawn.pieces[0], axis=0).max()) for s in sections if len(s.drawn.pieces[0])]
    found = [np.abs(s.found) for s in sections if len(s.found)]
    if not sizes or not found:
        return 1
    wanted = max(sizes) / 30 / max(float(np.quantile(np.concatenate(found), 0.99)), 1e-6)
    return max((n for n in NICE if n <= wanted), default=1)


def section_picture(
    section: Section, scale: MapScale, enlarged: int, look: Look = LIGHT, readings: Sequence[Reading] = ()
) -> SectionPicture:
    """Strokes of a section, with deviations so many times enlarged about the drawn curve, and readings that lie in it."""
    strokes = [Stroke(curve.points, look.ink_soft, "drawn", curve.is_closed) for curve in section.drawn.curves]
    # A rounded corner is no deviation across the curve: enlarged it would stick out as a spike.
    there = np.isfinite(section.deviations) & section.is_square
    shown = np.where(there[:, None], section.feet + enlarged * (section.points - section.feet), section.points)
    tints = colours(np.nan_to_num(section.deviations), scale, look)
    # Whiskers within tolerance would be as pale as paper.
    pale = colours(np.array([0.0]), scale, look)[0]
    rows = np.flatnonzero(there)
    for row in rows[:: max(len(rows) // MOST_WHISKERS, 1)]:
        tint = look.data if np.allclose(tints[row], pale) else _hex(tints[row])
        strokes.append(Stroke(np.stack([section.feet[row], shown[row]]), tint, "whisker"))
    kinds = np.where(there, section.faces, np.where(np.isfinite(section.deviations), -2, -1))
    for run in section.runs:
        strokes += _along(run, kinds, shown, look)
    if section.is_cloud:
        strokes += [Stroke(np.stack([p, p]), look.ink, "measured") for p in shown[:: max(len(shown) // 2000, 1)]]
    names = tuple(_named(f) for f in section.features if f.measured is not None and f.shape != "point")
    names += tuple(_read(r, section) for r in readings if abs(section.plane.heights(r.place[None])[0]) < IN_PLANE)
    bounds = np.concatenate([s.points for s in strokes]) if strokes else np.zeros((1, 2))
    box = np.stack([bounds.min(0), bounds.max(0)])
    return SectionPicture(tuple(strokes), names, box, enlarged, shown[there], section.feet[there])


def _along(run: Ints, kinds: Ints, shown: Floats, look: Look) -> list[Stroke]:
    """A measured curve, broken where it goes on to another face, round a corner, or to where there is no nominal."""
    mine = kinds[run]
    steps = np.linalg.norm(np.diff(shown[run], axis=0), axis=1)
    is_torn = (mine[1:] != mine[:-1]) | (steps > TORN * max(float(np.median(steps)), 1e-9) if len(steps) else False)
    pieces = np.split(run, np.flatnonzero(is_torn) + 1)
    return [
        Stroke(shown[piece], look.proud[2] if kinds[piece[0]] == -1 else look.ink, "measured")
        for piece in pieces
        if len(piece) > 1 and kinds[piece[0]] != -2
    ]


def _named(feature: SectionFeature) -> Named:
    """At the middle of a line, out of the material; on an arc or a circle, away from its centre; within an end of a slot."""
    number, drawn = feature.name.split()[-1], feature.drawn
    if feature.shape == "line":
        return Named(number, drawn.point, np.array([drawn.direction[1], -drawn.direction[0]]))
    if feature.shape == "slot":
        # Its middle is where its two sides are named.
        return Named(number, drawn.point + (drawn.length / 2 - abs(drawn.radius)) * drawn.direction, np.zeros(2))
    # An arc bulges to the right of its chord where it runs round material, to the left round a hole.
    right, up = feature.ends[1] - feature.ends[0]
    bulge = np.sign(drawn.radius) * np.array([up, -right])
    out = np.array([1.0, 1.0]) if feature.shape == "circle" else bulge
    length = float(np.linalg.norm(out))
    out = out / length if length > 1e-9 else np.array([1.0, 0.0])
    return Named(number, drawn.point + abs(drawn.radius) * out, out)


def _read(reading: Reading, section: Section) -> Named:
    """A reading out of the material, with its value as the ledger has it."""
    out = section.plane.turn(reading.normal[None])[0]
    length = float(np.linalg.norm(out))
    value = "not seen" if not reading.is_seen else f"{reading.deviation:+.3f}"
    aside = out / length if length > 1e-6 else np.array([1.0, 0.0])
    return Named(f"{reading.label} {value}", section.plane.flat(reading.place[None])[0], aside, is_reading=True)


def _hex(tint: Floats) -> str:
    return "#" + "".join(f"{round(255 * float(v)):02X}" for v in tint)
