"""Smoothing that keeps edges: normals are calmed among those alike, places follow them, none farther than a bound."""

from __future__ import annotations

import numpy as np

from juxtum.assemble.finishing.worked import Worked
from juxtum.errors import InputError
from juxtum.geometry import TriangleMesh
from juxtum.geometry.arrays import Bools, Floats, Ints
from juxtum.geometry.nearest import KERNEL_LOCK
from juxtum.geometry.topology import beside, border_points
from juxtum.progress import Progress, silent
from juxtum.wording import percent

SHARPNESS = 0.35
"""Normals that differ by more than about so much (a chord of the unit sphere) are of different faces."""
FOLLOWING = 12
"""Rounds in which places follow the normals."""
MOST_ROUNDS = 60


def smooth(mesh: TriangleMesh, bound: float, rounds: int = 8, progress: Progress | None = None) -> Worked:
    """Smooth a surface; no place moves farther than a bound, and its borders stay.

    Normals of triangles are averaged with those beside them that are like them, then points move until the triangles
    look along them (Zheng, Fu, Au and Tai 2011). Points that would move farther are held at the bound and counted.

    Parameters
    ----------
    bound : float
        mm, over 0.
    rounds : int
        How often normals are averaged: 2 takes off little, 20 much.

    Raises
    ------
    InputError
        When the bound or the number of rounds makes no sense.
    """
    from juxtum.assemble.finishing import _finishing_kernels as kernels

    progress = progress or silent()
    if not bound > 0 or not 1 <= rounds <= MOST_ROUNDS:
        raise InputError("smoothing needs a bound over 0 mm and 1 to 60 rounds", "smoothing", "Choose others")
    triangles = mesh.triangles.astype(np.int64)
    neighbours, _ = beside(triangles, len(mesh.points))
    normals, areas = np.array(mesh.triangle_normals), np.array(mesh.triangle_areas)
    for number in range(rounds):
        progress.phase("calming normals", 0.1 + 0.3 * number / rounds)
        with KERNEL_LOCK:
            normals = kernels.calm_normals(normals, areas, neighbours, SHARPNESS)
    starts, around = _triangles_of(triangles, len(mesh.points))
    stays = _stays(mesh)
    points = np.array(mesh.points)
    for number in range(FOLLOWING):
        progress.phase("moving places", 0.4 + 0.5 * number / FOLLOWING)
        with KERNEL_LOCK:
            points = kernels.follow_normals(points, triangles, normals, starts, around, stays)
    return _within(mesh, points, bound, ~stays)


def _within(mesh: TriangleMesh, points: Floats, bound: float, free: Bools) -> Worked:
    steps = points - mesh.points
    lengths = np.linalg.norm(steps, axis=1)
    held = lengths > bound
    steps[held] *= (bound / lengths[held])[:, None]
    moved = np.einsum("nd,nd->n", steps, mesh.normals)
    made = TriangleMesh(mesh.points + steps, mesh.triangles, mesh.invented)
    largest = float(np.minimum(lengths, bound).max())
    usual = float(np.sqrt((np.minimum(lengths, bound)[free] ** 2).mean())) if free.any() else 0.0
    notes = [
        f"the surface was smoothed: no place of it moved by more than {largest:.4f} mm, the usual one by {usual:.4f} mm"
    ]
    if held.any():
        notes.append(
            f"{percent(float(held.mean()))} of its points would have moved farther and were held at the bound of {bound:g} mm"
        )
    return Worked(made, tuple(notes), moved, largest)


def _triangles_of(triangles: Ints, count: int) -> tuple[Ints, Ints]:
    """The triangles round each point: where each begins (N + 1,) in the list of all (3 M,)."""
    order = np.argsort(triangles.ravel(), kind="stable")
    starts = np.concatenate([[0], np.cumsum(np.bincount(triangles.ravel(), minlength=count))])
    return starts, order // 3


def _stays(mesh: TriangleMesh) -> Bools:
    """Points (N,) that do not move: those of borders, and of what is invented."""
    stays = np.array(border_points(mesh))
    if mesh.invented is not None:
        stays[mesh.triangles[mesh.invented]] = True
    return stays
