"""Alignment by reference points: places of the drawing, each with directions in which the part is held there."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from juxtum.align.best_fit import free_motions, is_about
from juxtum.align.result import AXES, Alignment
from juxtum.associate.solve import effective_count
from juxtum.errors import AlignmentError, InputError
from juxtum.geometry import RigidTransform
from juxtum.geometry.arrays import Floats, frozen, unit
from juxtum.geometry.kdtree import kd_tree
from juxtum.geometry.mesh import Scan
from juxtum.geometry.registration import Pulls, Rounds, register
from juxtum.nominal import Nominal, Projection
from juxtum.progress import Progress, silent

DIRECTIONS = {"X": (1.0, 0.0, 0.0), "Y": (0.0, 1.0, 0.0), "Z": (0.0, 0.0, 1.0)}
OFF_THE_PART = 2.0
"""A place farther than this from the drawn surface is no reference point of this part, mm."""
STEEPEST = 0.2
"""A surface that stands flatter in a direction than this sine does not hold the part in it."""
FACING = 70.0
"""Degrees from a direction within which a surface beside an edge is taken to hold it."""
FREE = 1e-5
FEWEST = 3
WIDEST = 4.0
"""The spot grows to so many times its radius where a coarse mesh has too few points in it."""


@dataclass(frozen=True, eq=False)
class ReferencePoint:
    """A place of the drawing at which the part is held.

    Parameters
    ----------
    name : str
    place : array (3,)
        Part coordinates, mm.
    held : str
        Any of X, Y, Z and N, the normal of the drawn surface there.
    weight : float
        Of its squared deviations beside those of others.
    """

    name: str
    place: Floats
    held: str
    weight: float = 1.0


@dataclass(frozen=True, eq=False)
class SpotRule:
    """How a scan is read at reference points.

    Parameters
    ----------
    coat : array (F,), optional
        Thickness of the coat on each nominal face, mm.
    radius : float, optional
        Of the spot that is read at each place, mm; at least one and a half spacings of the scan are taken. When not given
        1 mm, on small parts less.
    reach : float, optional
        How far the start may be off there, mm. When not given 10 mm, on small parts less.
    """

    coat: Floats | None = None
    radius: float | None = None
    reach: float | None = None


@dataclass(frozen=True, eq=False)
class _Hold:
    """One direction of one point: what is measured along it tells how far the part has to go."""

    name: str
    place: Floats
    direction: Floats
    normal: Floats
    face: int
    weight: float


@dataclass(frozen=True, eq=False)
class _Met:
    """Where the scan meets the line of a hold: how far along it, the measured normal there, and how sure that is."""

    along: float
    normal: Floats
    standard: float


def reference_point_alignment(
    scan: Scan,
    nominal: Nominal,
    start: RigidTransform,
    points: Sequence[ReferencePoint],
    how: SpotRule | None = None,
    progress: Progress | None = None,
) -> Alignment:
    """Move the scan until it lies on the drawing at all reference points, along the directions that each holds.

    At each place the scan is met along the held direction, as the mean plane of its points within a radius of that line.
    Where the scan is met depends on how it lies, so it is met anew in each round. More directions than six are evened out by least
    squares; with fewer, what is left free stays where the start had it and is noted.

    Raises
    ------
    InputError
        When a place does not lie on the part, or the surface does not hold a direction.
    AlignmentError
        When the scan does not show a place.
    """
    how, progress = how or SpotRule(), progress or silent()
    holds = [hold for point in points for hold in _holds(point, nominal)]
    if not holds:
        raise InputError(
            "no reference point holds anything", "reference points", "Give each at least one of X, Y, Z, N"
        )
    size = max(float(np.ptp(np.array([h.place for h in holds]), axis=0).max()), nominal.diagonal / 10) / 2
    radius, reach = how.radius or min(1.0, nominal.diagonal / 200), how.reach or min(10.0, nominal.diagonal / 10)
    reader = _Reader(scan, max(radius, 1.5 * scan.spacing), how.coat)

    def pulls_at(transform: RigidTransform, index: int) -> Pulls:
        progress.phase("meeting the reference points", min(index / 12, 1.0))
        return _pulls(holds, [reader.met(hold, transform, max(reach * 0.5**index, reach / 10)) for hold in holds])

    found = register(pulls_at, start, Rounds(40, 1e-6, size, least=4, free=FREE, largest_turn=np.inf)) or start
    mets = [reader.met(hold, found, reach / 10) for hold in holds]
    return _reported(found, holds, mets, size, len(points))


def _holds(point: ReferencePoint, nominal: Nominal) -> list[_Hold]:
    limit = min(OFF_THE_PART, nominal.diagonal / 20)
    foot = nominal.projector.project(point.place[None], limit=limit)
    if foot.faces[0] < 0:
        raise InputError(
            f"it lies farther than {limit:.2g} mm from the drawn surface", f"reference point {point.name}",
            "Check its coordinates and their unit",
        )  # fmt: skip
    made = []
    for letter in point.held:
        direction = foot.normals[0] if letter == "N" else np.array(DIRECTIONS[letter])
        # At an edge the nearest surface may be the one that does not hold it, though the other one begins there.
        at = (
            foot
            if abs(float(direction @ foot.normals[0])) >= STEEPEST
            else _facing(nominal, point.place, direction, limit)
        )
        if at is None:
            raise InputError(
                f"the surface there does not hold {letter}: it runs along it", f"reference point {point.name}",
                "Hold its normal, N, or move it",
            )  # fmt: skip
        place, normal = at.feet[0], at.normals[0]
        # The nearest place of the surface stands for the one given, which is drawn to fewer digits.
        made.append(_Hold(point.name, place, direction, normal, int(at.faces[0]), point.weight))
    return made


def _facing(nominal: Nominal, place: Floats, direction: Floats, limit: float) -> Projection | None:
    """The nearest place of the surface that holds a direction, within a limit in mm."""
    ways = (direction, -direction)
    found = [nominal.projector.project(place[None], way[None], limit=limit, angle=FACING) for way in ways]
    # On an edge the direction is that between its two faces: what it holds is not what either of them holds.
    there = [f for f in found if f.faces[0] >= 0 and abs(float(f.normals[0] @ direction)) >= STEEPEST]
    return min(there, key=lambda foot: abs(float(foot.distances[0])), default=None)


class _Reader:
    """Meets a scan along lines in part coordinates."""

    def __init__(self, scan: Scan, radius: float, coat: Floats | None) -> None:
        self._points, self._normals, self._radius, self._coat = scan.points, scan.normals, radius, coat
        self._tree = kd_tree(scan.points)

    def met(self, hold: _Hold, transform: RigidTransform, reach: float) -> _Met:
        """Where the scan, as it lies, meets the line of a hold; on a coarse mesh within a wider spot.

        Raises
        ------
        AlignmentError
            When it does not.
        """
        radius = self._radius
        offset, along = self._near(hold, transform, reach, radius)
        while len(offset) < FEWEST and radius < WIDEST * self._radius:
            radius *= 1.5
            offset, along = self._near(hold, transform, reach, radius)
        if len(offset) < FEWEST:
            raise AlignmentError(
                f"the scan does not show reference point {hold.name} within {reach:.1f} mm", "reference points",
                "Align it roughly first, or leave the point out",
            )  # fmt: skip
        return self._mean(hold, offset, along, radius)

    def _near(self, hold: _Hold, transform: RigidTransform, reach: float, radius: float) -> tuple[Floats, Floats]:
        """Points within a radius of the line, from its place on (N, 3), and how far along it (N,)."""
        place = transform.inverse.apply(hold.place[None])[0]
        near = np.array(sorted(self._tree.query_ball_point(place, reach + radius)), dtype=np.int64)
        offset = transform.apply(self._points[near]) - hold.place
        along = offset @ hold.direction
        keep = (np.linalg.norm(offset - along[:, None] * hold.direction, axis=1) < radius) & (np.abs(along) < reach)
        if self._normals is not None:
            keep &= transform.turn(self._normals[near]) @ hold.normal > 0.5
        return offset[keep], along[keep]

    def _mean(self, hold: _Hold, offset: Floats, along: Floats, radius: float) -> _Met:
        """Their mean plane, met by the line."""
        # Of two layers, such as the sides of a sheet without normals, the one nearer to the drawing.
        closest = along[np.argmin(np.abs(along))]
        same = np.abs(along - closest) < 2 * radius
        offset = offset[same]
        middle = offset.mean(0)
        normal = np.linalg.svd(offset - middle, full_matrices=False)[2][2] if len(offset) > 5 else hold.normal
        normal = normal if normal @ hold.normal > 0 else -normal
        normal = hold.normal if normal @ hold.normal < 0.8 else normal
        lean = float(normal @ hold.direction)
        coat = 0.0 if self._coat is None else float(self._coat[hold.face])
        heights = (offset - middle) @ normal
        count = effective_count(len(offset), np.pi * radius**2)
        return _Met(
            (float(middle @ normal) - coat) / lean, unit(normal), float(heights.std() / np.sqrt(count)) / abs(lean)
        )


def _pulls(holds: Sequence[_Hold], mets: Sequence[_Met]) -> Pulls:
    """Along each direction the part has to go back by what was met; it goes there by its own normal."""
    leans = np.array([float(met.normal @ hold.direction) for hold, met in zip(holds, mets, strict=True)])
    return Pulls(
        np.array([hold.place + met.along * hold.direction for hold, met in zip(holds, mets, strict=True)]),
        np.array([met.normal for met in mets]) / leans[:, None],
        np.array([met.along for met in mets]),
        np.array([hold.weight for hold in holds]),
    )


def _reported(
    found: RigidTransform, holds: Sequence[_Hold], mets: Sequence[_Met], size: float, count: int
) -> Alignment:
    pulls = _pulls(holds, mets)
    _, held, _ = pulls.motions(size, FREE)
    free = free_motions(pulls, size, FREE)
    notes = [f"the reference points leave the scan {words}; that stays as it was" for words in free]
    rms = float(np.sqrt(np.mean(pulls.distances**2)))
    if len(holds) > held.shape[1]:
        worst = int(np.argmax(np.abs(pulls.distances)))
        notes.append(
            f"{len(holds)} directions are held where {held.shape[1]} decide: they were evened out, and at worst point "
            f"{holds[worst].name} lies {abs(mets[worst].along):.3f} mm off"
        )
    locked = dict.fromkeys(AXES, "points") | {axis: "free" for axis in AXES if any(is_about(axis, w) for w in free)}
    scale = np.repeat([1, 1 / size], 3)
    rows = pulls.rows(size) @ held
    gain = held @ np.linalg.pinv(rows) * np.sqrt([hold.weight for hold in holds])
    # Points that disagree with each other know their places no better than that.
    freedom = max(len(holds) - held.shape[1], 1)
    spread = float((pulls.distances**2).sum()) / freedom if len(holds) > held.shape[1] else 0.0
    variances = np.array([met.standard**2 for met in mets]) + spread
    covariance = (gain * variances) @ gain.T * np.outer(scale, scale)
    return Alignment(
        found, "reference points", rms, count, frozen(covariance), frozen(pulls.centre), locked, tuple(notes),
        anchors=frozen(np.array([hold.place for hold in holds])),
    )  # fmt: skip
