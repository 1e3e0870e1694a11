"""Selections on a scan: an outline or a stroke drawn on the screen, pushed through the part or kept to its visible side."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from juxtum.geometry.arrays import Bools, Floats, Ints, orthonormal_frame, unit
from juxtum.geometry.mesh import Scan, TriangleMesh
from juxtum.geometry.nearest import KERNEL_LOCK

STRIPS = 512
CELL = 1.5
"""A cloud hides what lies behind it, seen in cells of so many reaches."""
BEHIND = 4.0
"""A point so many reaches behind the nearest one of its cell is hidden by it."""


@dataclass(frozen=True, eq=False)
class Prism:
    """An outline on the screen and the view through which it was drawn.

    Parameters
    ----------
    view : array (4, 4)
        From scan coordinates to the screen: x and y from -1 to 1 after division by w, depth growing away from the eye.
    outline : array (K, 2)
        Corners on the screen, K >= 3; of a stroke the places along it, K >= 1.
    radius : array (2,), optional
        Half the width of a stroke across and up the screen; None for an outline.
    """

    view: Floats
    outline: Floats
    radius: Floats | None = None

    @property
    def towards(self) -> Floats:
        """From the part to the eye, unit (3,): the views of the stage are parallel."""
        return unit(-self.view[2, :3])


def inside_prism(points: Floats, prism: Prism) -> Bools:
    """Which points (N, 3) appear inside the outline (even-odd rule) or under the stroke."""
    from juxtum.assemble import _select_kernels as kernels

    view = np.array(prism.view, dtype=np.float64)
    corners = np.array(prism.outline, dtype=np.float64)
    reach = 0.0
    if prism.radius is not None:
        # In numbers in which the stroke is round and its radius 1.
        view[:2] /= np.asarray(prism.radius)[:, None]
        corners = corners / prism.radius
        ends, reach = np.concatenate([corners[1:], corners[-1:]]), 1.0
    else:
        ends = np.roll(corners, -1, axis=0)
    edges = np.column_stack([corners, ends])
    low, high = float(corners[:, 1].min()) - reach, float(corners[:, 1].max()) + reach
    if not high > low:
        return np.zeros(len(points), dtype=bool)
    starts, listed = _strips(edges, low, high, reach)
    with KERNEL_LOCK:
        found = kernels.inside(
            np.ascontiguousarray(points), view, edges, starts, listed, low, high, prism.radius is not None
        )
    return np.asarray(found)


def _strips(edges: Floats, low: float, high: float, reach: float) -> tuple[Ints, Ints]:
    """The edges (rows of K) that reach into each strip of the screen, one strip after another, and where each begins."""
    scale = STRIPS / (high - low)
    first = np.clip(((edges[:, [1, 3]].min(1) - reach - low) * scale).astype(np.int64) - 1, 0, STRIPS - 1)
    last = np.clip(((edges[:, [1, 3]].max(1) + reach - low) * scale).astype(np.int64) + 1, 0, STRIPS - 1)
    counts = last - first + 1
    rows = np.repeat(np.arange(len(edges)), counts)
    strips = np.repeat(first, counts) + np.arange(len(rows)) - np.repeat(np.cumsum(counts) - counts, counts)
    order = np.argsort(strips, kind="stable")
    starts = np.concatenate([[0], np.cumsum(np.bincount(strips, minlength=STRIPS))])
    return starts.astype(np.int64), rows[order]


def on_visible_side(scan: Scan, rows: Ints, towards: Floats) -> Bools:
    """Which of some points (rows of K) nothing of the scan hides from an eye far away in a direction (3,)."""
    points = scan.points[rows]
    if isinstance(scan, TriangleMesh):
        from juxtum.geometry.rays import RayCaster

        far = float(np.linalg.norm(np.ptp(scan.bounds, axis=0)))
        faces = scan.normals[rows] @ towards > 0
        seen = np.zeros(len(rows), dtype=bool)
        starts = points[faces] + 1e-4 * far * scan.normals[rows][faces] + 1e-4 * far * towards
        seen[faces] = ~RayCaster(scan).blocked(starts, np.tile(towards, (len(starts), 1)), np.full(len(starts), far))
        return seen
    frame = orthonormal_frame(towards)
    size = CELL * scan.reach
    cells = np.floor((scan.points @ frame[:2].T) / size).astype(np.int64)
    cells -= cells.min(0)
    keys = cells[:, 0] * (int(cells[:, 1].max()) + 1) + cells[:, 1]
    depth = scan.points @ towards
    nearest = np.full(int(keys.max()) + 1, -np.inf)
    np.maximum.at(nearest, keys, depth)
    return np.asarray(depth[rows] > nearest[keys[rows]] - BEHIND * scan.reach)


def grown(points: Floats, chosen: Bools, width: float) -> Bools:
    """A choice of points (N,) with all within a width in mm of it; with a negative width without those so near to its edge."""
    from scipy.spatial import cKDTree

    inner = chosen if width > 0 else ~chosen
    if not inner.any() or inner.all() or width == 0:
        return chosen
    low, high = points[inner].min(0) - abs(width), points[inner].max(0) + abs(width)
    rows = np.flatnonzero(~inner & ((points >= low) & (points <= high)).all(1))
    near = np.isfinite(cKDTree(points[inner]).query(points[rows], distance_upper_bound=abs(width), workers=-1)[0])
    made = inner.copy()
    made[rows[near]] = True
    return made if width > 0 else ~made
