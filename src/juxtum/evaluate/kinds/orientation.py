"""Orientation to datums: parallelism, perpendicularity, angularity (ISO 1101)."""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal

import numpy as np
from pydantic import Field

from juxtum.errors import InputError
from juxtum.evaluate.drawn.frames import Frame
from juxtum.evaluate.drawn.references import Faces
from juxtum.evaluate.drawn.taken import Situation
from juxtum.evaluate.fields import Finite
from juxtum.evaluate.given import Given
from juxtum.evaluate.kinds.base import Strokes
from juxtum.evaluate.kinds.found import Found, width_of
from juxtum.evaluate.kinds.toleranced import Zoned
from juxtum.geometry.arrays import Floats, unit
from juxtum.geometry.features import Feature, Plane


class _Oriented(Zoned):
    """The zone lies as the datums say, wherever the feature is."""

    diametral: bool = False
    """Of an axis: whether its zone is a cylinder."""

    needs_datum: ClassVar[bool] = True

    def check_feature(self, feature: Feature, faces: Faces) -> None:
        """It needs a direction.

        Raises
        ------
        InputError
        """
        if feature.holds().direction is None:
            raise InputError(f"face {faces[0]} is a {feature.name}, which has no direction", f"characteristic {self.id}",
                             "Name a plane, a cylinder or a cone")  # fmt: skip

    def found(self, given: Given, member: tuple[Faces, ...], frame: Frame) -> Found:
        """Width of the zone that holds the surface or the axis."""
        at = self.situated(given, member)
        drawn, measured = at.nominal.holds().direction, at.measured.moved(frame.move).holds().direction
        assert drawn is not None and measured is not None
        drawn = self.wanted(drawn, frame)
        if isinstance(at.nominal, Plane):
            return self._surface(at, frame, frame.direction_for(drawn, measured))
        measured = measured if measured @ drawn >= 0 else -measured
        direction = frame.direction_for(drawn, measured)
        return self._axis(at, frame, direction, measured)

    def wanted(self, drawn: Floats, frame: Frame) -> Floats:
        """The direction as drawn; a kind may put another angle to its datum."""
        return drawn

    def _surface(self, at: Situation, frame: Frame, direction: Floats) -> Found:
        taken = at.parts[0]
        heights = frame.move.apply(taken.spots) @ direction
        value, standard, top = width_of(taken.tiles, heights)
        tilt = _tilt_of_frame(frame, direction) * taken.size
        words = "width of the zone as the datums turn it"
        return Found(value, standard, taken.size, taken.places[top], words, freedom=taken.tiles.freedom, framed=tilt)

    def _axis(self, at: Situation, frame: Frame, direction: Floats, measured: Floats) -> Found:
        axis, covariance = at.axis
        ends = np.array([axis.anchored(end).point for end in at.parts[0].ends])
        run = float(np.linalg.norm(ends[1] - ends[0]))
        off = measured - float(measured @ direction) * direction
        primary = frame.datums[0].nominal.holds().direction
        across = None if primary is None else primary - float(primary @ direction) * direction
        if (
            isinstance(frame.datums[0].nominal, Plane)
            and across is not None
            and np.linalg.norm(across) > 0.01
            and not self.diametral
        ):
            # Two planes that lie as the datum plane says: only what leans towards it counts.
            value, words, ways = (
                abs(float(off @ unit(across[None])[0])) * run,
                "distance of two planes that hold the axis",
                1,
            )
        else:
            value, words, ways = float(np.linalg.norm(off)) * run, "diameter of the cylinder that holds the axis", 2
        spread = float(np.sqrt(max(np.diag(covariance)[axis.tilts].max(), 0.0)))
        return Found(
            value,
            run * spread,
            run,
            ends.mean(0),
            words,
            framed=run * _tilt_of_frame(frame, direction),
            ways=ways,
        )


def _tilt_of_frame(frame: Frame, direction: Floats) -> float:
    """Standard uncertainty with which the datums turn a direction, radians."""
    turns = frame.alignment.covariance[3:, 3:]
    across = np.eye(3) - np.outer(direction, direction)
    return float(np.sqrt(max(np.linalg.eigvalsh(across @ turns @ across).max(), 0.0)))


class Parallelism(_Oriented):
    """Parallelism."""

    tag: ClassVar[str] = "parallelism"
    name: ClassVar[str] = "parallelism"
    short: ClassVar[str] = "Parallelism"
    symbol: ClassVar[Strokes] = (((0.1, 0.95), (0.55, 0.05)), ((0.45, 0.95), (0.9, 0.05)))
    method: ClassVar[str] = (
        "The width of the zone, parallel to the datum, that holds the surface; of an axis the diameter of the cylinder, or the distance of two planes "
        "parallel to a datum plane (ISO 1101). Heights are averaged over tiles of 2 mm (less on parts under 40 mm); axes are of least squares."
    )

    kind: Literal["parallelism"] = "parallelism"


class Perpendicularity(_Oriented):
    """Perpendicularity."""

    tag: ClassVar[str] = "perpendicularity"
    name: ClassVar[str] = "perpendicularity"
    short: ClassVar[str] = "Perpendicularity"
    symbol: ClassVar[Strokes] = (((0.5, 0.05), (0.5, 0.95)), ((0.05, 0.95), (0.95, 0.95)))
    method: ClassVar[str] = (
        "The width of the zone, at right angles to the datum, that holds the surface; of an axis the diameter of the cylinder at right angles to a datum plane "
        "(ISO 1101). Heights are averaged over tiles of 2 mm (less on parts under 40 mm); axes are of least squares."
    )

    kind: Literal["perpendicularity"] = "perpendicularity"


class Angularity(_Oriented):
    """Angularity: under the drawn angle to the datum, or under one that is given."""

    tag: ClassVar[str] = "angularity"
    name: ClassVar[str] = "angularity"
    short: ClassVar[str] = "Angularity"
    symbol: ClassVar[Strokes] = (((0.95, 0.15), (0.05, 0.9), (0.95, 0.9)),)
    method: ClassVar[str] = (
        "The width of the zone, under the drawn angle to the datum, that holds the surface or the axis (ISO 1101). Heights are averaged "
        "over tiles of 2 mm (less on parts under 40 mm); axes are of least squares."
    )

    kind: Literal["angularity"] = "angularity"
    angle: Annotated[Finite, Field(gt=0, lt=180)] | None = None
    """Degrees between the surfaces; as drawn where it is not given."""

    def wanted(self, drawn: Floats, frame: Frame) -> Floats:
        """Turned in the plane of both to the given angle."""
        primary = frame.datums[0].nominal.holds().direction
        if self.angle is None or primary is None:
            return drawn
        share = float(np.clip(drawn @ primary, -1, 1))
        across = drawn - share * primary
        options = [np.radians(a) for a in (self.angle, 180 - self.angle, 90 - self.angle, 90 + self.angle)]
        nearest = min((o for o in options if 0 <= o <= np.pi), key=lambda o: abs(np.cos(o) - share))
        if np.linalg.norm(across) < 1e-9:
            if abs(np.sin(nearest)) > 1e-6:
                what = f"it was drawn straight along or across the datum, and {self.angle:g} degrees are asked"
                raise InputError(what, f"characteristic {self.id}", "Give the angle as it was drawn")
            return drawn
        return np.asarray(np.cos(nearest) * primary + np.sin(nearest) * unit(across[None])[0])
