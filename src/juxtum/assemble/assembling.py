"""From several scans to one surface: cleaned each by itself, tied together, and made into one mesh."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum
from functools import cached_property
from itertools import combinations

import numpy as np

from juxtum.align.scans.join import Joined, join
from juxtum.align.scans.sheet import Sheet, make_sheet
from juxtum.align.scans.ties import Tie
from juxtum.align.scans.together import spread_of
from juxtum.align.scans.work import Joining
from juxtum.assemble.finishing.filling import closed
from juxtum.assemble.holes import Hole, holes_of
from juxtum.assemble.surfacing import finest_spacing, make_surface
from juxtum.assemble.table import could_be_the_part
from juxtum.assemble.trim import find_flat, trim
from juxtum.errors import InputError, JuxtumError
from juxtum.geometry import RigidTransform, TriangleMesh
from juxtum.geometry.arrays import Floats
from juxtum.geometry.mesh import Scan
from juxtum.nominal import Nominal
from juxtum.nominal.model import sample_surface
from juxtum.progress import Progress, silent

ABOVE = 2.0
"""Points nearer to the table than so many times its own thickness are cut off with it."""
EVEN, SPLIT, MOST_POINTS = 1.5, 0.8, 4_000_000
"""Triangles with edges longer than so many spacings of the surface are split, more finely where the scan is coarser than the surface."""
ALIKE = 1e-6
"""Points that lie as far from their middle as those of another scan, to this share of its size, are the same points."""


@dataclass(frozen=True, eq=False)
class Brought:
    """A scan as it was brought.

    Parameters
    ----------
    name : str
    scan : Scan
        mm, in a frame of its own.
    """

    name: str
    scan: Scan


class Trim(StrEnum):
    """Whether a table is cut off: where that is certain, never, or wherever a flat with all else on it is found."""

    AUTO = "auto"
    NONE = "none"
    TABLE = "table"


class Likeness(StrEnum):
    """Whether the points of one scan are those of another."""

    OTHER = "other"
    SAME = "same"
    MIRRORED = "mirrored"


@dataclass(frozen=True, eq=False)
class Wanted:
    """How scans are assembled.

    Parameters
    ----------
    spacing : float, optional
        Of the surface, mm; the finest of the scans' own when not given.
    is_watertight : bool
        Whether its borders are closed with invented faces.
    trim : Trim
        Whether a table is cut off each scan.
    nominal : Nominal, optional
        Tells a table from a face of the part.
    by_shape : bool
        Whether scans that nothing else ties are proposed a place by their shape.
    """

    spacing: float | None = None
    is_watertight: bool = False
    trim: Trim = Trim.AUTO
    nominal: Nominal | None = None
    by_shape: bool = False


@dataclass(frozen=True, eq=False)
class Tied:
    """Scans that know where they lie, before a surface is made of them.

    Parameters
    ----------
    scans : tuple of Brought
        Cleaned, each in its own frame.
    sheets : tuple of Sheet
        The same as joining looks at them.
    joined : Joined
    notes : tuple of str
        What is to be looked at.
    """

    scans: tuple[Brought, ...]
    sheets: tuple[Sheet, ...]
    joined: Joined
    notes: tuple[str, ...]

    @cached_property
    def spread(self) -> float:
        """Standard uncertainty, mm along an axis, of where a place lies by where the scans were laid."""
        laid = [(sheet, pose) for sheet, pose in zip(self.sheets, self.joined.poses, strict=True) if pose is not None]
        if len(laid) < 2 or len(self.joined.covariance) != 6 * len(laid):
            return 0.0
        return spread_of([sheet for sheet, _ in laid], [pose for _, pose in laid], self.joined.covariance)


@dataclass(frozen=True, eq=False)
class Assembly:
    """What came of it.

    Parameters
    ----------
    scans : tuple of Brought
        Cleaned.
    joined : Joined
    surface : TriangleMesh
        In the frame of the anchor.
    filled : TriangleMesh, optional
        With its borders closed, where that was wanted.
    holes : tuple of Hole
        Of the open surface.
    notes : tuple of str
    """

    scans: tuple[Brought, ...]
    joined: Joined
    surface: TriangleMesh
    filled: TriangleMesh | None
    holes: tuple[Hole, ...]
    notes: tuple[str, ...]


def assemble(
    scans: Sequence[Brought], wanted: Wanted, given: Sequence[Tie] = (), progress: Progress | None = None
) -> Assembly:
    """Clean, join and surface several scans.

    Raises
    ------
    JuxtumError
        When nothing is left of a scan, none can be tied, or no surface can be made.
    """
    progress = progress or silent()
    notes: list[str] = []
    cleaned = tuple(_cleaned(brought, wanted, notes) for brought in scans)
    for brought in cleaned:
        # The assembly is no smaller than any scan: what is too fine for one is known before they are joined.
        _check_spacing(wanted.spacing, np.ptp(brought.scan.bounds, axis=0))
    made = tie(cleaned, given, Joining(by_shape=wanted.by_shape), progress.part(0.0, 0.7))
    surface = surface_of(made, wanted.spacing, progress.part(0.7, 0.97))
    holes = holes_of(surface)
    filled = closed(surface) if wanted.is_watertight else None
    return Assembly(cleaned, made.joined, surface, filled, holes, (*notes, *made.notes))


def tie(
    scans: Sequence[Brought],
    given: Sequence[Tie] = (),
    how: Joining | None = None,
    progress: Progress | None = None,
) -> Tied:
    """Lay clean scans into one frame.

    Raises
    ------
    JuxtumError
        When no two of them can be tied.
    """
    progress = progress or silent()
    sheets = []
    for index, brought in enumerate(scans):
        progress.phase(f"looking at {brought.name}", 0.15 * index / len(scans))
        sheets.append(make_sheet(brought.scan, brought.name))
    joined = join(sheets, given, how, progress=progress.part(0.15, 1.0))
    return Tied(tuple(scans), tuple(sheets), joined, tuple(_doubts(scans, joined)))


def _cleaned(brought: Brought, wanted: Wanted, notes: list[str]) -> Brought:
    """Without the table it stands on, where that is certain: where a person says that there is one, or the nominal tells it from the part."""
    flat = find_flat(brought.scan) if wanted.trim is not Trim.NONE else None
    if flat is None:
        return brought
    if wanted.trim is Trim.AUTO and (
        wanted.nominal is None or could_be_the_part(brought.scan, flat, wanted.nominal, silent())
    ):
        notes.append(
            f"{brought.name}: its largest flat may be its table or a face of the part, and was left; --trim table cuts it off"
        )
        return brought
    try:
        left = trim(brought.scan, flat.plane, ABOVE * flat.thickness)
    except InputError as problem:
        raise InputError(problem.what, brought.name, "Give --trim none") from problem
    gone = len(brought.scan.points) - len(left.points)
    notes.append(f"{brought.name}: {gone} points of the table it stands on were cut off")
    return Brought(brought.name, left)


def _doubts(scans: Sequence[Brought], joined: Joined) -> list[str]:
    """What is to be looked at: scans brought twice, and places that are not sure."""
    said = []
    for one, two in combinations(scans, 2):
        match _likeness(one.scan.points, two.scan.points):
            case Likeness.SAME:
                said.append(f"{one.name} and {two.name} are the same scan twice: it counts double")
            case Likeness.MIRRORED:
                said.append(f"{two.name} is {one.name} mirrored: one of them is the opposite hand, take it out")
    said += [f"{b.name}: {r}" for b, r in zip(scans, joined.reasons, strict=True) if r]
    return said


def _likeness(one: Floats, two: Floats) -> Likeness:
    """Whether points (N, 3) are others, moved or not, or their mirror image."""
    if len(one) != len(two):
        return Likeness.OTHER
    some = slice(None, None, max(1, len(one) // 1000))
    arms, others = (points[some] - points.mean(0) for points in (one, two))
    reach, other = np.linalg.norm(arms, axis=1), np.linalg.norm(others, axis=1)
    if np.abs(reach - other).max() >= ALIKE * max(float(reach.max()), 1e-9):
        return Likeness.OTHER
    # Of the turn that lays one best onto the other the sign tells (Kabsch 1976); what is flat is its own mirror image.
    left, sizes, right = np.linalg.svd(arms.T @ others)
    is_turned_over = np.linalg.det(left @ right) < 0 and sizes[2] > ALIKE * sizes[0]
    return Likeness.MIRRORED if is_turned_over else Likeness.SAME


def surface_of(made: Tied, spacing: float | None = None, progress: Progress | None = None) -> TriangleMesh:
    """One mesh of all scans that are tied, in the frame of the anchor.

    Parameters
    ----------
    spacing : float, optional
        mm; the middle of the scans' own when not given.

    Raises
    ------
    InputError
        When the spacing is too fine for so large an assembly.
    """
    progress = progress or silent()
    triples = zip(made.scans, made.sheets, made.joined.poses, strict=True)
    laid = [(b, s, pose) for b, s, pose in triples if pose is not None]
    corners = np.concatenate([pose.apply(b.scan.bounds) for b, _, pose in laid])
    finest = _check_spacing(spacing, np.ptp(corners, axis=0))
    chosen = spacing or max(float(np.median([b.scan.spacing for b, _, _ in laid])), finest)
    places, normals = [], []
    for brought, sheet, pose in laid:
        points, facing = _dense(brought.scan, sheet, chosen)
        places.append(pose.apply(points))
        normals.append(pose.turn(facing))
    return make_surface(np.concatenate(places), np.concatenate(normals), chosen, progress)


def _check_spacing(spacing: float | None, extent: Floats) -> float:
    """The finest spacing that a surface of an extent (3,) may have, mm; a sentence where less is asked."""
    finest = finest_spacing(extent)
    if spacing is not None and spacing < finest:
        what = f"a spacing of {spacing:g} mm is too fine for so large an assembly"
        raise InputError(what, "surface", f"Choose {finest:.2g} mm or more")
    return finest


def _dense(scan: Scan, sheet: Sheet, spacing: float) -> tuple[Floats, Floats]:
    """Points and directions (N, 3) of a scan, so dense that a surface of a spacing can be made of them.

    A mesh is more than its corners: triangles that are larger than the surface wants are split. A cloud has only its
    points, with the directions of the nearest of those that joining looked at.
    """
    if isinstance(scan, TriangleMesh):
        # Middles of triangles, not corners: at an edge of the part no direction is right for a corner.
        longest = EVEN if scan.spacing < 1.1 * spacing else SPLIT
        size = max(longest * spacing, float(np.sqrt(scan.area / MOST_POINTS)))
        split = sample_surface(scan, np.arange(len(scan.triangles)), size)
        return split.mesh.corners.mean(1), scan.triangle_normals[split.faces]
    if scan.normals is not None:
        return scan.points, scan.normals
    return scan.points, np.asarray(sheet.normals[sheet.tree.query(scan.points, workers=-1)[1]])


def ties_from_pairs(first: int, second: int, pairs: Floats) -> Tie:
    """A tie from picked pairs (N, 2, 3): places of the first scan and of the second.

    Raises
    ------
    InputError
        With fewer than three pairs, or pairs along one line.
    """
    from juxtum.align.pairs import align_pairs
    from juxtum.align.scans.overlap import Overlap

    try:
        made = align_pairs(pairs[:, 0], pairs[:, 1])
    except JuxtumError as problem:
        raise InputError(problem.what, "pairs", problem.next) from problem
    return Tie(first, second, made.transform, Overlap(0.0, 0.0, 0.0, len(pairs)), reason="picked pairs")


def ties_from_targets(seen: Sequence[Floats], tolerance: float) -> list[Tie]:
    """Ties between scans that saw three or more of the same reference targets; names are not needed.

    Parameters
    ----------
    seen : sequence of array (K, 3)
        Targets of each scan, in its own frame, mm.
    tolerance : float
        How far a target may be off, mm.
    """
    from juxtum.align.scans.overlap import Overlap
    from juxtum.align.targets import match_targets

    found = []
    for first in range(len(seen)):
        for second in range(first):
            if min(len(seen[first]), len(seen[second])) < 3:
                continue
            match = match_targets(seen[first], seen[second], tolerance)
            if match is None:
                continue
            move: RigidTransform = match.transform
            words = f"{len(match.pairs)} targets in common"
            found.append(Tie(first, second, move, Overlap(0.0, 0.0, 0.0, len(match.pairs)), reason=words))
    return found
