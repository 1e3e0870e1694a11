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
from juxtum.instruments.stated import Instrument
from juxtum.nominal import FaceKind, Nominal
from juxtum.plan.holes import Hole, find_holes

ON_PLANE, ON_EDGE, ON_FACE = 5, 8, 6
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
        return ProbeTask(title, face, (*_plane_points(nominal, hole), *_edge_points(nominal, hole)), hole)
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


def _mouth(nominal: Nominal, hole: Hole) -> tuple[Floats, Floats]:
    """Middle of a hole's open end and the outward normal of the face around it."""
    walls = np.isin(nominal.triangle_faces, np.array(hole.faces) - 1)
    along = (nominal.mesh.corners[walls].reshape(-1, 3) - hole.axis.point) @ hole.axis.axis
    frame = orthonormal_frame(hole.axis.axis)
    for end, normal in ((float(along.max()), hole.axis.axis), (float(along.min()), -hole.axis.axis)):
        middle = hole.axis.point + end * hole.axis.axis
        ring = middle + (hole.axis.radius + BESIDE + TIP_RADIUS) * frame[0]
        found = nominal.projector.project(ring[None], limit=2.0)
        if bool(found.found[0]) and float(found.normals[0] @ normal) > 0.9:
            return middle, np.asarray(normal)
    middle = hole.axis.point + float(along.max()) * hole.axis.axis
    return middle, np.asarray(hole.axis.axis)


def _plane_points(nominal: Nominal, hole: Hole) -> tuple[ProbePoint, ...]:
    middle, normal = _mouth(nominal, hole)
    frame = orthonormal_frame(normal)
    angles = np.arange(24) * 2 * np.pi / 24
    ring = middle + (hole.axis.radius + BESIDE + TIP_RADIUS) * (
        np.cos(angles)[:, None] * frame[0] + np.sin(angles)[:, None] * frame[1]
    )
    found = nominal.projector.project(ring, limit=1.0)
    good = found.found & (found.normals @ normal > 0.98)
    rows = np.flatnonzero(good)
    if len(rows) < 3:
        raise InputError("there is no flat rim round the hole to probe", "probing", "Probe its wall by hand")
    chosen = rows[np.linspace(0, len(rows) - 1, min(ON_PLANE, len(rows))).round().astype(int)]
    return tuple(ProbePoint(Purpose.PLANE, frozen(found.feet[k]), frozen(normal)) for k in chosen)


def _edge_points(nominal: Nominal, hole: Hole) -> tuple[ProbePoint, ...]:
    """On the wall, half way into thin sheet, so that the tip meets wall and not rim."""
    middle, normal = _mouth(nominal, hole)
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
