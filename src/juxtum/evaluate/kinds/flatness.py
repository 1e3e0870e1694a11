"""Flatness (ISO 1101, ISO 12781): the width of the narrowest zone between two parallel planes."""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal

import numpy as np
from pydantic import Field

from juxtum.errors import InputError
from juxtum.evaluate.characteristics import counting_rows, meaning_of_extreme
from juxtum.evaluate.drawn.frames import Frame
from juxtum.evaluate.drawn.references import Faces
from juxtum.evaluate.drawn.taken import NotSeenError, Taken
from juxtum.evaluate.fields import Finite, Numbers
from juxtum.evaluate.given import Given
from juxtum.evaluate.kinds.base import NOT_SHOWN, Strokes
from juxtum.evaluate.kinds.found import Found, width_of
from juxtum.evaluate.kinds.toleranced import Zoned
from juxtum.evaluate.tiles import make_tiles
from juxtum.geometry import Feature, Plane
from juxtum.geometry.arrays import Floats, orthonormal_frame

ZONE = "zone"
LEAST_TILES = 12
"""A plane fits a few tiles whatever the form."""
FEW = 20
"""So many of the highest and of the lowest places are added in a round."""
ROUNDS = 60


class Flatness(Zoned):
    """Flatness of a plane face, or of several faces in one plane, taken as one.

    Where the part lies does not matter. Heights over the surface are averaged over tiles; what noise adds to the highest
    and to the lowest of them by their choice is taken off.
    """

    tag: ClassVar[str] = "flatness"
    name: ClassVar[str] = "flatness"
    short: ClassVar[str] = "Flatness"
    side: ClassVar[str] = ZONE
    symbol: ClassVar[Strokes] = (((0.0, 0.8), (0.3, 0.3), (1.0, 0.3), (0.7, 0.8), (0.0, 0.8)),)
    method: ClassVar[str] = (
        "The distance of the two parallel planes, as near to each other as can be, that hold the whole surface between them "
        "(minimum zone, ISO 12781-1). Heights are averaged over tiles of 2 mm (less on parts under 40 mm), clear of sharp edges, "
        "roundings and the ends of the scan."
    )

    kind: Literal["flatness"] = "flatness"
    faces: Annotated[Numbers, Field(min_length=1)]
    least_seen: Annotated[Finite, Field(ge=0, le=1)] = 0.9
    criterion: Literal["zone", "gauss"] = "zone"
    """Whether the narrowest zone counts, or that about the plane of least squares."""

    def check_feature(self, feature: Feature, faces: Faces) -> None:
        """It needs a plane.

        Raises
        ------
        InputError
        """
        if not isinstance(feature, Plane):
            what = f"face {faces[0]} is not a plane, so it has no flatness"
            raise InputError(what, f"characteristic {self.id}", "Pick a plane face")

    def found(self, given: Given, member: tuple[Faces, ...], frame: Frame) -> Found:
        """Width of the zone."""
        deviation = given.deviation
        if given.touched(member[0]) is not None:
            return self._touched_form(self.take(given, member[0]))
        rows = counting_rows(deviation, member[0])
        if len(rows) < Plane.least:
            raise NotSeenError(NOT_SHOWN)
        places = _on_the_face(deviation.feet[rows], deviation.normals[rows[0]])
        distances = deviation.distances[rows] - given.judgement.chain.thickness_on(deviation.faces[rows])
        # A tilt is taken off the points, since a tile's mean lies where its points do and not where its middle is.
        tiles = make_tiles(deviation, rows, distances - _slope(places, distances))
        feet = deviation.feet[tiles.rows]
        places = _on_the_face(feet, deviation.normals[rows[0]])
        if (
            len(feet) < LEAST_TILES
            or np.linalg.matrix_rank(np.column_stack([places, np.ones(len(places))])) < Plane.least
        ):
            size = deviation.tile
            raise NotSeenError(
                f"only {len(feet)} tiles of {size:.2g} mm lie on it, too few to tell a form: touch it with a probe"
            )
        middle = _slope if self.criterion == "gauss" else middle_of_zone
        # What is not known of the two corrections is the same: which part of the scatter is shape.
        value, standard, top = width_of(tiles, tiles.means - middle(places, tiles.means))
        zone = "minimum zone" if self.criterion == "zone" else "zone about the plane of least squares"
        length = float(np.linalg.norm(np.ptp(places, axis=0)))
        words = f"width of the {zone}; {meaning_of_extreme(deviation)}"
        return Found(value, standard, length, feet[top], words, freedom=tiles.freedom)

    def _touched_form(self, taken: Taken) -> Found:
        """Width of the zone that holds the touches: form between them stays unknown."""
        places = _on_the_face(taken.places, taken.facing[0])
        if len(places) <= Plane.least:
            raise NotSeenError(f"{len(places)} touches are too few to tell a form")
        middle = _slope if self.criterion == "gauss" else middle_of_zone
        heights = taken.deviations
        value, standard, top = width_of(taken.tiles, heights - middle(places, heights))
        length = float(np.linalg.norm(np.ptp(places, axis=0)))
        return Found(value, standard, length, taken.places[top], "width of the zone that holds the touches")


def _on_the_face(feet: Floats, normal: Floats) -> Floats:
    """Places (N, 2) in the plane of a face, about their middle, mm."""
    return np.asarray((feet - feet.mean(0)) @ orthonormal_frame(normal)[:2].T)


def _slope(places: Floats, heights: Floats) -> Floats:
    """Height (N,) of the plane of least squares over each place."""
    rows = np.column_stack([places, np.ones(len(places))])
    return np.asarray(rows @ np.linalg.lstsq(rows, heights, rcond=None)[0])


def middle_of_zone(places: Floats, heights: Floats) -> Floats:
    """Height (K,) over each place of the plane in the middle of the narrowest zone that holds all heights.

    The plane whose largest vertical distance is least is a linear program (Chebyshev). It is solved over a few places to
    which those that lie farthest out are added until none lies farther, which is exact and quick for any number.

    Parameters
    ----------
    places : array (K, 2)
        mm, about their middle.
    heights : array (K,)
        mm; over a surface tilted by less than a degree they are as good as distances at right angles.

    Examples
    --------
    >>> corners = np.array([[0.0, 0], [1, 0], [0, 1], [1, 1]])
    >>> heights = np.array([0.0, 0.2, 0.2, 0.0])
    >>> float(np.ptp(heights - middle_of_zone(corners, heights)).round(6))
    0.2
    """
    size = float(np.abs(heights).max()) or 1.0
    rows = np.column_stack([places / (float(np.abs(places).max()) or 1.0), np.ones(len(places))])
    off = (heights - _slope(places, heights)) / size
    chosen = np.zeros(0, dtype=np.int64)
    middle = np.zeros(len(rows))
    for _ in range(ROUNDS):
        order = np.argsort(off)
        chosen = np.union1d(chosen, np.r_[order[:FEW], order[-FEW:]])
        *plane, half = _narrowest(rows[chosen], heights[chosen] / size)
        middle = rows @ plane
        off = heights / size - middle
        if np.abs(off).max() <= half + 1e-10:
            break
    return np.asarray(middle * size)


def _narrowest(rows: Floats, heights: Floats) -> Floats:
    """Plane (3,) and half width of the narrowest zone over a few places."""
    half = np.ones((len(rows), 1))
    inequalities = -np.block([[rows, half], [-rows, half]])
    bounds = [(None, None)] * 3 + [(0, None)]
    from scipy.optimize import linprog

    return np.asarray(
        linprog([0, 0, 0, 1], A_ub=inequalities, b_ub=-np.r_[heights, -heights], bounds=bounds, method="highs").x
    )
