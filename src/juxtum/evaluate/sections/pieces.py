"""Lines and arcs in a section: what the drawing has there, what the scan makes of it, and dimensions between two."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np

from juxtum.associate.from_points import associated
from juxtum.errors import FitError, InputError
from juxtum.evaluate.sections.cutting import Curve
from juxtum.evaluate.sections.drawn import DrawnCurves
from juxtum.evaluate.uncertainty import Budget, Sampling
from juxtum.geometry.arrays import Floats, Ints, frozen

Shape = Literal["line", "arc", "circle", "slot", "point"]
EXACT = 2e-3
"""A drawn piece is a line or an arc when it bulges less than this off it, mm."""
LEAST_ARC = np.radians(5.0)
FEWEST = 8
PARALLEL = 0.5
"""Lines within so many degrees of each other have a distance; others an angle."""


@dataclass(frozen=True, eq=False)
class Piece:
    """A line, an arc, a slot or a place of a section, drawn or measured.

    Parameters
    ----------
    point : array (2,)
        On the line at its middle, the centre, or the place, mm.
    direction : array (2,)
        Of a line, material to its left, or along a slot; (0, 0) of an arc and a place.
    radius : float
        mm, half the width of a slot; 0 of a line or a place. Positive round material, negative round a hole.
    length : float
        Of a slot over its round ends, mm.
    """

    point: Floats
    direction: Floats
    radius: float = 0.0
    length: float = 0.0

    @property
    def is_line(self) -> bool:
        """Whether distances count from anywhere on it."""
        return self.radius == 0.0 and bool(self.direction.any())

    @property
    def angle(self) -> float:
        """Of a line or a slot, degrees above the right-hand direction, -180 to 180."""
        return float(np.degrees(np.arctan2(self.direction[1], self.direction[0])))


@dataclass(frozen=True, eq=False)
class SectionFeature:
    """A line or an arc that one face of the nominal shows in a section, or a slot or a corner that several make.

    Parameters
    ----------
    name : str
    shape : "line", "arc", "circle", "slot" or "point"
    face : int
        Number of the nominal face; of the first of several.
    drawn : Piece
    measured : Piece or None
        None where the scan shows too little of it, for a reason.
    ends : array (2, 2)
        Of the drawn piece; the same twice of a circle.
    count : int
        Points behind it.
    form : float
        Largest less smallest distance of the points from the measured piece, mm.
    seen : float
        Share of the drawn length that has points.
    deviation : float
        Of a line its offset at the middle, of an arc that of its radius, of a slot that of half its width: + has more
        material; of a corner how far it lies from the drawn one. mm.
    budget : Budget or None
        Of that deviation.
    turn, turn_expanded : float
        Of a line how far it is turned, degrees, and the expanded uncertainty of that; NaN of an arc or where it is not known.
    length_expanded : float
        Expanded uncertainty of the length of a slot; NaN of all else.
    place : array (2, 2) or None
        Covariance of where it lies by its data, mm2: a line at its middle, else the centre or the corner.
    reason : str
    """

    name: str
    shape: Shape
    face: int
    drawn: Piece
    measured: Piece | None
    ends: Floats
    count: int
    form: float
    seen: float
    deviation: float
    budget: Budget | None
    reason: str = ""
    turn: float = float("nan")
    turn_expanded: float = float("nan")
    length_expanded: float = float("nan")
    place: Floats | None = None


@dataclass(frozen=True)
class Dimension:
    """Between two features of a section.

    Parameters
    ----------
    kind : "distance" or "angle"
        mm or degrees.
    nominal, measured : float
        The measured one NaN where one of the two is not measured.
    expanded : float
        Expanded uncertainty of the measured one; NaN where it is not known.
    """

    kind: Literal["distance", "angle"]
    nominal: float
    measured: float
    expanded: float


@dataclass(frozen=True, eq=False)
class Stretch:
    """A part of a drawn curve that lies on one face and is a line or an arc."""

    shape: Shape
    face: int
    points: Floats
    rows: Ints
    """Of all drawn pieces."""
    drawn: Piece

    @property
    def length(self) -> float:
        """mm."""
        return float(np.linalg.norm(np.diff(self.points, axis=0), axis=1).sum())


def stretches(drawn: DrawnCurves) -> list[Stretch]:
    """The lines and arcs of the drawn curves, in their order."""
    found, first = [], 0
    for curve, faces in zip(drawn.curves, drawn.faces, strict=True):
        rows = first + np.arange(len(faces))
        first += len(faces)
        for run in _runs(curve, faces):
            numbers = run % len(faces)
            along = curve.points[np.append(numbers, numbers[-1] + 1) % len(curve.points)]
            made = _shaped(along)
            if made is not None:
                found.append(Stretch(made[0], int(faces[numbers[0]]), along, rows[numbers], made[1]))
    return found


def _runs(curve: Curve, faces: Ints) -> list[Ints]:
    """Rows of pieces that follow each other on one face; of a closed curve also across its beginning."""
    changes = np.flatnonzero(np.diff(faces)) + 1
    if curve.is_closed and len(changes) and faces[0] == faces[-1]:
        begin = int(changes[0])
        order = np.arange(begin, begin + len(faces))
        return _split(order, faces[order % len(faces)])
    return _split(np.arange(len(faces)), faces)


def _split(order: Ints, faces: Ints) -> list[Ints]:
    return list(np.split(order, np.flatnonzero(np.diff(faces)) + 1))


def _shaped(points: Floats) -> tuple[Shape, Piece] | None:
    """A line, an arc or a circle, where points (N, 2) are one to `EXACT`."""
    start, end = points[0], points[-1]
    chord = float(np.linalg.norm(end - start))
    lengths = np.linalg.norm(np.diff(points, axis=0), axis=1)
    if lengths.sum() < 5 * EXACT:
        return None
    if chord > 0:
        way = (end - start) / chord
        off = (points - start) @ np.array([-way[1], way[0]])
        if np.abs(off).max() < EXACT:
            return "line", Piece(frozen((start + end) / 2), frozen(way))
    if len(points) < 4:
        return None
    try:
        circle = associated("circle2d", upright(points)).feature
    except FitError:
        return None
    centre, radius = circle.point[:2], float(circle.radius)  # type: ignore[attr-defined]
    if np.abs(np.linalg.norm(points - centre, axis=1) - radius).max() > EXACT or lengths.sum() < LEAST_ARC * radius:
        return None
    a, b = points[:-1] - centre, points[1:] - centre
    turned = float(np.sum(a[:, 0] * b[:, 1] - a[:, 1] * b[:, 0]))
    is_whole = chord < 1e-6 * radius
    made = Piece(frozen(centre.copy()), frozen(np.zeros(2)), radius if turned > 0 else -radius)
    return ("circle" if is_whole else "arc"), made


def upright(flat: Floats) -> Floats:
    return np.column_stack([flat, np.zeros(len(flat))])


@dataclass(frozen=True, eq=False)
class FittedPiece:
    """What measured points make of a stretch.

    Parameters
    ----------
    piece : Piece
    form, spread : float
        Largest less smallest distance of the points from it, and their standard deviation, mm.
    deviation : float
        As of a feature of a section, mm.
    gain : array (N,)
        What each point counts for in that.
    shifts : array (2, N)
        What each counts for in where it lies.
    """

    piece: Piece
    form: float
    spread: float
    deviation: float
    gain: Floats
    shifts: Floats

    def place(self, length: float) -> Floats:
        """Covariance (2, 2) of where it lies, mm2, by data over a length."""
        return place_covariance(self.shifts, self.spread, length)


def measured_piece(stretch: Stretch, points: Floats) -> FittedPiece:
    """The line or the arc that measured points (N, 2) make.

    Raises
    ------
    FitError
    """
    if stretch.shape == "line":
        return _measured_line(stretch.drawn, points)
    made = associated("circle2d", upright(points))
    centre, radius = made.feature.point[:2], float(made.feature.radius)  # type: ignore[attr-defined]
    sign = float(np.sign(stretch.drawn.radius))
    reach = np.linalg.norm(points - centre, axis=1)
    arms = (points - centre) / np.maximum(reach, 1e-12)[:, None]
    gains = np.linalg.pinv(np.column_stack([arms, np.ones(len(arms))]))
    piece = Piece(frozen(centre.copy()), frozen(np.zeros(2)), sign * radius)
    deviation = sign * (radius - abs(stretch.drawn.radius))
    return FittedPiece(piece, made.form, float(np.std(reach)), deviation, gains[2], gains[:2])


def _measured_line(drawn: Piece, points: Floats) -> FittedPiece:
    made = associated("line2d", upright(points))
    normal = made.feature.normal[:2]  # type: ignore[attr-defined]
    way = np.array([normal[1], -normal[0]])
    way = way if way @ drawn.direction > 0 else -way
    point = points.mean(0)
    foot = point + ((drawn.point - point) @ way) * way
    outward = np.array([drawn.direction[1], -drawn.direction[0]])
    rows = np.stack([np.ones(len(points)), (points - point) @ way], axis=1)
    gain = gain_of(rows, np.array([1.0, (drawn.point - point) @ way]))
    off = float((foot - drawn.point) @ outward)
    spread, shifts = float(np.std(points @ normal)), np.outer(outward, gain)
    return FittedPiece(Piece(frozen(foot), frozen(way)), made.form, spread, off, gain, shifts)


def gain_of(rows: Floats, leverage: Floats) -> Floats:
    """How much each point's distance (N,) moves a value that is `leverage` times the parameters of a fit."""
    return np.asarray(leverage @ np.linalg.pinv(rows))


def turn_of(stretch: Stretch, piece: Piece, points: Floats) -> tuple[float, Floats]:
    """How far a line is turned, degrees, and what each point (N,) counts for in that, degrees a mm."""
    turn = (piece.angle - stretch.drawn.angle + 180.0) % 360.0 - 180.0
    rows = np.stack([np.ones(len(points)), (points - points.mean(0)) @ piece.direction], axis=1)
    return turn, np.degrees(gain_of(rows, np.array([0.0, 1.0])))


CORRELATION = 1.0
"""Points of one run share their errors over a length, mm."""


def sampling_of(gain: Floats, spread: float, length: float) -> Sampling:
    """What the data leave open of a value."""
    independent = max(min(len(gain), length / CORRELATION), 1.0)
    standard = spread * float(np.sqrt((gain**2).sum())) * np.sqrt(len(gain) / independent)
    return Sampling(float(standard), len(gain), max(independent - 3.0, 1.0))


def place_covariance(shifts: Floats, spread: float, length: float) -> Floats:
    """Covariance (2, 2) of a place, mm2, of which `shifts` (2, N) say what each point counts for."""
    count = shifts.shape[1]
    independent = max(min(count, length / CORRELATION), 1.0)
    return np.asarray(spread**2 * (shifts @ shifts.T) * count / independent)


def between(one: SectionFeature, two: SectionFeature) -> Dimension:
    """The dimension between two features: of lines that are not parallel their angle, else a distance.

    From the middle of a line at a right angle to it, from the centre of an arc or a slot, from a corner.

    Raises
    ------
    InputError
        When both are the same.
    """
    if one.name == two.name:
        raise InputError("a dimension needs two features", one.name, "Choose another one as the second")
    is_angle = one.shape == two.shape == "line" and not _is_parallel(one.drawn, two.drawn)
    value = _angle if is_angle else _distance
    nominal = value(one.drawn, two.drawn)
    if one.measured is None or two.measured is None:
        return Dimension("angle" if is_angle else "distance", nominal, float("nan"), float("nan"))
    kind: Literal["distance", "angle"] = "angle" if is_angle else "distance"
    expanded = float(np.hypot(one.turn_expanded, two.turn_expanded)) if is_angle else _expanded(one, two)
    return Dimension(kind, nominal, value(one.measured, two.measured), expanded)


def _is_parallel(one: Piece, two: Piece) -> bool:
    across = float(one.direction[0] * two.direction[1] - one.direction[1] * two.direction[0])
    return abs(across) < float(np.sin(np.radians(PARALLEL)))


def _angle(one: Piece, two: Piece) -> float:
    across = one.direction[0] * two.direction[1] - one.direction[1] * two.direction[0]
    return float(np.degrees(np.arctan2(abs(across), -(one.direction @ two.direction))))


def _distance(one: Piece, two: Piece) -> float:
    if two.is_line:
        one, two = two, one
    way = two.point - one.point
    if one.is_line:
        return abs(float(way[0] * one.direction[1] - way[1] * one.direction[0]))
    return float(np.linalg.norm(way))


def _expanded(one: SectionFeature, two: SectionFeature) -> float:
    """Of the distance between two features: where the data leave either along it, and the larger of what else each has but the alignment."""
    assert one.budget is not None and two.budget is not None and one.place is not None and two.place is not None
    if not (one.budget.is_known and two.budget.is_known):
        return float("nan")
    along = _way_between(one.drawn, two.drawn)
    data, rest = float(along @ (one.place + two.place) @ along), 0.0
    for budget in (one.budget, two.budget):
        others = (c.standard**2 for c in budget.contributions if not c.source.startswith(("sampling", "alignment")))
        rest = max(rest, sum(others))
    return 2.0 * float(np.sqrt(data + rest))


def _way_between(one: Piece, two: Piece) -> Floats:
    """Unit direction (2,) along which a distance counts: across a line, else from one to the other."""
    for piece in (one, two):
        if piece.is_line:
            return np.array([piece.direction[1], -piece.direction[0]])
    way = two.point - one.point
    length = float(np.linalg.norm(way))
    return way / length if length > 1e-9 else np.array([1.0, 0.0])
