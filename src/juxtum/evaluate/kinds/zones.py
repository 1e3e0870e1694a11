"""Profiles as a drawing gives them: one width of the zone, about the drawn surface where the datums put it (ISO 1660)."""

from __future__ import annotations

from typing import ClassVar, Literal

import numpy as np

from juxtum.errors import InputError
from juxtum.evaluate.characteristics import counting_rows, meaning_of_extreme
from juxtum.evaluate.drawn.frames import Frame
from juxtum.evaluate.drawn.references import Faces
from juxtum.evaluate.drawn.taken import NotSeenError
from juxtum.evaluate.fields import Finite
from juxtum.evaluate.given import Given
from juxtum.evaluate.kinds.base import Strokes
from juxtum.evaluate.kinds.found import Found, farthest_of
from juxtum.evaluate.kinds.profile import Profile
from juxtum.evaluate.kinds.toleranced import Zoned
from juxtum.evaluate.tiles import Tiles, make_tiles
from juxtum.evaluate.uncertainty import Budget, Sampling
from juxtum.geometry.arrays import Floats
from juxtum.nominal import Nominal

FEW = 4


class _Drawn(Zoned):
    """Twice the farthest of the surface from the middle of its zone."""

    unequal: Finite | None = None
    """How much of the width lies out of the material, mm; half of it where nothing is said."""
    least_seen: Finite = 0.9

    is_of_any_surface: ClassVar[bool] = True
    can_be_touched: ClassVar[bool] = False
    errors_count: ClassVar[float] = 2.0

    def check(self, nominal: Nominal) -> None:
        """No more than its width can lie outside.

        Raises
        ------
        InputError
        """
        super().check(nominal)
        if self.unequal is not None and not 0 <= self.unequal <= self.limit:
            raise InputError(
                f"of a zone of {self.limit:g} mm not {self.unequal:g} mm can lie outside",
                f"characteristic {self.id}",
                "Give less than its width",
            )

    @property
    def middle(self) -> float:
        """Of the zone, out of the material, mm."""
        return 0.0 if self.unequal is None else self.unequal - self.limit / 2

    def found(self, given: Given, member: tuple[Faces, ...], frame: Frame) -> Found:
        """Over tiles, where the datums put the surface."""
        deviation = given.deviation
        faces = tuple(face for feature in member for face in feature)
        rows = counting_rows(deviation, faces)
        if len(rows) < FEW:
            raise NotSeenError("the scan shows too little of it", next="Scan more of it")
        coat = given.judgement.chain.thickness_on(deviation.faces[rows])
        heights = deviation.distances[rows] - coat
        if self.datums:
            # The datums move the part by little against its size: what that makes of each height.
            moved = frame.move.apply(deviation.points[rows]) - deviation.points[rows]
            heights = heights + np.einsum("ij,ij->i", moved, deviation.normals[rows])
        tiles = make_tiles(deviation, rows, heights)
        if len(tiles.rows) < FEW:
            raise NotSeenError("the scan shows too little of it", next="Scan more of it")
        off, standard, top = farthest_of(tiles, self.levelled(tiles, deviation.feet[tiles.rows]) - self.middle)
        row = int(tiles.rows[top])
        place, normal = deviation.feet[row], deviation.normals[row]
        length = frame.length_to(place) or float(np.linalg.norm(np.ptp(deviation.feet[rows], axis=0)))
        words = f"twice the farthest from the middle of the zone; {meaning_of_extreme(deviation)}"
        framed = 2 * frame.spread(place, normal)
        return Found(2 * off, 2 * standard, length, place, words, freedom=tiles.freedom, framed=framed)

    def levelled(self, tiles: Tiles, places: Floats) -> Floats:
        """Heights (K,) that count."""
        return tiles.means

    def budget(self, given: Given, found: Found, sampling: Sampling) -> Budget:
        """Where the part lies counts as well, and its temperature."""
        return given.judgement.chain.budget(found.length, sampling, found.framed, self.faces[0])


class SurfaceProfile(_Drawn):
    """Profile of a surface with one width of its zone."""

    tag: ClassVar[str] = "profile-surface"
    name: ClassVar[str] = "profile of a surface, width of zone"
    short: ClassVar[str] = "Surface profile"
    symbol: ClassVar[Strokes] = Profile.symbol
    method: ClassVar[str] = (
        "Twice the largest distance of the surface from the middle of its zone, where the datums put it, or else the alignment in "
        "force (ISO 1660). Deviations are averaged over tiles of 2 mm (less on parts under 40 mm), clear of sharp edges, roundings and the ends of the scan."
    )

    kind: Literal["profile-surface"] = "profile-surface"


class LineProfile(_Drawn):
    """Profile of a line: in the worst of the sections across the surface."""

    tag: ClassVar[str] = "profile-line"
    name: ClassVar[str] = "profile of a line"
    short: ClassVar[str] = "Line profile"
    symbol: ClassVar[Strokes] = (Profile.symbol[0][:-1],)
    method: ClassVar[str] = (
        "Twice the largest distance of a line of the surface from the middle of its zone, where the datums put it, or else the "
        "alignment in force; the worst of all lines counts (ISO 1660). Deviations are averaged over tiles of 2 mm (less on parts under 40 mm), "
        "clear of sharp edges, roundings and the ends of the scan."
    )

    kind: Literal["profile-line"] = "profile-line"
