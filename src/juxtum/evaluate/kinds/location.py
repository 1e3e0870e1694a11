"""Location: position, coaxiality, concentricity, symmetry (ISO 1101, ISO 5458); what is off counts twice."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Annotated, ClassVar, Literal

import numpy as np
from pydantic import Field

from juxtum.errors import InputError
from juxtum.evaluate.drawn.frames import Frame
from juxtum.evaluate.drawn.propagation import spread_of
from juxtum.evaluate.drawn.references import Faces
from juxtum.evaluate.drawn.shifted import Spot, settled
from juxtum.evaluate.drawn.taken import Situation, axis_alone, radius_of, width_between
from juxtum.evaluate.drawn.turned import turned_to
from juxtum.evaluate.fields import Finite
from juxtum.evaluate.given import Given
from juxtum.evaluate.kinds.base import Strokes
from juxtum.evaluate.kinds.form import RING
from juxtum.evaluate.kinds.found import Found, farthest_of
from juxtum.evaluate.kinds.toleranced import Zoned
from juxtum.evaluate.uncertainty import Budget, Sampling
from juxtum.geometry.arrays import Floats, unit
from juxtum.geometry.features import Feature, Line, Plane


class _Located(Zoned):
    """The zone lies where the datums put it."""

    worst_counts: ClassVar[bool] = False
    has_sides: ClassVar[bool] = True
    errors_count: ClassVar[float] = 2.0
    offset_ways: ClassVar[tuple[int, int]] = (2, 1)

    def budget(self, given: Given, found: Found, sampling: Sampling) -> Budget:
        """Where the part lies counts as well, and its temperature."""
        return given.judgement.chain.budget(found.length, sampling, found.framed, 0)

    def off_axis(self, at: Situation, frame: Frame, ends: Floats, drawn: Feature) -> Found:
        """Twice the farthest of an axis or a point from where it was drawn, at the ends of what was seen."""
        (measured, covariance), drawn = at.axis, axis_alone(drawn)
        moved = measured.moved(frame.move)
        found = np.array([moved.anchored(end).point for end in ends])
        if measured.holds().direction is None:
            found = np.array([moved.point])
        away = found - np.array([drawn.holds().brought_to(place) for place in found])
        lengths = np.linalg.norm(away, axis=1)
        far = int(np.argmax(lengths))
        direction = away[far] / max(lengths[far], 1e-12) if lengths[far] > 1e-9 else unit(np.ones((1, 3)))[0]
        end, home = ends[min(far, len(ends) - 1)], drawn.holds()

        def off(features: Sequence[Feature]) -> float:
            place = features[0].moved(frame.move).anchored(end).point
            return float((place - home.brought_to(place)) @ direction)

        own = spread_of(off, [measured], [covariance])
        framed = 2 * frame.spread(found[far], direction)
        return Found(2 * float(lengths[far]), 2 * own, frame.length_to(found[far]), found[far],
                     "twice the farthest from where it was drawn", depends=self._loose(frame, drawn), framed=framed,
                     ways=len(home.shifts))  # fmt: skip

    def off_plane(self, at: Situation, frame: Frame, drawn: Plane) -> Found:
        """Twice the farthest of a plane, or of the middle of two, from where it was drawn."""
        if len(at.parts) == 2:
            # A plane is as long and as wide as its sides were drawn, wherever on them it was measured.
            places = np.array([drawn.holds().brought_to(p) for part in at.parts for p in part.outline])

            def heights(features: Sequence[Feature]) -> Floats:
                moved = features[0].moved(frame.move)
                assert isinstance(moved, Plane)
                return np.asarray(-moved.distances(places) / float(moved.normal @ drawn.normal))

            far = int(np.argmax(np.abs(heights([at.measured]))))
            value, place = 2 * float(abs(heights([at.measured])[far])), places[far]
            standard = 2 * spread_of(lambda features: float(heights(features)[far]), [at.measured], [at.covariance])
        else:
            taken = at.parts[0]
            off, noise, top = farthest_of(taken.tiles, drawn.distances(frame.move.apply(taken.spots)))
            value, standard, place = 2 * off, 2 * noise, taken.places[top]
        framed = 2 * frame.spread(place, drawn.normal)
        return Found(value, standard, frame.length_to(place), place, "twice the farthest from where it was drawn",
                     depends=self._loose(frame, drawn), framed=framed)  # fmt: skip

    def _loose(self, frame: Frame, drawn: Feature) -> str:
        if not frame.leaves(drawn):
            return ""
        letters = "|".join(datum.letter for datum in self.datums)
        return f"the datums {letters} leave the part free to move it; name another datum"


class Position(_Located):
    """Position of an axis, a plane, a point, or the middle of a slot."""

    tag: ClassVar[str] = "position"
    name: ClassVar[str] = "position"
    short: ClassVar[str] = "Position"
    symbol: ClassVar[Strokes] = (*RING, ((0.5, 0.0), (0.5, 1.0)), ((0.0, 0.5), (1.0, 0.5)))
    method: ClassVar[str] = (
        "Twice the largest offset of the feature from where the datums put it (ISO 1101, ISO 5458): of an axis at both ends, of a plane over all of it, of "
        "the middle of two sides over both. Axes and points are of least squares. Size may add to the zone (ISO 2692). A pattern may move as a whole to "
        "where its worst member lies best, the datums holding only its direction (the lower tier of a composite tolerance, ISO 5458)."
    )

    kind: Literal["position"] = "position"
    projected: Annotated[Finite, Field(ge=0)] = 0.0
    """By how much the zone stands out of the material, mm."""
    bonus: Literal["", "most", "least"] = ""
    """Whether the zone grows with the distance of the size from the most or the least material."""
    size_limits: tuple[Finite, Finite] | None = None
    """Smallest and largest size, mm, from which that distance is taken."""
    pattern: bool = False
    """Whether all members may move together, as the lower tier of a composite tolerance lets them: the datums hold directions only."""

    def check_members(self) -> None:
        """Only several features move together.

        Raises
        ------
        InputError
        """
        super().check_members()
        if self.pattern and len(self.members) < 2:
            raise InputError("a pattern has two members or more", f"characteristic {self.id}", "Name them as 31;32;33")

    def framed(self, given: Given, frame: Frame) -> Frame:
        """Of a pattern that may move as a whole, where its worst member lies best."""
        if not self.pattern:
            return frame
        spots = []
        for member in self.members:
            at = self.situated(given, member)
            drawn = axis_alone(at.nominal).holds()
            moved, across = at.axis[0].moved(frame.move), drawn.shifts
            for end in [at.nominal.point] if drawn.direction is None else at.parts[0].ends:
                home = drawn.brought_to(np.asarray(end))
                spots.append(Spot(moved.anchored(home).point, home, across))
        return settled(frame, spots)

    def found(self, given: Given, member: tuple[Faces, ...], frame: Frame) -> Found:
        """Twice the offset."""
        at = self.situated(given, member)
        drawn = at.nominal
        ends = at.parts[0].ends if isinstance(drawn, Plane) else self._ends(at, frame)
        made = self.off_plane(at, frame, drawn) if isinstance(drawn, Plane) else self.off_axis(at, frame, ends, drawn)
        if not self.bonus:
            return made
        if self.size_limits is None:
            words = "its size has no limits on the drawing, so that nothing can be added to its zone"
            return replace(made, depends=made.depends or words, allowed=0.0)
        return replace(made, allowed=self._allowed(at))

    def _ends(self, at: Situation, frame: Frame) -> Floats:
        """Ends of the axis; of a projected zone the end in the material's surface and the one outside."""
        ends = at.parts[0].ends
        if not self.projected:
            return ends
        axis = unit((ends[1] - ends[0])[None])[0]
        first = frame.datums[0].nominal if frame.datums else None
        near = 1
        if isinstance(first, Plane):
            near = int(np.argmin(np.abs(first.distances(ends))))
        outwards = axis if near == 1 else -axis
        return np.array([ends[near], ends[near] + self.projected * outwards])

    def _allowed(self, at: Situation) -> float:
        """What its size adds to the zone, mm."""
        assert self.size_limits is not None
        smallest, largest = self.size_limits
        if len(at.parts) == 2:
            size, is_inside = width_between(at.parts[0], at.parts[1])
        else:
            part = at.parts[0]
            feature = part.touching if self.bonus == "most" else part.fit.feature
            size, is_inside = 2 * radius_of(feature), part.is_inside
        wants_small = is_inside == (self.bonus == "most")
        return float(np.clip(size - smallest if wants_small else largest - size, 0.0, largest - smallest))


class _OnAxis(_Located):
    """Its place is the datum itself, wherever both were drawn."""

    has_sides: ClassVar[bool] = False
    needs_datum: ClassVar[bool] = True
    needs_axis: ClassVar[bool] = True

    def check_feature(self, feature: Feature, faces: Faces) -> None:
        """It needs an axis or a centre.

        Raises
        ------
        InputError
        """
        if isinstance(feature, Plane):
            raise InputError(
                f"face {faces[0]} is a plane, which has no axis",
                f"characteristic {self.id}",
                "Name a cylinder, a cone or a sphere",
            )

    def datum_axis(self, frame: Frame) -> Feature:
        """The axis or point of the datum as drawn.

        Raises
        ------
        InputError
        """
        for datum in frame.datums:
            if not isinstance(datum.nominal, Plane):
                direction = datum.nominal.holds().direction
                return datum.nominal if direction is None else Line(datum.nominal.point, direction)
        raise InputError("its datum has no axis", f"characteristic {self.id}", "Name a cylinder as datum")


class Coaxiality(_OnAxis):
    """Coaxiality."""

    tag: ClassVar[str] = "coaxiality"
    name: ClassVar[str] = "coaxiality"
    short: ClassVar[str] = "Coaxiality"
    symbol: ClassVar[Strokes] = (
        *RING,
        tuple((0.5 + 0.2 * float(np.cos(t)), 0.5 + 0.2 * float(np.sin(t))) for t in np.linspace(0, 2 * np.pi, 21)),
    )
    method: ClassVar[str] = (
        "Twice the largest offset of the axis from that of the datum, at both ends of what was seen (ISO 1101). Axes are of least squares."
    )

    kind: Literal["coaxiality"] = "coaxiality"

    def found(self, given: Given, member: tuple[Faces, ...], frame: Frame) -> Found:
        """Twice the offset from the datum's axis."""
        at = self.situated(given, member)
        return self.off_axis(at, frame, at.parts[0].ends, self.datum_axis(frame))


class Concentricity(_OnAxis):
    """Concentricity: of the middle of the feature."""

    tag: ClassVar[str] = "concentricity"
    name: ClassVar[str] = "concentricity"
    short: ClassVar[str] = "Concentricity"
    symbol: ClassVar[Strokes] = Coaxiality.symbol
    method: ClassVar[str] = (
        "Twice the offset of the middle of the feature from the axis, or from the centre, of the datum (ISO 1101). Axes are of least squares."
    )

    kind: Literal["concentricity"] = "concentricity"

    def found(self, given: Given, member: tuple[Faces, ...], frame: Frame) -> Found:
        """Twice the offset in the middle."""
        at = self.situated(given, member)
        return self.off_axis(at, frame, np.tile(at.parts[0].ends.mean(0), (2, 1)), self.datum_axis(frame))


class Symmetry(_Located):
    """Symmetry of the middle of two sides, or of an axis, to the middle plane of a datum."""

    tag: ClassVar[str] = "symmetry"
    name: ClassVar[str] = "symmetry"
    needs_datum: ClassVar[bool] = True
    offset_ways: ClassVar[tuple[int, int]] = (1, 1)
    short: ClassVar[str] = "Symmetry"
    symbol: ClassVar[Strokes] = (((0.05, 0.5), (0.95, 0.5)), ((0.25, 0.25), (0.75, 0.25)), ((0.25, 0.75), (0.75, 0.75)))
    method: ClassVar[str] = (
        "Twice the largest offset of the middle plane of two sides, or of an axis, from the plane of the datum (ISO 1101). Planes and axes "
        "are of least squares. To a datum that is an axis the zone lies about a plane through it, which may turn about it."
    )

    kind: Literal["symmetry"] = "symmetry"

    def found(self, given: Given, member: tuple[Faces, ...], frame: Frame) -> Found:
        """Twice the offset from the datum's plane."""
        at = self.situated(given, member)
        plane = next((d.nominal for d in frame.datums if isinstance(d.nominal, Plane)), None)
        if plane is None and isinstance(at.nominal, Plane):
            # To an axis: the plane through it that was drawn.
            plane = at.nominal
        if plane is None:
            raise InputError(
                "its datum has no plane", f"characteristic {self.id}", "Name two sides of the part as datum, 14|22"
            )
        if not isinstance(at.nominal, Plane):
            return self.off_axis(at, frame, at.parts[0].ends, plane)
        turned = turned_to(frame, at)
        if turned is None:
            return self.off_plane(at, frame, plane)
        words = "twice the farthest from a plane through the datum's axis, turned about it to where it lies best"
        return replace(self.off_plane(at, turned, plane), meaning=words)
