"""Angles: between two features, and of a cone; degrees."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import ClassVar, Literal

import numpy as np

from juxtum.errors import InputError
from juxtum.evaluate.drawn.frames import Frame
from juxtum.evaluate.drawn.propagation import of_length, spread_of
from juxtum.evaluate.drawn.references import Faces
from juxtum.evaluate.given import Given
from juxtum.evaluate.kinds.base import Strokes
from juxtum.evaluate.kinds.found import Found
from juxtum.evaluate.kinds.size import Sized
from juxtum.evaluate.uncertainty import Budget, Sampling
from juxtum.geometry.features import Cone, Feature, Plane
from juxtum.nominal import Nominal


class ConeAngle(Sized):
    """The full angle of a cone, degrees."""

    tag: ClassVar[str] = "cone-angle"
    name: ClassVar[str] = "angle of a cone"
    short: ClassVar[str] = "Cone angle"
    unit: ClassVar[str] = "\u00b0"
    symbol: ClassVar[Strokes] = (
        ((0.1, 0.9), (0.5, 0.1), (0.9, 0.9)),
        tuple((0.5 + 0.45 * float(np.sin(t)), 0.1 + 0.45 * float(np.cos(t))) for t in np.linspace(-0.45, 0.45, 9)),
    )
    method: ClassVar[str] = "The full angle at the tip of the cone of least squares, degrees (ISO 3040)."

    kind: Literal["cone-angle"] = "cone-angle"

    def check_feature(self, feature: Feature, faces: Faces) -> None:
        """It needs a cone.

        Raises
        ------
        InputError
        """
        if not isinstance(feature, Cone):
            raise InputError(
                f"face {faces[0]} is a {feature.name} and no cone", f"characteristic {self.id}", "Name a cone"
            )

    def of_drawn(self, features: list[Feature], nominal: Nominal) -> float:
        """Of the model."""
        return _full(features[0])

    def found(self, given: Given, member: tuple[Faces, ...], frame: Frame) -> Found:
        """Of least squares."""
        taken = self.take(given, member[0])
        spread = float(np.degrees(2 * taken.fit.standards.get("half angle", 0.0)))
        return Found(
            _full(taken.fit.feature),
            spread,
            taken.size,
            taken.places.mean(0),
            "full angle of the cone of least squares",
        )

    def budget(self, given: Given, found: Found, sampling: Sampling) -> Budget:
        """The instrument's error over the wall, as an angle."""
        return angle_budget(super().budget(given, found, sampling), found)


def _full(feature: Feature) -> float:
    assert isinstance(feature, Cone)
    return float(np.degrees(2 * abs(feature.half_angle)))


def angle_budget(budget: Budget, found: Found) -> Budget:
    """Lengths of a budget as the angles that they make over the length of the feature, degrees; sampling is one already."""
    factor = float(np.degrees(1 / max(found.length, 1e-6)))
    lines = tuple(
        line if line.source.startswith("sampling") else replace(line, standard=line.standard * factor)
        for line in budget.contributions
    )
    return replace(budget, contributions=lines)


class Angle(Sized):
    """An angle between two features, degrees."""

    tag: ClassVar[str] = "angle"
    name: ClassVar[str] = "angle"
    short: ClassVar[str] = "Angle"
    unit: ClassVar[str] = "\u00b0"
    pairs: ClassVar[bool] = True
    symbol: ClassVar[Strokes] = (
        ((0.95, 0.9), (0.05, 0.9), (0.8, 0.1)),
        tuple((0.05 + 0.5 * float(np.cos(t)), 0.9 - 0.5 * float(np.sin(t))) for t in np.linspace(0, 0.82, 9)),
    )
    method: ClassVar[str] = (
        "The angle between the planes or axes of least squares, in that of its quadrants in which the nominal lies (ISO 14405-3); between surfaces the angle "
        "that the material has."
    )

    kind: Literal["angle"] = "angle"

    def check_feature(self, feature: Feature, faces: Faces) -> None:
        """It needs a direction.

        Raises
        ------
        InputError
        """
        if feature.holds().direction is None:
            raise InputError(
                f"face {faces[0]} is a {feature.name}, which has no direction",
                f"characteristic {self.id}",
                "Name planes, cylinders or cones",
            )

    def of_drawn(self, features: list[Feature], nominal: Nominal) -> float:
        """Of the model."""
        return _angle(features[0], features[1])

    def found(self, given: Given, member: tuple[Faces, ...], frame: Frame) -> Found:
        """Of least squares."""
        taken = [self.take(given, faces) for faces in member]
        fitted = [part.fit.feature for part in taken]
        nominal = self.nominal if self.nominal is not None else _angle(*(part.nominal for part in taken))

        def between(features: Sequence[Feature]) -> float:
            value = _angle(*features)
            return min((value, 180 - value), key=lambda v: abs(v - nominal))

        spread = spread_of(between, fitted, [part.fit.covariance for part in taken])
        value = between(fitted)
        if not all(isinstance(feature, Plane) for feature in fitted):
            # An axis that leans by nothing leans some way or other: the angle folds there, as the length of an offset does.
            with_plane = any(isinstance(feature, Plane) for feature in fitted)
            spread = of_length(spread, min(abs(90 - value), abs(90 + value)) if with_plane else min(value, 180 - value))
        words = "angle between the features of least squares"
        return Found(value, spread, min(part.size for part in taken), taken[0].places.mean(0), words)

    def budget(self, given: Given, found: Found, sampling: Sampling) -> Budget:
        """The instrument's error over the shorter feature, as an angle."""
        return angle_budget(super().budget(given, found, sampling), found)


def _angle(one: Feature, two: Feature) -> float:
    """Degrees: between planes that of the material, between axes the smaller, between an axis and a plane that to the plane."""
    a, b = one.holds().direction, two.holds().direction
    assert a is not None and b is not None
    share = float(np.clip(a @ b, -1.0, 1.0))
    if isinstance(one, Plane) and isinstance(two, Plane):
        return float(180 - np.degrees(np.arccos(share)))
    between = float(np.degrees(np.arctan2(np.linalg.norm(np.cross(a, b)), abs(share))))
    return 90 - between if isinstance(one, Plane) or isinstance(two, Plane) else between
