"""Places where reference targets sat: the surface there is the target's, not the part's, and goes."""

from __future__ import annotations

import numpy as np

from juxtum.assemble.finishing.worked import Worked
from juxtum.errors import InputError
from juxtum.geometry import TriangleMesh
from juxtum.geometry.arrays import Floats, Ints, unit
from juxtum.progress import Progress, silent

NARROWEST, WIDEST = 0.2, 100.0
"""Of a whole target, mm."""
SLACK = 0.5
"""What the surface round a target reaches beyond its edge and is still lifted by it, mm."""
BENT = 35.0
"""Degrees between the directions of the surface round a target from which on it sat at an edge."""
HIGH = 0.5
"""Surface farther above or below a target than this share of its width is another one."""


def without_targets(mesh: TriangleMesh, places: Floats, diameter: float, progress: Progress | None = None) -> Worked:
    """Take away the surface of reference targets.

    Parameters
    ----------
    places : array (K, 3)
        Their middles, mm, in the frame of the surface.
    diameter : float
        Of the whole disc with its dark surround, mm.

    Raises
    ------
    InputError
        When the diameter makes no sense, or nothing would be left.
    """
    from scipy.spatial import cKDTree

    progress = progress or silent()
    if not NARROWEST <= diameter <= WIDEST:
        raise InputError(f"a target of {diameter:g} mm is none", "targets", "Give the diameter of the whole disc in mm")
    progress.phase("taking targets away")
    middles, tree = mesh.corners.mean(1), cKDTree(mesh.points)
    triangle_tree = cKDTree(middles)
    radius = diameter / 2 + SLACK
    keep = np.ones(len(mesh.triangles), dtype=bool)
    found, bent = 0, 0
    for place in places:
        facing = _facing(mesh, tree, place, diameter)
        rows = np.array(triangle_tree.query_ball_point(place, radius), dtype=np.int64)
        off = middles[rows] - place
        height = off @ facing
        aside = np.linalg.norm(off - height[:, None] * facing, axis=1)
        under = rows[(np.abs(height) < HIGH * diameter) & (aside < radius)]
        gone = under[mesh.triangle_normals[under] @ facing > 0]
        found += len(gone) > 0
        bent += len(gone) > 0 and _is_bent(mesh, under, facing)
        keep[gone] = False
    if not found:
        return Worked(mesh, (f"none of the {len(places)} targets lies on the surface",))
    return Worked(mesh.kept_triangles(keep), _told(found, len(places), bent, diameter))


def _told(found: int, asked: int, bent: int, diameter: float) -> tuple[str, ...]:
    notes = [f"the surface of {found} of {asked} targets went: each leaves a hole of {diameter + 2 * SLACK:g} mm"]
    if bent:
        whose = "1 target" if bent == 1 else f"{bent} targets"
        notes.append(f"{whose} sat at an edge: what is filled in there does not know where the edge was")
    return tuple(notes)


def _facing(mesh: TriangleMesh, tree: object, place: Floats, diameter: float) -> Floats:
    """Which way the surface under a target looks."""
    rows: Ints = np.array(tree.query(place, k=min(40, len(mesh.points)))[1])  # type: ignore[attr-defined]
    normals = mesh.normals[rows[np.linalg.norm(mesh.points[rows] - place, axis=1) < diameter]]
    if len(normals) == 0:
        normals = mesh.normals[rows[:1]]
    return np.asarray(unit(np.median(normals, axis=0)))


def _is_bent(mesh: TriangleMesh, rows: Ints, facing: Floats) -> bool:
    """Whether a sizeable part of the surface looks another way, though not the opposite one as the back of a wall does."""
    along = mesh.triangle_normals[rows] @ facing
    turned = (along < np.cos(np.radians(BENT))) & (along > -0.7)
    areas = mesh.triangle_areas[rows]
    return bool(areas[turned].sum() > 0.05 * areas.sum())
