"""From several scans to one surface: cleaned each by itself, tied together, and made into one mesh."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from juxtum.align.samples import scan_sample
from juxtum.align.scans.join import Joined, join
from juxtum.align.scans.sheet import Sheet, make_sheet
from juxtum.align.scans.ties import Tie
from juxtum.assemble.holes import Filled, Hole, closed, holes_of
from juxtum.assemble.surfacing import finest_spacing, make_surface
from juxtum.assemble.trim import find_flat, outreach, trim
from juxtum.errors import InputError, JuxtumError
from juxtum.geometry import RigidTransform, TriangleMesh
from juxtum.geometry.arrays import Floats
from juxtum.geometry.mesh import Scan
from juxtum.progress import Progress, silent

ABOVE = 2.0
"""Points nearer to the table than so many times its own thickness are cut off with it."""
CERTAIN = 2.0
"""A flat so many times as large as the outline of what stands on it is a table."""
DENSE, MOST_POINTS = 0.45, 4_000_000
"""Points of a mesh lie no farther apart than this share of the surface's spacing, as far as memory allows."""
TWICE = 0.98
"""Scans that have so much in common and agree this well (mm) are one and the same."""


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


@dataclass(frozen=True)
class Wanted:
    """How scans are assembled.

    Parameters
    ----------
    spacing : float, optional
        Of the surface, mm; the finest of the scans' own when not given.
    is_watertight : bool
        Whether its borders are closed with invented faces.
    trims : bool
        Whether a table is looked for in each scan.
    by_shape : bool
        Whether scans that nothing else ties are proposed a place by their shape.
    """

    spacing: float | None = None
    is_watertight: bool = False
    trims: bool = True
    by_shape: bool = False


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
    filled : Filled, optional
        With its borders closed, where that was wanted.
    holes : tuple of Hole
        Of the open surface.
    notes : tuple of str
    """

    scans: tuple[Brought, ...]
    joined: Joined
    surface: TriangleMesh
    filled: Filled | None
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
    sheets = []
    for index, brought in enumerate(cleaned):
        progress.phase(f"looking at {brought.name}", 0.1 * index / len(cleaned))
        sheets.append(make_sheet(brought.scan, brought.name))
    joined = join(sheets, given, by_shape=wanted.by_shape, progress=progress.part(0.1, 0.7))
    notes += _doubts(cleaned, joined)
    surface = _surfaced(cleaned, sheets, joined, wanted.spacing, progress.part(0.7, 0.97))
    holes = holes_of(surface)
    filled = closed(surface) if wanted.is_watertight else None
    return Assembly(cleaned, joined, surface, filled, holes, tuple(notes))


def _cleaned(brought: Brought, wanted: Wanted, notes: list[str]) -> Brought:
    """Without the table it stands on, where one is certain."""
    flat = find_flat(brought.scan) if wanted.trims else None
    if flat is None:
        return brought
    if outreach(brought.scan, flat) < CERTAIN:
        notes.append(
            f"{brought.name}: its largest flat may be its table or a face of the part, and was left; cut it before if it is the table"
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
    for tie in joined.ties:
        one, two = scans[tie.first], scans[tie.second]
        if tie.overlap.share > TWICE and len(one.scan.points) == len(two.scan.points) and tie.overlap.rms < 1e-4:
            said.append(f"{one.name} and {two.name} are the same scan twice: it counts double")
        if tie.is_used and tie.free:
            said.append(f"{one.name} on {two.name}: their overlap is {' and '.join(tie.free)}")
    said += [f"{b.name}: {r}" for b, r in zip(scans, joined.reasons, strict=True) if r]
    return said


def _surfaced(
    scans: Sequence[Brought], sheets: Sequence[Sheet], joined: Joined, spacing: float | None, progress: Progress
) -> TriangleMesh:
    """One mesh of all scans that are tied."""
    laid = [(b, s, pose) for b, s, pose in zip(scans, sheets, joined.poses, strict=True) if pose is not None]
    corners = np.concatenate([pose.apply(b.scan.bounds) for b, _, pose in laid])
    finest = finest_spacing(np.ptp(corners, axis=0))
    if spacing is not None and spacing < finest:
        what = f"a spacing of {spacing:g} mm is too fine for so large an assembly"
        raise InputError(what, "surface", f"Choose {finest:.2g} mm or more")
    chosen = spacing or max(float(np.median([b.scan.spacing for b, _, _ in laid])), finest)
    places, normals = [], []
    for brought, sheet, pose in laid:
        points, facing = _dense(brought.scan, sheet, chosen)
        places.append(pose.apply(points))
        normals.append(pose.turn(facing))
    return make_surface(np.concatenate(places), np.concatenate(normals), chosen, progress)


def _dense(scan: Scan, sheet: Sheet, spacing: float) -> tuple[Floats, Floats]:
    """Points and directions (N, 3) of a scan, so dense that a surface of a spacing can be made of them.

    A mesh is more than its corners: where these are farther apart than the surface wants, places on its triangles count
    too. A cloud has only its points, with the directions of the nearest of those that joining looked at.
    """
    if isinstance(scan, TriangleMesh):
        if scan.spacing < DENSE * spacing:
            return scan.points, scan.normals
        count = int(min(scan.area / (DENSE * spacing) ** 2, MOST_POINTS))
        sample = scan_sample(scan, max(count, len(scan.points) + 1))
        assert sample.normals is not None
        return sample.points, sample.normals
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
