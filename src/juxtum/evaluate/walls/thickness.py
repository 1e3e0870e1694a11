"""Thickness of a wall at each of many places: straight through it, or the largest ball that fits inside there."""

from __future__ import annotations

import numpy as np

from juxtum.geometry import TriangleMesh
from juxtum.geometry.arrays import Bools, Floats, unit
from juxtum.geometry.kdtree import kd_tree
from juxtum.geometry.rays import RayCaster

SQUARE = 0.8
"""Least cosine at which a line straight through a wall has to leave it again: where it leaves more aslant it is no thickness."""
ROUNDS = 40
SAME_SIDE = np.cos(np.radians(40.0))
"""A ball is not pressed by what lies beside the place at which it touches: noise there would make it tiny."""
OF_STRAIGHT = 0.7
"""A ball much smaller than the way straight through rests on an edge; between two planes under 40 degrees it has 0.87 of it."""
ROUND = 0.99
"""A ball as large as the way straight through touches a round bar all about: wherever it rests is as good."""
SETTLED = 1e-3
"""A ball that shrinks by less than this share has settled."""
SEED = 5
CALM, ALIKE = 24, 0.87
"""Directions are averaged as far as so many points of the scan reach, of those within 30 degrees."""
CHUNK = 20_000


def even_places(mesh: TriangleMesh, count: int) -> tuple[Floats, Floats]:
    """Places (K, 3) evenly over a surface and its directions (K, 3) out of the material there.

    However coarse its triangles are: thin walls are often flat, and flat regions are often drawn with few of them.
    """
    running = np.cumsum(mesh.triangle_areas)
    rng = np.random.default_rng(SEED)
    chosen = np.searchsorted(running, (np.arange(count) + rng.uniform(0, 1, count)) / count * running[-1])
    chosen = chosen.clip(0, len(running) - 1)
    u, v = rng.uniform(0, 1, (2, count))
    over = u + v > 1
    u, v = np.where(over, 1 - u, u), np.where(over, 1 - v, v)
    shares = np.stack([1 - u - v, u, v], axis=1)[:, :, None]
    corners = mesh.triangles[chosen]
    smooth = unit((mesh.normals[corners] * shares).sum(1))
    flat = mesh.triangle_normals[chosen]
    # At a sharp edge the directions of the corners are those of neither side.
    normals = np.where((np.einsum("ij,ij->i", smooth, flat) > 0.9)[:, None], smooth, flat)
    places = (mesh.points[corners] * shares).sum(1)
    # As far as so many points of the scan reach: places in one triangle share its noise.
    around = min(int(CALM * max(1.0, count / max(len(np.unique(mesh.triangles)), 1))), count)
    for _ in range(2):
        normals = _calmed(places, normals, around)
    return places, normals


def _calmed(places: Floats, normals: Floats, count: int) -> Floats:
    """Directions (K, 3) averaged with those beside them that face alike: noise turns a triangle far more than it turns the wall."""
    tree, made = kd_tree(places), np.empty_like(normals)
    for rows in np.array_split(np.arange(len(places)), max(1, len(places) // CHUNK)):
        beside = normals[tree.query(places[rows], k=count, workers=-1)[1].reshape(len(rows), -1)]
        alike = np.einsum("nkd,nd->nk", beside, normals[rows]) > ALIKE
        made[rows] = np.einsum("nk,nkd->nd", alike, beside)
    return unit(made)


def by_ray(mesh: TriangleMesh, places: Floats, normals: Floats) -> Floats:
    """Thickness (K,) straight through the wall from some places, mm; NaN where no other side faces away.

    Parameters
    ----------
    places, normals : array (K, 3)
        On the mesh, and out of the material there.
    """
    inwards = -normals
    start = 1e-4 * max(float(np.linalg.norm(np.ptp(mesh.bounds, axis=0))), 1e-6)
    hit = RayCaster(mesh).first_triangles(places + start * inwards, inwards)
    met = hit >= 0
    corners, facing = mesh.corners[hit[met]], mesh.triangle_normals[hit[met]]
    # The accelerator only says which triangle it is: how far away is worked out in full precision.
    slope = np.einsum("ij,ij->i", inwards[met], facing)
    way = np.einsum("ij,ij->i", corners[:, 0] - places[met], facing) / np.where(np.abs(slope) < 1e-9, np.nan, slope)
    made = np.full(len(places), np.nan)
    made[met] = np.where((slope > SQUARE) & (way > 0), way, np.nan)
    return made


def by_ball(places: Floats, normals: Floats, straight: Floats) -> Floats:
    """Diameter (K,) of the largest ball inside the material that touches the surface at each place, mm; NaN where none settles.

    Each ball begins as large as the way straight through and shrinks to what it would cut (Ma, Bae and Choi 2012, 3D medial axis point
    approximation using nearest neighbors and the normal field).

    Parameters
    ----------
    places, normals : array (K, 3)
        Evenly all over the surface, and out of the material there.
    straight : array (K,)
        The way straight through at each, mm: no ball is larger.
    """
    inwards = -unit(normals)
    tree, radius = kd_tree(places), np.nan_to_num(straight) / 2
    is_settled, pressed_by = ~np.isfinite(straight), np.full(len(places), -1)
    for _ in range(ROUNDS):
        open_ = np.flatnonzero(~is_settled)
        if len(open_) == 0:
            break
        centres = places[open_] + radius[open_, None] * inwards[open_]
        apart, other = tree.query(centres, workers=-1)
        step = places[other] - places[open_]
        along = np.einsum("ij,ij->i", step, inwards[open_])
        square = np.einsum("ij,ij->i", step, step)
        smaller = np.where(along > 0, square / np.maximum(2 * along, 1e-12), np.inf)
        cut = (apart < radius[open_] * (1 - SETTLED)) & (smaller < radius[open_])
        beside = _beside(along, square)
        is_settled[open_[~cut | beside]] = True
        go_on = cut & ~beside
        radius[open_[go_on]], pressed_by[open_[go_on]] = smaller[go_on], other[go_on]
    # In a corner, and at the end of a wall, the ball rests on the face beside: that is no thickness.
    rests_beside = (pressed_by >= 0) & (np.einsum("ij,ij->i", normals[pressed_by], inwards) < SQUARE)
    is_round = 2 * radius >= ROUND * straight
    is_known = is_settled & (~rests_beside | is_round) & (2 * radius >= OF_STRAIGHT * straight)
    return np.where(is_known, 2 * radius, np.nan)


def _beside(along: Floats, square: Floats) -> Bools:
    """Whether what presses a ball lies beside the place at which it touches, not across the material: by the angle between both radii."""
    sine = np.where(square > 0, along / np.sqrt(np.maximum(square, 1e-300)), 0.0)
    return np.asarray(1 - 2 * sine**2 > SAME_SIDE)
