"""From one feature to another: distance, thickness of a wall."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import ClassVar, Literal

import numpy as np

from juxtum.errors import InputError
from juxtum.evaluate.characteristics import extreme_of
from juxtum.evaluate.drawn.frames import Frame
from juxtum.evaluate.drawn.propagation import spread_of
from juxtum.evaluate.drawn.references import Faces
from juxtum.evaluate.drawn.taken import NotSeenError
from juxtum.evaluate.fields import Triple
from juxtum.evaluate.given import Given
from juxtum.evaluate.kinds.base import Strokes
from juxtum.evaluate.kinds.found import Found
from juxtum.evaluate.kinds.size import Sized
from juxtum.geometry.arrays import Floats, unit
from juxtum.geometry.features import Feature, Plane
from juxtum.nominal import Nominal

AXES = {"x": np.array([1.0, 0, 0]), "y": np.array([0, 1.0, 0]), "z": np.array([0, 0, 1.0])}


class Distance(Sized):
    """A distance between two features: the shortest between planes, axes and points, or along a direction."""

    tag: ClassVar[str] = "distance"
    name: ClassVar[str] = "distance"
    short: ClassVar[str] = "Distance"
    pairs: ClassVar[bool] = True
    symbol: ClassVar[Strokes] = (
        ((0.05, 0.1), (0.05, 0.9)),
        ((0.95, 0.1), (0.95, 0.9)),
        ((0.05, 0.5), (0.95, 0.5)),
        ((0.2, 0.38), (0.05, 0.5), (0.2, 0.62)),
        ((0.8, 0.38), (0.95, 0.5), (0.8, 0.62)),
    )
    method: ClassVar[str] = (
        "The distance of the features of least squares: between planes in their middle, between axes and points the shortest, or "
        "along X, Y, Z or a direction in the frame of the datums (ISO 14405-2)."
    )

    kind: Literal["distance"] = "distance"
    along: Literal["", "x", "y", "z", "3d"] | Triple = ""
    """Along which it counts; the shortest where nothing is said, between middles for 3d."""

    def of_drawn(self, features: list[Feature], nominal: Nominal) -> float:
        """Of the model."""
        middles = [nominal.middle_of(faces) for faces in self.members[0]]
        return abs(float(self._between(features[0], features[1], middles)))

    def found(self, given: Given, member: tuple[Faces, ...], frame: Frame) -> Found:
        """Of least squares."""
        taken = [self.take(given, faces) for faces in member]
        drawn = [given.deviation.nominal.middle_of(faces) for faces in member]
        fitted = [part.fit.feature for part in taken]

        def apart(features: Sequence[Feature]) -> float:
            moved = [feature.moved(frame.move) for feature in features]
            middles = [m if isinstance(f, Plane) else f.anchored(m).point for f, m in zip(moved, drawn, strict=True)]
            return abs(self._between(moved[0], moved[1], middles))

        value, spread = apart(fitted), spread_of(apart, fitted, [part.fit.covariance for part in taken])
        place = (taken[0].places.mean(0) + taken[1].places.mean(0)) / 2
        words = (
            "shortest distance"
            if self.along == ""
            else "between the middles"
            if self.along == "3d"
            else "along a direction"
        )
        framed = self._framed(frame, [feature.moved(frame.move) for feature in fitted], drawn)
        return Found(value, spread, max(value, 1e-6), place, words, framed=framed)

    def _framed(self, frame: Frame, features: Sequence[Feature], middles: Sequence[Floats]) -> float:
        """What a turn of the frame makes of a distance along one of its directions: shifts carry both ends along."""
        if self.along in ("", "3d"):
            return 0.0
        ends = [
            self._place(f, m if isinstance(f, Plane) else f.anchored(m).point)
            for f, m in zip(features, middles, strict=True)
        ]
        lever = np.cross(ends[1] - ends[0], self._direction)
        variance = float(lever @ frame.alignment.covariance[3:, 3:] @ lever)
        return float(np.sqrt(max(variance, 0.0)))

    @property
    def _direction(self) -> Floats:
        direction = AXES[self.along] if isinstance(self.along, str) else self.along
        return np.asarray(unit(np.array(direction)[None])[0])

    def _between(self, one: Feature, two: Feature, middles: list[Floats]) -> float:
        first, second = (self._place(f, m) for f, m in zip((one, two), middles, strict=True))
        if self.along == "3d":
            return float(np.linalg.norm(second - first))
        if self.along != "":
            return float((second - first) @ self._direction)
        return _shortest(one, two, middles)

    def _place(self, feature: Feature, middle: Floats) -> Floats:
        return np.asarray(feature.holds().brought_to(middle))


def _shortest(one: Feature, two: Feature, middles: list[Floats]) -> float:
    """Between planes in their middle, between axes along what is square to both, between points straight."""
    if isinstance(one, Plane) and isinstance(two, Plane):
        away = two.anchored(middles[1]).point - one.point
        back = one.anchored(middles[0]).point - two.point
        return (abs(float(away @ one.normal)) + abs(float(back @ two.normal))) / 2
    if isinstance(one, Plane) or isinstance(two, Plane):
        plane, other, middle = (one, two, middles[1]) if isinstance(one, Plane) else (two, one, middles[0])
        assert isinstance(plane, Plane)
        return abs(float(plane.distances(other.holds().brought_to(middle)[None])[0]))
    a, b = one.holds(), two.holds()
    if a.direction is None or b.direction is None or len(a.shifts) == 3 or len(b.shifts) == 3:
        first = a.brought_to(middles[1]) if len(a.shifts) < 3 else a.place
        return float(np.linalg.norm(b.brought_to(first) - a.brought_to(b.brought_to(first))))
    across = np.cross(a.direction, b.direction)
    if np.linalg.norm(across) > 0.05:
        return abs(float((b.place - a.place) @ unit(across[None])[0]))
    middle = (middles[0] + middles[1]) / 2
    return float(np.linalg.norm(b.brought_to(middle) - a.brought_to(middle)))


class Thickness(Sized):
    """The thickness of a wall between two faces."""

    tag: ClassVar[str] = "thickness"
    name: ClassVar[str] = "wall thickness"
    short: ClassVar[str] = "Wall thickness"
    worst_counts: ClassVar[bool] = True
    pairs: ClassVar[bool] = True
    symbol: ClassVar[Strokes] = (
        ((0.3, 0.05), (0.3, 0.95)),
        ((0.7, 0.05), (0.7, 0.95)),
        ((0.0, 0.5), (0.3, 0.5)),
        ((1.0, 0.5), (0.7, 0.5)),
    )
    method: ClassVar[str] = (
        "From each place of one side straight through the wall to the other (ISO 14405-1, local size); the one that is worst counts. Places are means over "
        "tiles of 2 mm (less on parts under 40 mm), and what noise adds by the choice is taken off."
    )

    kind: Literal["thickness"] = "thickness"

    def of_drawn(self, features: list[Feature], nominal: Nominal) -> float:
        """Of the model: the median through the wall."""
        mesh = nominal.face_mesh(self.members[0][0])
        places, facing = mesh.corners.mean(1), mesh.triangle_normals
        hits = _through(places, facing, features[1])
        if not np.isfinite(hits).any():
            raise InputError(
                "its two sides do not lie behind each other", f"characteristic {self.id}", "Name both sides of one wall"
            )
        return float(np.nanmedian(hits))

    def found(self, given: Given, member: tuple[Faces, ...], frame: Frame) -> Found:
        """The worst place."""
        one, two = (self.take(given, faces) for faces in member)
        from scipy.spatial import cKDTree

        drawn = _through(one.places, one.facing, two.nominal)
        feet = one.places - one.facing * np.nan_to_num(drawn)[:, None]
        apart, other = cKDTree(two.places).query(feet)
        good = np.isfinite(drawn) & (apart < 4.0)
        if good.sum() < 3:
            raise NotSeenError(
                "the scan does not show both sides of the wall behind each other", next="Scan both sides"
            )
        slope = np.abs(np.einsum("ij,ij->i", one.facing[good], two.facing[other[good]]))
        widths = drawn[good] + one.deviations[good] + two.deviations[other[good]] * np.maximum(slope, 0.2)
        tiles = replace(one.tiles.some(good), means=widths)
        found = [extreme_of(tiles, sign, None) for sign in (1.0, -1.0)]
        middle = self.limits.nominal + (self.lower + self.upper) / 2
        worst = max(found, key=lambda e: abs(e.value - middle))
        return Found(
            worst.value,
            1.4 * worst.standard,
            worst.value,
            one.places[good][worst.tile],
            "the worst place of the wall",
            freedom=tiles.freedom,
        )


def _through(places: Floats, facing: Floats, feature: Feature) -> Floats:
    """How far (N,) it is from places against their directions to a surface; NaN where it is not met."""
    t = np.zeros(len(places))
    for _ in range(30):
        off = feature.distances(places - facing * t[:, None])
        ahead = feature.distances(places - facing * (t[:, None] + 1e-4))
        slope = (ahead - off) / 1e-4
        with np.errstate(divide="ignore", invalid="ignore"):
            t = np.where(np.abs(slope) > 1e-3, t - off / slope, np.nan)
    return np.where((t > 0) & (t < 1e4), t, np.nan)
