"""Sizes: diameter, radius, width, angle of a cone (ISO 14405)."""

from __future__ import annotations

from dataclasses import replace
from typing import Any, ClassVar, Literal, Self

import numpy as np
from pydantic import Field, model_validator

from juxtum.associate.zones import mating
from juxtum.errors import InputError
from juxtum.evaluate.characteristics import extreme_of
from juxtum.evaluate.drawn.frames import Frame
from juxtum.evaluate.drawn.references import Faces
from juxtum.evaluate.drawn.taken import Taken, middle_of, radius_of, width_between
from juxtum.evaluate.fields import Finite
from juxtum.evaluate.given import Given
from juxtum.evaluate.kinds.base import Strokes
from juxtum.evaluate.kinds.form import RING, slices
from juxtum.evaluate.kinds.found import Found, farthest_among
from juxtum.evaluate.kinds.toleranced import Toleranced
from juxtum.evaluate.quantity import Aim, Limits, LineResult
from juxtum.evaluate.uncertainty import Budget, Sampling
from juxtum.geometry.features import Cylinder, Feature, Plane, Sphere, Torus
from juxtum.nominal import Nominal
from juxtum.nominal.common import common_feature

Method = Literal["gauss", "two-point", "inscribed", "circumscribed"]
WORDS = {
    "gauss": "of least squares", "two-point": "between two points, the worst", "inscribed": "the largest inside", "circumscribed": "the smallest outside",
}  # fmt: skip


class Sized(Toleranced):
    """A size between two limits about its nominal."""

    worst_counts: ClassVar[bool] = False
    nominal: Finite | None = None
    """mm or degrees; from the drawing's model where it is not given."""
    lower: Finite = Field(-0.1, title="Lower deviation")
    upper: Finite = Field(0.1, title="Upper deviation")

    @model_validator(mode="after")
    def _ordered(self) -> Self:
        if self.lower >= self.upper:
            raise ValueError("the lower deviation must lie below the upper deviation")
        return self

    @property
    def limits(self) -> Limits:
        """Both limits; about nothing while the nominal is not known."""
        nominal = self.nominal or 0.0
        return Limits(nominal + self.lower, nominal + self.upper, nominal, self.unit)

    @property
    def aim(self) -> Aim:
        """The width between its limits."""
        return Aim(self.id, self.title, self.upper - self.lower, self.faces, within=True, unit=self.unit)

    def drawn(self, nominal: Nominal) -> float:
        """Its size as modelled.

        Raises
        ------
        InputError
        """
        self.check_members()
        features = [common_feature(nominal, faces, f"characteristic {self.id}") for faces in self.members[0]]
        for feature, faces in zip(features, self.members[0], strict=True):
            self.check_feature(feature, faces)
        return self.of_drawn(features, nominal)

    def of_drawn(self, features: list[Feature], nominal: Nominal) -> float:
        """The size of features as modelled."""
        raise NotImplementedError

    def resolved(self, nominal: Nominal) -> Self:
        """With its nominal from the model where none is given."""
        return self if self.nominal is not None else self.model_copy(update={"nominal": round(self.drawn(nominal), 9)})

    def result(self, given: Given) -> LineResult:
        """What was measured, and the verdict."""
        try:
            made = self.resolved(given.deviation.nominal)
        except InputError:
            made = self
        return super(Sized, made).result(given)

    def budget(self, given: Given, found: Found, sampling: Sampling) -> Budget:
        """Its temperature counts as well, and where it is taken along a direction, how surely that is known."""
        return given.judgement.chain.budget(found.length, sampling, found.framed, self.faces[0])


class Diameter(Sized):
    """A diameter."""

    tag: ClassVar[str] = "diameter"
    name: ClassVar[str] = "diameter"
    short: ClassVar[str] = "Diameter"
    symbol: ClassVar[Strokes] = (*RING, ((0.1, 0.95), (0.9, 0.05)))
    method: ClassVar[str] = (
        "The diameter of least squares (global size, ISO 14405-1 GG) where the drawing does not ask for another: between two points the local size that is "
        "worst, inscribed the largest pin that goes in, circumscribed the smallest ring that goes over; with an envelope both count."
    )

    kind: Literal["diameter"] = "diameter"
    size: Method = "gauss"
    envelope: bool = False
    """Whether the size that mates must keep the limit of most material as well."""
    factor: ClassVar[float] = 2.0

    def check_feature(self, feature: Feature, faces: Faces) -> None:
        """It needs a cylinder or a sphere.

        Raises
        ------
        InputError
        """
        if not isinstance(feature, Cylinder | Sphere):
            raise InputError(
                f"face {faces[0]} is a {feature.name}, which has no {self.name}",
                f"characteristic {self.id}",
                "Name a cylinder or a sphere",
            )

    def of_drawn(self, features: list[Feature], nominal: Nominal) -> float:
        """Of the model."""
        return self.factor * radius_of(features[0])

    def found(self, given: Given, member: tuple[Faces, ...], frame: Frame) -> Found:
        """The size that is asked for."""
        taken = self.take(given, member[0])
        made = self._sized(taken, self.size)
        if not self.envelope:
            return made
        mating = self._sized(taken, "inscribed" if taken.is_inside else "circumscribed")
        limit = self.limits.lower if taken.is_inside else self.limits.upper
        assert limit is not None
        beyond = limit - mating.value if taken.is_inside else mating.value - limit
        return mating if beyond > -self.limits.room(made.value) else made

    def _sized(self, taken: Taken, method: Method) -> Found:
        spread = self.factor * taken.fit.standards.get("radius", 0.0)
        if method == "two-point" and isinstance(taken.nominal, Cylinder):
            return self._local(taken)
        if method in ("inscribed", "circumscribed"):
            return self._mating(taken, inside=method == "inscribed")
        feature = taken.fit.feature
        value = self.factor * radius_of(feature)
        return Found(value, spread, value, feature.anchored(taken.places.mean(0)).point, f"{self.name} {WORDS[method]}")

    def _mating(self, taken: Taken, *, inside: bool) -> Found:
        """The largest inside or the smallest outside; what noise adds by the choice of the places that touch is taken off."""
        feature = mating(taken.fit.feature, taken.spots, inside=inside)
        sign = 1.0 if inside == taken.is_inside else -1.0
        extreme = extreme_of(taken.tiles, sign, None)
        excess = float((sign * taken.tiles.means).max()) - sign * extreme.value
        radius = radius_of(feature) + (excess if inside else -excess)
        spread = float(np.hypot(taken.fit.standards.get("radius", 0.0), extreme.standard))
        place = feature.anchored(taken.places.mean(0)).point
        words = f"{self.name} {WORDS['inscribed' if inside else 'circumscribed']}"
        return Found(
            self.factor * radius, self.factor * spread, self.factor * radius, place, words, freedom=taken.tiles.freedom
        )

    def _local(self, taken: Taken) -> Found:
        """Of all slices the local diameter that lies farthest from the middle of its limits."""
        found: dict[float, list[Found]] = {1.0: [], -1.0: []}
        nominal = self.factor * radius_of(taken.nominal)
        middle = (self.limits.lower + self.limits.upper) / 2 if self.limits.nominal else nominal  # type: ignore[operator]
        for rows in slices(taken):
            spots = taken.spots[rows]
            axis, point = taken.fit.feature.axis, taken.fit.feature.anchored(spots.mean(0)).point  # type: ignore[attr-defined]
            arms = spots - point - np.outer((spots - point) @ axis, axis)
            opposite = np.argmin(arms @ arms.T / np.outer(*(2 * [np.linalg.norm(arms, axis=1)])), axis=1)
            cosine = np.einsum("ij,ij->i", arms, arms[opposite]) / (
                np.linalg.norm(arms, axis=1) * np.linalg.norm(arms[opposite], axis=1)
            )
            across = cosine < -0.98
            if not across.any():
                continue
            local = np.linalg.norm(arms, axis=1) + np.linalg.norm(arms[opposite], axis=1)
            tiles = replace(taken.tiles.part(rows & _spread(rows, across), np.sqrt(2)), means=local[across])
            for sign in (1.0, -1.0):
                extreme = extreme_of(tiles, sign, None)
                found[sign].append(Found(self.factor / 2 * extreme.value, self.factor / 2 * extreme.standard, extreme.value, spots[across][extreme.tile],
                                   f"{self.name} {WORDS['two-point']}", freedom=tiles.freedom, alike=self.factor / 2 * extreme.unsure))  # fmt: skip
        ends = [end for sign, some in found.items() if (end := farthest_among(some, sign)) is not None]
        if not ends:
            return self._sized(taken, "gauss")
        # Which end counts is a choice between two as well, and widths share the tiles on either side: wider than each end says alone.
        worse = max(ends, key=lambda one: abs(one.value - middle))
        return replace(worse, standard=1.4 * worse.standard)


def _spread(rows: Any, chosen: Any) -> Any:
    """Of the rows that are chosen, those that are chosen again."""
    made = np.zeros(len(rows), dtype=bool)
    made[np.flatnonzero(rows)[chosen]] = True
    return made


class Radius(Sized):
    """A radius."""

    tag: ClassVar[str] = "radius"
    name: ClassVar[str] = "radius"
    short: ClassVar[str] = "Radius"
    symbol: ClassVar[Strokes] = (
        ((0.1, 0.9), (0.9, 0.1)),
        tuple((0.1 + 0.8 * float(np.cos(t)), 0.9 - 0.8 * float(np.sin(t))) for t in np.linspace(0, np.pi / 2, 17)),
    )
    method: ClassVar[str] = (
        "The radius of least squares of a cylinder, a sphere, or of either circle of a torus (ISO 14405-2)."
    )

    kind: Literal["radius"] = "radius"
    is_minor: bool = False
    """Of a torus: that of its tube."""

    def check_feature(self, feature: Feature, faces: Faces) -> None:
        """It needs something round.

        Raises
        ------
        InputError
        """
        if not isinstance(feature, Cylinder | Sphere | Torus):
            raise InputError(
                f"face {faces[0]} is a {feature.name}, which has no radius",
                f"characteristic {self.id}",
                "Name a cylinder, a sphere or a torus",
            )

    def of_drawn(self, features: list[Feature], nominal: Nominal) -> float:
        """Of the model."""
        return radius_of(features[0], is_minor=self.is_minor)

    def found(self, given: Given, member: tuple[Faces, ...], frame: Frame) -> Found:
        """Of least squares."""
        taken = self.take(given, member[0])
        value = radius_of(taken.fit.feature, is_minor=self.is_minor)
        spread = taken.fit.standards.get("minor radius" if self.is_minor else "radius", 0.0)
        return Found(value, spread, value, taken.places.mean(0), "radius of least squares")


class Width(Sized):
    """The width of a slot or a rib: the distance of two parallel sides."""

    tag: ClassVar[str] = "width"
    name: ClassVar[str] = "width"
    short: ClassVar[str] = "Width"
    pairs: ClassVar[bool] = True
    symbol: ClassVar[Strokes] = (((0.1, 0.1), (0.1, 0.9)), ((0.9, 0.1), (0.9, 0.9)), ((0.1, 0.5), (0.9, 0.5)))
    method: ClassVar[str] = (
        "The distance of the planes of least squares of both sides (global size, ISO 14405-1 GG); between two points the local width that is worst, "
        "inscribed and circumscribed the block that goes in or over."
    )

    kind: Literal["width"] = "width"
    size: Method = "gauss"
    envelope: bool = False
    """Whether the size that mates must keep the limit of most material as well."""

    def check_feature(self, feature: Feature, faces: Faces) -> None:
        """It needs planes.

        Raises
        ------
        InputError
        """
        if not isinstance(feature, Plane):
            raise InputError(
                f"face {faces[0]} is a {feature.name} and no plane",
                f"characteristic {self.id}",
                "Name two parallel planes, 14|22",
            )

    def of_drawn(self, features: list[Feature], nominal: Nominal) -> float:
        """Of the model."""
        one, two = features
        assert isinstance(one, Plane) and isinstance(two, Plane)
        if abs(float(one.normal @ two.normal)) < 0.999:
            raise InputError("its two sides are not parallel", f"characteristic {self.id}", "Name two parallel planes")
        return abs(float(one.distances(two.point[None])[0]))

    def found(self, given: Given, member: tuple[Faces, ...], frame: Frame) -> Found:
        """The size that is asked for."""
        one, two = (self.take(given, faces) for faces in member)
        value, is_slot = width_between(one, two)
        spread = float(np.sqrt(one.fit.covariance[0, 0] + two.fit.covariance[0, 0]))
        place = (one.places.mean(0) + two.places.mean(0)) / 2
        made = Found(value, spread, value, place, f"width {WORDS['gauss']}")
        method = self.size
        if method != "gauss":
            made = self._other(one, two, made, method, is_slot)
        if self.envelope:
            mate = self._other(one, two, made, "inscribed" if is_slot else "circumscribed", is_slot)
            made = mate if self.limits.room(mate.value) < self.limits.room(made.value) else made
        return made

    def _other(self, one: Taken, two: Taken, gauss: Found, method: str, is_slot: bool) -> Found:
        """From the heights of both sides over their middle plane: extremes of the sum, or of each alone."""
        plane = middle_of([one.fit.feature, two.fit.feature], [one.places, two.places], "width")
        sides = [np.abs(plane.distances(part.spots)) for part in (one, two)]
        extremes = [
            [extreme_of(replace(part.tiles, means=side), sign, None) for sign in (1.0, -1.0)]
            for part, side in zip((one, two), sides, strict=True)
        ]
        noise = float(np.linalg.norm([extremes[0][0].standard, extremes[1][0].standard, gauss.standard]))
        if method == "inscribed":
            return replace(
                gauss, value=sum(e[1].value for e in extremes), standard=noise, meaning=f"width {WORDS[method]}"
            )
        if method == "circumscribed":
            return replace(
                gauss, value=sum(e[0].value for e in extremes), standard=noise, meaning=f"width {WORDS[method]}"
            )
        local = self._locals(one, two, plane)
        if local is None:
            return gauss
        tiles, widths = local
        found = [extreme_of(replace(tiles, means=widths), sign, None) for sign in (1.0, -1.0)]
        middle = self.limits.nominal + (self.lower + self.upper) / 2
        worst = max(found, key=lambda e: abs(e.value - middle))
        return replace(
            gauss,
            value=worst.value,
            standard=1.4 * worst.standard,
            place=one.places[0],
            meaning=f"width {WORDS[method]}",
        )

    def _locals(self, one: Taken, two: Taken, plane: Plane) -> tuple[Any, Any] | None:
        """Widths where tiles of both sides face each other."""
        from scipy.spatial import cKDTree

        flat = [part.spots - np.outer(plane.distances(part.spots), plane.normal) for part in (one, two)]
        apart, other = cKDTree(flat[1]).query(flat[0])
        near = apart < 2.0
        if near.sum() < 3:
            return None
        widths = np.abs(plane.distances(one.spots[near])) + np.abs(plane.distances(two.spots[other[near]]))
        return one.tiles.some(near), widths
