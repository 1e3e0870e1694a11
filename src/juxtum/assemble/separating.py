"""Many parts in one scan: each becomes a scan of its own."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from juxtum.assemble.fragments import find_fragments
from juxtum.errors import InputError
from juxtum.geometry.arrays import Floats, Ints
from juxtum.geometry.mesh import Scan, TriangleMesh
from juxtum.progress import Progress, silent

ALIKE = 0.45
"""Without a number given, pieces with more than this share of the area of the usual one are parts."""
TOUCHING = 1.6
"""A piece with so many times the area of the usual one is more than one part."""
NEAR = 0.25
"""Scraps that lie within this share of a part's size from it belong to it."""
MOST = 1000
ROWS = 0.35
"""Parts farther across than this share of what they are apart lie in another row."""


@dataclass(frozen=True, eq=False)
class Separated:
    """Parts of one scan.

    Parameters
    ----------
    parts : tuple of Scan
        In rows: along the longer side of what they lie on, then across it.
    areas : tuple of float
        Scanned area of each, mm2.
    spare : float
        Area of what belongs to none, mm2.
    notes : tuple of str
        What has to be told, such as parts that touch.
    """

    parts: tuple[Scan, ...]
    areas: tuple[float, ...]
    spare: float
    notes: tuple[str, ...]


def separate(scan: Scan, count: int | None = None, progress: Progress | None = None) -> Separated:
    """Tell the parts in a scan apart by the gaps between them.

    Parameters
    ----------
    count : int, optional
        How many there are; found from the areas of the pieces when not given.

    Raises
    ------
    InputError
        When there is only one piece, fewer pieces than parts, or very many.
    """
    progress = progress or silent()
    progress.phase("telling the parts apart", 0.1)
    pieces = find_fragments(scan)
    mains = _mains(pieces.areas, count)
    if mains < 2:
        raise InputError(
            "there is only one piece in it",
            "separating",
            "Trim the table off first, or see that the parts do not touch",
        )
    if count is not None and mains < count:
        raise InputError(
            f"there are {mains} pieces of some size, not {count} parts", "separating",
            "See that the parts do not touch each other, or leave the number out",
        )  # fmt: skip
    if mains > MOST:
        raise InputError(f"{mains} parts are too many", "separating", "Drop loose fragments first")
    labels, spare = _with_scraps(scan, pieces.labels, mains, pieces.areas)
    progress.phase("cutting the parts out", 0.6)
    middles = np.array([_places(scan)[labels == k].mean(0) for k in range(mains)])
    order = _in_rows(middles)
    is_mesh = isinstance(scan, TriangleMesh)
    parts = tuple(scan.kept_triangles(labels == k) if is_mesh else scan.kept(labels == k) for k in order)  # type: ignore[union-attr]
    areas = tuple(float(pieces.areas[k]) for k in order)
    usual = float(np.median(areas))
    notes = tuple(
        f"part {number} has {area / usual:.1f} times the area of the usual one: it may be parts that touch"
        for number, area in enumerate(areas, 1)
        if area > TOUCHING * usual
    )
    return Separated(parts, areas, spare, notes)


def seems_many(areas: Floats) -> bool:
    """Whether pieces of such areas, the largest first, look like several parts and not like one with scraps."""
    return _mains(areas, None) > 1


def _mains(areas: Floats, count: int | None) -> int:
    """How many of the pieces, largest first, are parts."""
    if len(areas) == 0:
        return 0
    if count is not None:
        return int(min(count, (areas > 0.02 * areas[0]).sum()))
    # The usual part is the piece at which half of all area is reached: scraps hold next to none of it.
    usual = float(areas[int(np.searchsorted(np.cumsum(areas), areas.sum() / 2))])
    return int((areas > ALIKE * usual).sum())


def _places(scan: Scan) -> Floats:
    return scan.corners.mean(1) if isinstance(scan, TriangleMesh) else scan.points


def _with_scraps(scan: Scan, labels: Ints, mains: int, areas: Floats) -> tuple[Ints, float]:
    """Scraps near a part go with it; of the others the area, mm2."""
    from scipy.spatial import cKDTree

    places = _places(scan)
    labels = np.array(labels, dtype=np.int64)
    scraps = np.flatnonzero(labels >= mains)
    if len(scraps) == 0:
        return labels, 0.0
    main = np.flatnonzero(labels < mains)
    some = main[:: max(len(main) // 200_000, 1)]
    sizes = [float(np.linalg.norm(np.ptp(places[labels == k], axis=0))) for k in range(mains)]
    apart, near = cKDTree(places[some]).query(places[scraps], distance_upper_bound=NEAR * float(np.median(sizes)))
    spare = 0.0
    order = np.argsort(labels[scraps], kind="stable")
    starts = np.flatnonzero(np.diff(labels[scraps][order], prepend=-1))
    for first, last in zip(starts, [*starts[1:], len(order)], strict=True):
        rows = order[first:last]
        best = rows[int(np.argmin(apart[rows]))]
        piece = int(labels[scraps[rows[0]]])
        if np.isfinite(apart[best]):
            labels[scraps[rows]] = labels[some[near[best]]]
        else:
            labels[scraps[rows]] = -1
            spare += float(areas[piece]) if piece < len(areas) else 0.0
    return labels, spare


def _in_rows(middles: Floats) -> Ints:
    """Rows of the parts (N,) as they are read: in lines across the longer side, each along it."""
    off = middles - middles.mean(0)
    axes = np.linalg.svd(off, full_matrices=False)[2]
    # Along the axes of the coordinates, towards more of each: the same tray is read alike however its axes came out.
    axes = np.array([axis if axis[np.argmax(np.abs(axis))] > 0 else -axis for axis in axes])
    along, across = off @ axes[0], off @ axes[1] if len(axes) > 1 else np.zeros(len(off))
    gaps = np.sort(across)
    apart = np.linalg.norm(off[:, None] - off, axis=2) + np.where(np.eye(len(off), dtype=bool), np.inf, 0.0)
    # Parts in one line lie beside it by a little, too: rows are as far apart as parts are.
    step = max(float(np.ptp(gaps)) / max(np.sqrt(len(gaps)), 1.0) / 2, ROWS * float(np.median(apart.min(1))))
    rows = np.zeros(len(off), dtype=np.int64)
    rows[np.argsort(across)] = np.cumsum(np.diff(gaps, prepend=gaps[0]) > max(step, 1e-9))
    return np.asarray(np.lexsort((along, rows)))
