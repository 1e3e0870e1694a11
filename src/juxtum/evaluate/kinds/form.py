"""Forms of single features: straightness, roundness, cylindricity (ISO 1101, ISO 12180, 12181, 12780)."""

from __future__ import annotations

from dataclasses import replace
from typing import ClassVar, Literal

import numpy as np

from juxtum.associate.zones import narrowed, narrowest_line
from juxtum.errors import InputError
from juxtum.evaluate.choice import UNSURE
from juxtum.evaluate.drawn.frames import Frame
from juxtum.evaluate.drawn.references import Faces
from juxtum.evaluate.drawn.taken import NotSeenError, Taken
from juxtum.evaluate.given import Given
from juxtum.evaluate.kinds.base import Strokes
from juxtum.evaluate.kinds.found import Found, unbounded_width_of, width_of, worst_of
from juxtum.evaluate.kinds.toleranced import Zoned
from juxtum.geometry.arrays import Bools, Floats, orthonormal_frame
from juxtum.geometry.features import Circle, Cone, Cylinder, Feature, Line, Plane, Sphere

BENT_DRAWS = 400
SLICE_TILES = 8
"""Fewer tiles in a slice say nothing of its form."""
RING: Strokes = (
    tuple((0.5 + 0.4 * float(np.cos(t)), 0.5 + 0.4 * float(np.sin(t))) for t in np.linspace(0, 2 * np.pi, 33)),
)


class _Form(Zoned):
    """A form: datums have nothing to do with it."""

    criterion: Literal["zone", "gauss"] = "zone"
    """Whether the narrowest zone counts, or that about the feature of least squares."""


class Straightness(_Form):
    """Straightness of an axis (`diametral`), of the lines of a cylinder or cone, or of a plane along its longer side."""

    tag: ClassVar[str] = "straightness"
    name: ClassVar[str] = "straightness"
    short: ClassVar[str] = "Straightness"
    symbol: ClassVar[Strokes] = (((0.05, 0.5), (0.5, 0.5), (0.95, 0.5)),)
    method: ClassVar[str] = (
        "The narrowest zone that holds a line (ISO 12780): of an axis the smallest cylinder about the middles of slices across it, of a "
        "surface the worst of strips along it. Heights are averaged over tiles of 2 mm (less on parts under 40 mm)."
    )

    kind: Literal["straightness"] = "straightness"
    diametral: bool = False

    def check_feature(self, feature: Feature, faces: Faces) -> None:
        """An axis needs a cylinder or a cone.

        Raises
        ------
        InputError
        """
        if not isinstance(feature, Plane | Cylinder | Cone) or (self.diametral and isinstance(feature, Plane)):
            raise InputError(f"face {faces[0]} is a {feature.name}, which has no {'axis' if self.diametral else 'lines'} to be straight",
                             f"characteristic {self.id}", "Name a cylinder, a cone or a plane")  # fmt: skip

    def found(self, given: Given, member: tuple[Faces, ...], frame: Frame) -> Found:
        """The worst strip, or the axis."""
        taken = self.take(given, member[0])
        return self._axis(taken) if self.diametral else self._strips(taken)

    def _axis(self, taken: Taken) -> Found:
        middles, unsure = [], []
        unit_noise = float(np.median(taken.tiles.noise))
        for rows in slices(taken):
            spots = taken.spots[rows]
            axis = taken.fit.feature.axis  # type: ignore[attr-defined]
            start = Circle(taken.fit.feature.anchored(spots.mean(0)).point, axis, 1.0)
            flat = spots - np.outer((spots - start.point) @ axis, axis)
            middles.append(_middle(flat, start))
            unsure.append(unit_noise * _spread_of_middle(flat - middles[-1]))
        if len(middles) < 3:
            raise NotSeenError("fewer than three slices across it show where its axis runs", next="Scan more of it")
        points = np.array(middles)
        axis = np.linalg.svd(points - points.mean(0), full_matrices=False)[2][0]
        line, diameter = narrowest_line(Line(points.mean(0), axis), points)
        far = int(np.argmax(line.distances(points)))
        chance, standard = _chance_of_the_farthest(line, points, float(np.median(unsure)))
        words = "diameter of the smallest cylinder about the axis; what noise adds by the choice of the farthest is taken off"
        return Found(max(diameter - chance, 0.0), standard, taken.size, points[far], words)

    def _strips(self, taken: Taken) -> Found:
        feature = taken.nominal
        along, group = _strips_of(taken)
        lines: list[Found] = []
        for number in np.unique(group):
            rows = group == number
            if rows.sum() < SLICE_TILES:
                continue
            tiles = taken.tiles.part(rows)
            points = np.column_stack([along[rows], tiles.means, np.zeros(rows.sum())])
            start = Plane(points.mean(0), np.array([0.0, 1, 0]))
            levelled = points[:, 1] - np.polyval(np.polyfit(points[:, 0], points[:, 1], 1), points[:, 0])
            heights = levelled if self.criterion == "gauss" else _levelled(points, start)
            width = unbounded_width_of(tiles, heights)
            lines.append(Found(width.value, width.standard, float(np.ptp(along[rows])), taken.places[rows][width.tile],
                               "the worst line of the surface", freedom=tiles.freedom, alike=width.alike))  # fmt: skip
        if (worst := worst_of(lines)) is None:
            raise NotSeenError(f"no line of the {feature.name} is seen long enough", next="Scan more of it")
        return worst


def _chance_of_the_farthest(line: Line, points: Floats, noise: float) -> tuple[float, float]:
    """What noise adds to twice the largest distance from a line through middles (K, 3) of slices, and how unsure that diameter is, mm.

    As far as noise explains how far they lie off, they are drawn towards the line; then it is put onto them many times over, as for tiles.
    """
    along, *across = (points @ way for way in orthonormal_frame(line.axis)[[2, 0, 1]])
    off = np.column_stack([one - np.polyval(np.polyfit(along, one, 1), along) for one in across])
    seen, expected = float((off**2).sum()), 2 * noise**2 * (len(points) - 2)
    # Scatter beyond the noise counts as a bend only when it is more than chance would give.
    kept = float(np.sqrt(1 - expected / seen)) if seen > expected * (1 + 2 / np.sqrt(len(points) - 2)) else 0.0
    normal = np.random.default_rng(7).normal(0, noise, (BENT_DRAWS, *off.shape))
    rates = np.column_stack([np.ones(len(along)), along - along.mean()])
    normal -= np.einsum("kj,bji->bki", rates @ np.linalg.pinv(rates), normal)
    bent = 2 * np.linalg.norm(kept * off + normal, axis=2).max(1)
    chance = float(bent.mean()) - 2 * kept * float(np.linalg.norm(off, axis=1).max())
    return chance, float(np.hypot(bent.std(ddof=1), UNSURE * chance))


def _levelled(points: Floats, start: Plane) -> Floats:
    """Heights over the middle of the narrowest strip; the profile stays in its plane since nothing lies beside it."""
    from juxtum.associate.from_points import zoned

    found = zoned("line2d", points).feature
    assert isinstance(found, Plane)
    normal = found.normal if found.normal[1] > 0 else -found.normal
    return np.asarray(np.einsum("ij,j->i", points - found.point, normal))


def _strips_of(taken: Taken) -> tuple[Floats, Floats]:
    """How far along its lines each tile lies (K,), and in which strip (K,)."""
    feature, places = taken.nominal, taken.places
    size = max(2.0, 2 * float(np.median(np.linalg.norm(np.diff(np.sort(places, axis=0), axis=0), axis=1))))
    if isinstance(feature, Plane):
        flat = (places - places.mean(0)) @ orthonormal_frame(feature.normal)[:2].T
        turn = np.linalg.svd(flat, full_matrices=False)[2]
        flat = flat @ turn.T
        return flat[:, 0], np.floor(flat[:, 1] / (2 * size))
    assert isinstance(feature, Cylinder | Cone)
    x, y, z = np.einsum("nk,jk->jn", places - feature.point, orthonormal_frame(feature.axis))
    radius = max(float(np.hypot(x, y).mean()), 1e-9)
    return z, np.floor(np.arctan2(y, x) / min(2 * size / radius, np.pi / 6))


def slices(taken: Taken) -> list[Bools]:
    """Tiles of slices across the axis, each as thick as a tile."""
    axis = taken.nominal.axis  # type: ignore[attr-defined]
    along = (taken.places - taken.nominal.point) @ axis
    reach = max(float(np.ptp(along)), 1e-9)
    thick = max(4.0, reach / 40)
    number = np.floor((along - along.min()) / reach * max(int(reach / thick), 1) * (1 - 1e-9))
    found = [number == k for k in np.unique(number)]
    return [rows for rows in found if rows.sum() >= SLICE_TILES]


def _middle(flat: Floats, start: Circle) -> Floats:
    from juxtum.associate import fit_circle

    return np.asarray(fit_circle(flat, Plane(start.point, start.axis)).feature.point)


def _spread_of_middle(arms: Floats) -> float:
    """Standard uncertainty of the middle of a circle along its worse direction for each unit of noise in its places (N, 3).

    All round it is the root of 2 over their number; where an arc alone was seen, the middle is unsure along it.
    """
    out = arms / np.maximum(np.linalg.norm(arms, axis=1), 1e-9)[:, None]
    two = np.linalg.svd(out, full_matrices=False)[2][:2]
    rows = np.column_stack([out @ two.T, np.ones(len(out))])
    return float(np.sqrt(np.linalg.eigvalsh(np.linalg.pinv(rows.T @ rows)[:2, :2]).max()))


class Roundness(_Form):
    """Roundness of the worst slice across an axis."""

    tag: ClassVar[str] = "roundness"
    name: ClassVar[str] = "roundness"
    short: ClassVar[str] = "Roundness"
    symbol: ClassVar[Strokes] = RING
    method: ClassVar[str] = (
        "The distance of two circles about one middle, as near to each other as can be, that hold a slice across the axis between them (minimum "
        "zone, ISO 12181); the worst slice counts. Heights are averaged over tiles of 2 mm (less on parts under 40 mm)."
    )

    kind: Literal["roundness"] = "roundness"

    def check_feature(self, feature: Feature, faces: Faces) -> None:
        """It needs something round.

        Raises
        ------
        InputError
        """
        if not isinstance(feature, Cylinder | Cone | Sphere):
            raise InputError(f"face {faces[0]} is a {feature.name}, which has no roundness", f"characteristic {self.id}",
                             "Name a cylinder, a cone or a sphere")  # fmt: skip

    def found(self, given: Given, member: tuple[Faces, ...], frame: Frame) -> Found:
        """The worst slice."""
        taken = self.take(given, member[0])
        if isinstance(taken.nominal, Sphere):
            return _about(taken, self.criterion)
        found_in: list[Found] = []
        for rows in slices(taken):
            tiles, spots = taken.tiles.part(rows), taken.spots[rows]
            axis = taken.fit.feature.axis  # type: ignore[attr-defined]
            place = taken.fit.feature.anchored(spots.mean(0)).point
            arms = spots - place - np.outer((spots - place) @ axis, axis)
            flat = arms @ orthonormal_frame(axis)[:2].T
            # A slice of a cone: what its height in the slice makes of the radius is taken off with the nominal.
            radius = float(np.linalg.norm(flat, axis=1).mean())
            turn = np.arctan2(flat[:, 1], flat[:, 0])
            points = np.column_stack(
                [(radius + tiles.means) * np.cos(turn), (radius + tiles.means) * np.sin(turn), np.zeros(len(turn))]
            )
            circle = Circle(np.zeros(3), np.array([0.0, 0, 1]), radius)
            middle = _middle(points, circle)
            start = replace(circle, point=middle)
            found = start if self.criterion == "gauss" else narrowed(start, points)
            heights = np.linalg.norm(points - found.point, axis=1)
            width = unbounded_width_of(tiles, heights)
            found_in.append(Found(width.value, width.standard, 2 * radius, spots[width.tile], "the worst slice",
                                  freedom=tiles.freedom, alike=width.alike))  # fmt: skip
        if (worst := worst_of(found_in)) is None:
            raise NotSeenError("no slice across it is seen well enough", next="Scan more of it, all round")
        return worst


class Cylindricity(_Form):
    """Cylindricity."""

    tag: ClassVar[str] = "cylindricity"
    name: ClassVar[str] = "cylindricity"
    short: ClassVar[str] = "Cylindricity"
    symbol: ClassVar[Strokes] = (
        tuple((0.5 + 0.27 * float(np.cos(t)), 0.5 + 0.27 * float(np.sin(t))) for t in np.linspace(0, 2 * np.pi, 25)),
        ((0.05, 0.95), (0.42, 0.05)), ((0.58, 0.95), (0.95, 0.05)),
    )  # fmt: skip
    method: ClassVar[str] = (
        "The distance of two cylinders about one axis, as near to each other as can be, that hold the whole wall between them (minimum zone, "
        "ISO 12180). Heights are averaged over tiles of 2 mm (less on parts under 40 mm)."
    )

    kind: Literal["cylindricity"] = "cylindricity"

    def check_feature(self, feature: Feature, faces: Faces) -> None:
        """It needs a cylinder.

        Raises
        ------
        InputError
        """
        if not isinstance(feature, Cylinder):
            raise InputError(
                f"face {faces[0]} is a {feature.name}, which has no cylindricity",
                f"characteristic {self.id}",
                "Name a cylinder",
            )

    def found(self, given: Given, member: tuple[Faces, ...], frame: Frame) -> Found:
        """Of the whole wall."""
        return _about(self.take(given, member[0]), self.criterion)


def _about(taken: Taken, criterion: str) -> Found:
    """Width of the zone about a surface."""
    from juxtum.associate.solve import gauss

    start = gauss(taken.nominal, taken.spots).feature
    found = start if criterion == "gauss" else narrowed(start, taken.spots)
    value, standard, top = width_of(taken.tiles, found.distances(taken.spots))
    words = "width of the minimum zone" if criterion == "zone" else "width about the feature of least squares"
    return Found(value, standard, taken.size, taken.places[top], words, freedom=taken.tiles.freedom)
