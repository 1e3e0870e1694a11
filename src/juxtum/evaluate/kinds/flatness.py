"""Flatness (ISO 1101, ISO 12781): the width of the narrowest zone between two parallel planes."""

from __future__ import annotations

from dataclasses import replace
from typing import Annotated, ClassVar, Literal

import numpy as np
from pydantic import Field

from juxtum.errors import InputError
from juxtum.evaluate.characteristics import counting_rows, extreme_of, meaning_of_extreme
from juxtum.evaluate.decision import decide
from juxtum.evaluate.fields import Finite, Numbers
from juxtum.evaluate.given import Given
from juxtum.evaluate.kinds.base import Characteristic, Strokes, nothing_seen
from juxtum.evaluate.quantity import Aim, Limits, Measured, SideMeasured
from juxtum.evaluate.tiles import make_tiles, tile_size
from juxtum.evaluate.uncertainty import Sampling
from juxtum.geometry import Plane
from juxtum.geometry.arrays import Floats, frozen, orthonormal_frame
from juxtum.nominal import Nominal
from juxtum.nominal.common import common_feature

ZONE = "zone"
LEAST_TILES = 12
"""A plane fits a few tiles whatever the form."""
FEW = 20
"""So many of the highest and of the lowest places are added in a round."""
ROUNDS = 60


class Flatness(Characteristic):
    """Flatness of a plane face, or of several faces in one plane, taken as one.

    Where the part lies does not matter. Heights over the surface are averaged over tiles; what noise adds to the highest
    and to the lowest of them by their choice is taken off.
    """

    tag: ClassVar[str] = "flatness"
    name: ClassVar[str] = "flatness"
    short: ClassVar[str] = "Flatness"
    needs_faces: ClassVar[bool] = True
    symbol: ClassVar[Strokes] = (((0.0, 0.8), (0.3, 0.3), (1.0, 0.3), (0.7, 0.8), (0.0, 0.8)),)
    method: ClassVar[str] = (
        "The distance of the two parallel planes, as near to each other as can be, that hold the whole surface between them "
        "(minimum zone, ISO 12781-1). Heights are averaged over tiles of 2 mm, clear of sharp edges."
    )

    kind: Literal["flatness"] = "flatness"
    faces: Annotated[Numbers, Field(min_length=1)]
    limit: Annotated[Finite, Field(gt=0)] = Field(0.1, title="Width of the zone")
    criterion: Literal["zone", "gauss"] = "zone"
    """Whether the narrowest zone counts, or that about the plane of least squares."""

    @property
    def limits(self) -> Limits:
        """At most the width of the zone."""
        return Limits(None, self.limit)

    @property
    def aim(self) -> Aim:
        """The width of its zone, measured within its own faces."""
        return Aim(self.id, self.title, self.limit, self.faces, within=True)

    def check(self, nominal: Nominal) -> None:
        """See that its faces lie in one plane.

        Raises
        ------
        InputError
        """
        if not isinstance(common_feature(nominal, self.faces, f"flatness {self.id}"), Plane):
            raise InputError(
                f"face {self.faces[0]} is not a plane, so it has no flatness",
                f"characteristic {self.id}",
                "Pick a plane face",
            )

    def measure(self, given: Given) -> Measured:
        """Width of the minimum zone."""
        deviation, judgement = given.deviation, given.judgement
        rows = counting_rows(deviation, self.faces)
        seen = deviation.area_seen_of(self.faces)
        if len(rows) < Plane.least:
            return nothing_seen((ZONE,), seen)
        places = _on_the_face(deviation.feet[rows], deviation.normals[rows[0]])
        distances = deviation.distances[rows] - judgement.chain.thickness_on(deviation.faces[rows])
        # A tilt is taken off the points, since a tile's mean lies where its points do and not where its middle is.
        tiles = make_tiles(deviation, rows, distances - _slope(places, distances))
        feet = deviation.feet[tiles.rows]
        places = _on_the_face(feet, deviation.normals[rows[0]])
        if (
            len(feet) < LEAST_TILES
            or np.linalg.matrix_rank(np.column_stack([places, np.ones(len(places))])) < Plane.least
        ):
            reason = f"only {len(feet)} tiles of {tile_size(deviation.spacing):.2g} mm lie on it, too few to tell a form: touch it with a probe"
            return nothing_seen((ZONE,), seen, reason)
        middle = _slope if self.criterion == "gauss" else middle_of_zone
        tiles = replace(tiles, means=tiles.means - middle(places, tiles.means))
        top, bottom = extreme_of(tiles, 1.0, None), extreme_of(tiles, -1.0, None)
        value = max(top.value - bottom.value, 0.0)
        # What is not known of the two corrections is the same: which part of the scatter is shape.
        sampling = Sampling(top.standard + bottom.standard, int(tiles.counts.sum()), tiles.freedom)
        budget = judgement.chain.form_budget(float(np.linalg.norm(np.ptp(places, axis=0))), sampling, self.faces[0])
        decision = decide(value, budget.usable, None, self.limit, judgement.rule, judgement.guard)
        probability = decision.probability if budget.is_known else float("nan")
        place = frozen(feet[top.tile])
        side = SideMeasured(ZONE, value, budget, place, decision.verdict, probability, decision.reason)
        return Measured(
            (side,),
            len(rows),
            seen,
            f"width of the {'minimum zone' if self.criterion == 'zone' else 'zone about the plane of least squares'}; {meaning_of_extreme(deviation)}",
        )


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
