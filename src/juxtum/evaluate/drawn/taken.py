"""What the scan shows of a feature: its points, their means over tiles, and the feature that fits them."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np

from juxtum.associate import without_outliers
from juxtum.associate.solve import Fit
from juxtum.associate.zones import contacting_plane, mating
from juxtum.errors import FitError, InputError
from juxtum.evaluate.characteristics import counting_rows
from juxtum.evaluate.deviation import Deviation
from juxtum.evaluate.drawn.certainty import at_least_as_drawn, freed_of_oval
from juxtum.evaluate.drawn.references import Faces
from juxtum.evaluate.given import Given
from juxtum.evaluate.tiles import Tiles, make_tiles
from juxtum.evaluate.touched import Touched
from juxtum.geometry.arrays import Floats, Ints, orthonormal_frame, unit
from juxtum.geometry.features import Cone, Cylinder, Feature, Line, Plane, Sphere
from juxtum.nominal.common import common_feature

MOST = 20_000
"""Points that a feature is fitted to."""
FEW = 12
"""A feature with fewer tiles is looked at point by point."""
MOST_OF_OUTLINE = 400
LEAST = 12
"""With fewer points on it a feature is not seen."""
ROUNDED = 1.25
"""A face of which no point lies so many spacings away from a sharp edge is rounded by the scan as a whole."""
ONE_SIDE = 150.0
"""With a gap of so many degrees nothing holds what touches from inside."""


class NotSeenError(InputError):
    """The scan shows too little of a feature."""


@dataclass(frozen=True, eq=False)
class Taken:
    """One feature as the scan shows it, in the frame of the alignment in force.

    Parameters
    ----------
    faces : tuple of int
    nominal : Feature
    points : array (N, 3)
        Clear of edges, without the coat that was on them, mm.
    fit : Fit
        Of least squares, strays left out.
    tiles : Tiles
        Means of how far points lie out of the fitted feature: what varies within a tile is small then.
    places : array (K, 3)
        Of the tiles: their feet on the nominal.
    facing : array (K, 3)
        Out of the material there.
    spots : array (K, 3)
        Where the tiles were measured.
    reach : tuple of float
        From where to where it was drawn along its axis, from the feature's point, mm.
    outline : array (M, 3)
        Outermost places of what was drawn; of a plane the corners of its hull.
    """

    faces: Faces
    nominal: Feature
    points: Floats
    fit: Fit[Feature]
    tiles: Tiles
    places: Floats
    facing: Floats
    spots: Floats
    reach: tuple[float, float]
    outline: Floats

    @property
    def deviations(self) -> Floats:
        """How far each measured place lies out of the drawn surface (K,), mm."""
        return np.asarray(np.einsum("ij,ij->i", self.spots - self.places, self.facing))

    @property
    def is_inside(self) -> bool:
        """Whether it is a hole, a socket, a bore: material lies outside of it."""
        if isinstance(self.nominal, Plane):
            return False
        away = self.nominal.distances(self.places + 0.01 * self.facing) - self.nominal.distances(self.places)
        return bool(np.median(away) < 0)

    @cached_property
    def touching(self) -> Feature:
        """As the part would touch its counterpart: a plane that it stands on, the largest pin in a hole, the smallest ring round a pin."""
        measured = self.fit.feature
        if isinstance(measured, Plane):
            return contacting_plane(self.spots, self.nominal.normal)  # type: ignore[attr-defined]
        if isinstance(measured, Cylinder | Sphere):
            if self._largest_gap(measured) > ONE_SIDE:
                what = f"the scan shows one side of {self.words} only, and what touches it there is not held"
                raise NotSeenError(what, next="Scan more of it, or associate it by least squares (gauss)")
            return mating(measured, self.spots, inside=self.is_inside)
        return measured

    def _largest_gap(self, feature: Cylinder | Sphere) -> float:
        """The largest angle about its axis (of a sphere, about Z) in which nothing was seen, degrees."""
        axis = getattr(feature, "axis", np.array([0.0, 0, 1]))
        x, y, _ = orthonormal_frame(axis) @ (self.spots - feature.point).T
        angles = np.sort(np.degrees(np.arctan2(y, x)))
        return float(np.diff(np.r_[angles, angles[0] + 360]).max())

    @cached_property
    def touching_covariance(self) -> Floats:
        """Covariance (P, P) of the one that touches: it hangs on the few places that touch, each as unsure as its mean."""
        feature = self.touching
        if type(feature) is type(self.fit.feature) and feature is self.fit.feature:
            return self.fit.covariance
        jacobian = feature.linearised(self.spots)[1]
        nearest = np.argsort(np.abs(feature.distances(self.spots)))[: 2 * jacobian.shape[1]]
        few = jacobian[nearest]
        noise = float(np.median(self.tiles.noise[nearest]))
        return np.asarray(self.fit.covariance + noise**2 * np.linalg.pinv(few.T @ few, rcond=1e-9))

    @property
    def ends(self) -> Floats:
        """The ends (2, 3) of its nominal axis as drawn; its middle twice where it has none."""
        axis = getattr(self.nominal, "axis", None)
        if axis is None:
            return np.tile(self.places.mean(0), (2, 1))
        return np.array([self.nominal.point + t * axis for t in self.reach])

    @property
    def size(self) -> float:
        """From one end of what was seen to the other, mm."""
        return float(np.linalg.norm(np.ptp(self.places, axis=0)))

    @property
    def words(self) -> str:
        """For sentences."""
        return f"face {self.faces[0]}" if len(self.faces) == 1 else f"faces {', '.join(map(str, self.faces))}"


def take(given: Given, faces: Faces, where: str) -> Taken:
    """What the scan shows of the feature that some faces make; once found it is kept with the map.

    Raises
    ------
    InputError
        When they make none.
    NotSeenError
        When the scan shows too little of it.
    """
    touched = given.touched(faces)
    kept = given.deviation.features_taken if touched is None or given.touches is None else given.touches.taken
    key = (faces, given.judgement.chain.coats)
    if key not in kept:
        kept[key] = _taken(given, faces, where) if touched is None else _touched(given, touched, faces, where)
    found: Taken = kept[key]
    return found


def _taken(given: Given, faces: Faces, where: str) -> Taken:
    deviation = given.deviation
    nominal = common_feature(deviation.nominal, faces, where)
    rows = counting_rows(deviation, faces)
    what = f"the scan shows too little of face {faces[0]}"
    if len(rows) < LEAST:
        raise NotSeenError(what, where, "Scan more of it")
    _check_wide_enough(deviation, rows, faces[0], where)
    coat = given.judgement.chain.thickness_on(deviation.faces[rows])
    normals = deviation.normals[rows]
    points = deviation.points[rows] - normals * coat[:, None]
    try:
        fit: Fit[Feature] = without_outliers(nominal, points[:: max(1, len(points) // MOST)])
    except FitError as problem:
        raise NotSeenError(f"face {faces[0]}: {problem.what}", where, problem.next) from problem
    some = slice(None, None, max(1, len(points) // MOST))
    fit = freed_of_oval(fit, nominal, points[some], deviation.feet[rows][some])
    fit = at_least_as_drawn(fit, nominal, points[some], deviation.feet[rows][some])
    off = _outwards(fit.feature, points, normals)
    tiles = make_tiles(deviation, rows, off)
    if len(tiles.rows) < FEW:
        tiles = _single(deviation, rows, off)
    at = np.searchsorted(rows, tiles.rows) if np.all(np.diff(rows) > 0) else _found_in(rows, tiles.rows)
    spots = points[at] + normals[at] * (tiles.means - off[at])[:, None]
    feet = deviation.feet[tiles.rows]
    return Taken(faces, nominal, points, fit, tiles, feet, normals[at], spots, *_reach(given, faces, nominal))


def _check_wide_enough(deviation: Deviation, rows: Ints, face: int, where: str) -> None:
    """Whether any point keeps a spacing away from all sharp edges: else a scan rounds the whole face, and what fits it is the rounding."""
    spacing = deviation.spacing
    enough = ROUNDED * spacing
    clear = float(deviation.nominal.edge_distances(deviation.feet[rows], enough).max())
    if clear < enough:
        what = f"face {face} is about {2 * clear:.2g} mm wide, and points {spacing:.2g} mm apart round all of it"
        raise NotSeenError(what, where, "Scan it more finely, or touch it with a probe")


def _touched(given: Given, touched: Touched, faces: Faces, where: str) -> Taken:
    """A feature by its touches: each is a tile by itself."""
    nominal = common_feature(given.deviation.nominal, faces, where)
    coat = given.judgement.chain.thickness_on(np.array(faces[:1], dtype=np.int64) - 1)[0]
    bare = replace(touched, points=touched.points - coat * touched.normals)
    try:
        fit = bare.fitted(nominal)
    except FitError as problem:
        raise NotSeenError(f"face {faces[0]}: {problem.what}", where, problem.next) from problem
    points, normals = bare.own, bare.normals[~bare.about]
    off = _outwards(fit.feature, points, normals)
    count = len(points)
    one, each = np.ones(count, dtype=np.int64), np.arange(count)
    apart = 10 * each[:, None] * np.ones((1, 3), dtype=np.int64)
    tiles = Tiles(off, one, each, apart, one * (faces[0] - 1), np.full(count, max(bare.scatter, fit.rms)))
    feet = points - _outwards(nominal, points, normals)[:, None] * normals
    return Taken(faces, nominal, points, fit, tiles, feet, normals, points, *_reach(given, faces, nominal))


def _reach(given: Given, faces: Faces, nominal: Feature) -> tuple[tuple[float, float], Floats]:
    """From where to where it was drawn along its axis, and its outermost places (M, 3)."""
    axis = getattr(nominal, "axis", None)
    points = given.deviation.nominal.face_mesh(faces).points
    along = (points - nominal.point) @ (np.zeros(3) if axis is None else axis)
    outline = points[:: max(1, len(points) // MOST_OF_OUTLINE)]
    if isinstance(nominal, Plane):
        from scipy.spatial import ConvexHull

        flat = (points - points.mean(0)) @ orthonormal_frame(nominal.normal)[:2].T
        outline = points[ConvexHull(flat, qhull_options="QJ").vertices]
    return (float(along.min()), float(along.max())), np.asarray(outline)


def _outwards(feature: Feature, points: Floats, normals: Floats) -> Floats:
    """How far (N,) points lie out of the material from a feature, mm."""
    off = feature.distances(points)
    ahead = feature.distances(points + 0.01 * normals)
    return off if np.median(ahead - off) > 0 else -off


def _found_in(rows: Ints, wanted: Ints) -> Ints:
    order = np.argsort(rows)
    return np.asarray(order[np.searchsorted(rows[order], wanted)])


def _single(deviation: Deviation, rows: Ints, heights: Floats) -> Tiles:
    """Each point for itself, where a feature is too small for tiles."""
    spread = np.full(len(rows), deviation.scatter)
    apart = 10 * np.arange(len(rows))[:, None] * np.ones((1, 3), dtype=np.int64)
    return Tiles(heights, np.ones(len(rows), dtype=np.int64), rows, apart, deviation.faces[rows], spread)


@dataclass(frozen=True, eq=False)
class Situation:
    """Where a feature, or the middle of two, was drawn and lies: a plane, an axis or a point.

    Parameters
    ----------
    nominal, measured : Feature
    covariance : array (P, P)
        Of a step of the measured one.
    parts : tuple of Taken
    """

    nominal: Feature
    measured: Feature
    covariance: Floats
    parts: tuple[Taken, ...]

    @property
    def count(self) -> int:
        """Points behind it."""
        return sum(len(part.points) for part in self.parts)

    @property
    def middle(self) -> Floats:
        """Of what was seen of it (3,)."""
        return np.asarray(np.mean([part.places.mean(0) for part in self.parts], axis=0))

    @property
    def axis(self) -> tuple[Feature, Floats]:
        """What was measured, of a cone its axis alone, and its covariance: where along it the apex lies is no matter of a place."""
        if not isinstance(self.measured, Cone):
            return self.measured, self.covariance
        # A cone steps as its axis does, then changes its sizes.
        return axis_alone(self.measured), self.covariance[:4, :4]


def axis_alone(feature: Feature) -> Feature:
    """The axis of a cone, and anything else as it is."""
    return Line(feature.point, feature.axis) if isinstance(feature, Cone) else feature


def situated(given: Given, of: tuple[Faces, ...], where: str, association: str = "gauss") -> Situation:
    """The situation of a feature, or of the plane in the middle of two.

    Raises
    ------
    InputError
        When two features have no plane in their middle.
    """
    parts = tuple(take(given, faces, where) for faces in of)
    measured = [part.fit.feature if association == "gauss" else part.touching for part in parts]
    known = [part.fit.covariance if association == "gauss" else part.touching_covariance for part in parts]
    if len(parts) == 1:
        return Situation(parts[0].nominal, measured[0], known[0], parts)
    drawn = middle_of([part.nominal for part in parts], [part.places for part in parts], where)
    found = middle_of(measured, [part.places for part in parts], where)
    if found.normal @ drawn.normal < 0:
        found = found.flipped()
    return Situation(drawn, found, (known[0] + known[1]) / 4, parts)


def middle_of(features: list[Feature], places: list[Floats], where: str) -> Plane:
    """The plane in the middle of two that face each other, or look away from each other.

    Raises
    ------
    InputError
        When they are not two planes about parallel.
    """
    one, two = features
    if not isinstance(one, Plane) or not isinstance(two, Plane) or abs(one.normal @ two.normal) < 0.9:
        raise InputError(
            "two features that are not parallel planes have no plane in their middle",
            where,
            "Name two sides of a slot or rib",
        )
    centre = (places[0].mean(0) + places[1].mean(0)) / 2
    normal = (
        unit((one.normal - two.normal)[None])[0]
        if one.normal @ two.normal < 0
        else unit((one.normal + two.normal)[None])[0]
    )
    feet = [plane.anchored(centre).point for plane in (one, two)]
    return Plane((feet[0] + feet[1]) / 2, normal)


def width_between(one: Taken, two: Taken) -> tuple[float, bool]:
    """Distance of two parallel planes of least squares, mm, and whether it is that of a slot: material lies outside of it.

    From the middle of each to the other, and the mean of both, so that a tilt between them leans neither way.
    """
    planes = one.fit.feature, two.fit.feature
    assert isinstance(planes[0], Plane) and isinstance(planes[1], Plane)
    middles = one.places.mean(0), two.places.mean(0)
    mine = abs(float(planes[0].distances(planes[1].anchored(middles[1]).point[None])[0]))
    other = abs(float(planes[1].distances(planes[0].anchored(middles[0]).point[None])[0]))
    is_slot = float(planes[0].normal @ (middles[1] - middles[0])) > 0
    return (mine + other) / 2, is_slot


def radius_of(feature: Feature, *, is_minor: bool = False) -> float:
    """The radius of what is round, mm.

    Raises
    ------
    InputError
        When it has none.
    """
    if is_minor and hasattr(feature, "minor_radius"):
        return float(feature.minor_radius)
    if isinstance(feature, Cone) or not hasattr(feature, "radius"):
        raise InputError(f"a {feature.name} has no radius", next="Name a cylinder, a sphere or a torus")
    return float(feature.radius)
