"""Guided probing: which points, in which order, where to move the tip, and what they say of the feature."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from contextlib import suppress
from dataclasses import dataclass, replace
from enum import StrEnum

import numpy as np

from juxtum.associate import Fit, fit_circle, fit_plane
from juxtum.capture.live.dial import BEST_TONE, HIGH_TONE, LOW_TONE, Tone
from juxtum.devices.probe import TIP_RADIUS
from juxtum.errors import FitError, InputError, JuxtumError
from juxtum.geometry import Circle, Plane
from juxtum.geometry.arrays import Floats, frozen, orthonormal_frame
from juxtum.geometry.rays import RayCaster
from juxtum.instruments.stated import Instrument
from juxtum.nominal import FaceKind, Nominal
from juxtum.plan.holes import Hole, find_holes

ON_PLANE, ON_EDGE, ON_FACE = 5, 8, 6
CHAMFER = 3.0
"""The face about a hole begins no farther beyond the end of its wall, mm."""
SHAFT = 60.0
"""So long the way to a point is free, straight off the surface, mm."""
ROUND = 24
"""Places round a hole that are tried."""
APPROACH = 15.0
NEAR = 2.0
"""Within this distance of the next point the tip may move in, mm."""
BESIDE = 3.5
"""Points of the plane keep so far from the hole's edge, mm, besides the tip's radius."""


class Purpose(StrEnum):
    """What a point is for."""

    PLANE = "plane"
    EDGE = "edge"
    FACE = "face"


@dataclass(frozen=True, eq=False)
class ProbePoint:
    """A planned touch: the place on the surface, its outward normal, and where the tip starts; part coordinates."""

    purpose: Purpose
    place: Floats
    normal: Floats

    @property
    def start(self) -> Floats:
        """Where the middle of the tip waits before it moves in (3,)."""
        return np.asarray(
            self.place + self.normal * (TIP_RADIUS + APPROACH if self.purpose is not Purpose.EDGE else TIP_RADIUS + 0.5)
        )


@dataclass(frozen=True, eq=False)
class ProbeTask:
    """The points of one feature; the plane comes before the edge."""

    name: str
    face: int
    points: tuple[ProbePoint, ...]
    hole: Hole | None = None


def task_for(nominal: Nominal, face: int, name: str = "") -> ProbeTask:
    """Points for a face: a hole gets its plane first and then its edge, a plane is spread over.

    Raises
    ------
    InputError
        When there is no way to probe it.
    """
    title = name or nominal.face(face).title
    hole = next((h for h in find_holes(nominal) if face in h.faces), None)
    if hole is not None:
        mouth = _mouth(nominal, hole)
        return ProbeTask(title, face, (*_plane_points(mouth), *_edge_points(mouth, hole)), hole)
    if nominal.face(face).kind is not FaceKind.PLANE:
        raise InputError(f"{title} is neither a hole nor a plane", "probing", "Scan it, or choose another face")
    rows = np.flatnonzero(nominal.samples.faces == face - 1)
    centres, normals = nominal.samples.centres[rows], nominal.samples.mesh.triangle_normals[rows]
    inner = nominal.edge_distances(centres, 2 * TIP_RADIUS) >= min(1.5 * TIP_RADIUS, 2.0)
    centres, normals = (centres[inner], normals[inner]) if inner.sum() >= ON_FACE else (centres, normals)
    chosen = _spread(centres, ON_FACE)
    return ProbeTask(
        title, face, tuple(ProbePoint(Purpose.FACE, frozen(centres[k]), frozen(normals[k])) for k in chosen)
    )


def can_be_probed(nominal: Nominal, named: Iterable[int]) -> tuple[int, ...]:
    """Faces for which there is a way to probe: the holes of the part, and the planes among some named faces.

    Parameters
    ----------
    named : iterable of int
        Numbers of the faces that a drawing speaks of.
    """
    wanted = set(named)
    planes = [f.number for f in nominal.faces if f.number in wanted and f.kind is FaceKind.PLANE]
    found = []
    for face in dict.fromkeys([*(h.faces[0] for h in find_holes(nominal)), *planes]):
        with suppress(JuxtumError):
            found.append(task_for(nominal, face).face)
    return tuple(found)


def _spread(points: Floats, count: int) -> list[int]:
    """Rows of points far from each other."""
    chosen = [int(np.argmax(np.linalg.norm(points - points.mean(0), axis=1)))]
    gap = np.linalg.norm(points - points[chosen[0]], axis=1)
    while len(chosen) < min(count, len(points)):
        chosen.append(int(np.argmax(gap)))
        gap = np.minimum(gap, np.linalg.norm(points - points[chosen[-1]], axis=1))
    return chosen


@dataclass(frozen=True, eq=False)
class _Mouth:
    """An open end of a hole: its middle, the outward normal of the face about it, and places (K, 3) on that face."""

    middle: Floats
    normal: Floats
    ring: Floats

    @property
    def is_open(self) -> bool:
        """Whether a probe comes to most of the face about it."""
        return 2 * len(self.ring) >= ROUND


def _mouth(nominal: Nominal, hole: Hole) -> _Mouth:
    """The open end that is touched: the upper one as drawn, where both are open.

    A part stands on its other side as a rule, and nobody touches it there. In a counterbore the tip goes as near to the hole as it has to.
    """
    walls = np.isin(nominal.triangle_faces, np.array(hole.faces) - 1)
    along = (nominal.mesh.corners[walls].reshape(-1, 3) - hole.axis.point) @ hole.axis.axis
    ends = [(float(along.max()), hole.axis.axis), (float(along.min()), -hole.axis.axis)]
    caster = RayCaster(nominal.mesh)
    mouths = []
    for end, normal in ends:
        rings = [_ring_about(nominal, hole, end, (normal, beside)) for beside in (BESIDE, BESIDE / 3)]
        rings = [replace(mouth, ring=_reachable(caster, mouth)) for mouth in rings]
        mouths.append(next((mouth for mouth in rings if mouth.is_open), max(rings, key=lambda one: len(one.ring))))
    mouths.sort(key=lambda one: (-round(float(one.normal[2]), 6), -len(one.ring)))
    return next((mouth for mouth in mouths if mouth.is_open), max(mouths, key=lambda one: len(one.ring)))


def _reachable(caster: RayCaster, mouth: _Mouth) -> Floats:
    """The places of a mouth's ring to which a probe comes straight."""
    if len(mouth.ring) == 0:
        return mouth.ring
    straight = np.tile(mouth.normal, (len(mouth.ring), 1))
    blocked = caster.blocked(mouth.ring + TIP_RADIUS * straight, straight, np.full(len(straight), SHAFT))
    return np.asarray(mouth.ring[~blocked])


def _ring_about(nominal: Nominal, hole: Hole, end: float, how: tuple[Floats, float]) -> _Mouth:
    """Places beside an end of a hole, on a face that looks the way of its normal."""
    normal, beside = how
    middle = hole.axis.point + end * hole.axis.axis
    across, along, _ = orthonormal_frame(normal)
    angles = (np.arange(ROUND) * 2 * np.pi / ROUND)[:, None]
    ring = middle + (hole.axis.radius + beside + TIP_RADIUS) * (np.cos(angles) * across + np.sin(angles) * along)
    found = nominal.projector.project(ring, limit=CHAMFER)
    good = found.found & (found.normals @ normal > 0.98)
    return _Mouth(middle, np.asarray(normal), found.feet[good])


def _plane_points(mouth: _Mouth) -> tuple[ProbePoint, ...]:
    if len(mouth.ring) < 3:
        raise InputError("there is no flat rim round the hole to probe", "probing", "Probe its wall by hand")
    chosen = np.linspace(0, len(mouth.ring) - 1, min(ON_PLANE, len(mouth.ring))).round().astype(int)
    return tuple(ProbePoint(Purpose.PLANE, frozen(mouth.ring[k]), frozen(mouth.normal)) for k in chosen)


def _edge_points(mouth: _Mouth, hole: Hole) -> tuple[ProbePoint, ...]:
    """On the wall, half way into thin sheet, so that the tip meets wall and not rim."""
    middle, normal = mouth.middle, mouth.normal
    frame = orthonormal_frame(normal)
    depth = min(0.5 * hole.depth, 4.0)
    points = []
    for angle in np.arange(ON_EDGE) * 2 * np.pi / ON_EDGE + 0.2:
        outward = np.cos(angle) * frame[0] + np.sin(angle) * frame[1]
        points.append(
            ProbePoint(Purpose.EDGE, frozen(middle - depth * normal + hole.axis.radius * outward), frozen(-outward))
        )
    return tuple(points)


@dataclass(frozen=True, eq=False)
class Guidance:
    """Where to move the tip: distance in mm, words, and a tone."""

    distance: float
    direction: Floats
    words: str
    tone: Tone

    @property
    def may_touch(self) -> bool:
        """Whether the tip is near enough to move in."""
        return self.distance <= NEAR


def guide(point: ProbePoint, tip: Floats) -> Guidance:
    """From the tip (3,) to where the next touch starts, part coordinates.

    Examples
    --------
    >>> point = ProbePoint(Purpose.FACE, np.zeros(3), np.array([0.0, 0, 1]))
    >>> guide(point, point.start + [30, 0, 0]).words
    '30 mm: left'
    """
    offset = point.start - np.asarray(tip)
    distance = float(np.linalg.norm(offset))
    if distance <= NEAR:
        return Guidance(distance, offset, "touch", Tone(BEST_TONE, 0.0, 0.6))
    names = (("right", "left"), ("away", "towards you"), ("up", "down"))
    order = np.argsort(-np.abs(offset))
    parts = [names[k][0 if offset[k] > 0 else 1] for k in order if abs(offset[k]) > 0.35 * np.abs(offset).max()]
    octaves = np.clip(distance / 200, 0, 1)
    frequency = float(HIGH_TONE * (LOW_TONE / HIGH_TONE) ** octaves)
    return Guidance(
        distance,
        offset,
        f"{distance:.0f} mm: {', '.join(parts)}",
        Tone(round(frequency, 1), round(2 + 6 * (1 - octaves), 2), 0.5),
    )


@dataclass(frozen=True, eq=False)
class ProbedFeature:
    """What the touches say.

    Parameters
    ----------
    plane : Fit of a plane, optional
    circle : Fit of a circle, optional
        Of a hole, its radius compensated for the tip.
    points : array (N, 3)
        Compensated places on the surface, part coordinates.
    distances : array (N,)
        From the nominal along its normal, mm.
    """

    name: str
    plane: Fit[Plane] | None
    circle: Fit[Circle] | None
    points: Floats
    distances: Floats

    def diameter_u(self, instrument: Instrument) -> float:
        """Expanded uncertainty of a hole's diameter, mm: of its touches, and of the probe by its own statement."""
        if self.circle is None:
            return float("nan")
        own = 2 * self.circle.standards["radius"]
        return 2 * float(np.hypot(own, instrument.standard(2 * self.circle.feature.radius)))


def evaluate(task: ProbeTask, middles: Sequence[Floats], tip_radius: float) -> ProbedFeature:
    """Compensate the tip and fit: the plane from its points, the hole from its edge in that plane.

    Parameters
    ----------
    middles : sequence of array (3,)
        Middle of the tip at each touch, in the order of the task's points, part coordinates.

    Raises
    ------
    FitError
        When touches are missing.
    """
    if len(middles) < len(task.points):
        raise FitError(
            f"{len(task.points) - len(middles)} touches are missing", task.name, "Touch the points that are left"
        )
    places = np.array(middles)
    normals = np.array([p.normal for p in task.points])
    planned = np.array([p.place for p in task.points])
    surface = places - tip_radius * normals
    is_edge = np.array([p.purpose is Purpose.EDGE for p in task.points])
    plane = circle = None
    if (~is_edge).sum() >= 3:
        plane = fit_plane(surface[~is_edge], normals[~is_edge][0])
    if is_edge.any() and plane is not None:
        raw = fit_circle(places[is_edge], plane.feature)
        circle = replace(raw, feature=replace(raw.feature, radius=raw.feature.radius + tip_radius))
    return ProbedFeature(
        task.name, plane, circle, frozen(surface), frozen(np.einsum("nd,nd->n", surface - planned, normals))
    )
