"""Where a feature that is grown begins: from the places and directions of a patch, or across an opening."""

from __future__ import annotations

from collections.abc import Callable
from itertools import product

import numpy as np

from juxtum.errors import FitError
from juxtum.geometry.arrays import Floats, even_directions, orthonormal_frame, unit
from juxtum.geometry.features import OPENINGS, Cone, Cylinder, Feature, Opening, Plane, Sphere, Torus
from juxtum.geometry.mesh import TriangleMesh

SLIM = 2.0
"""A cone of fewer degrees to either side is a cylinder."""
OPPOSITE, TURNS, ASIDE = 0.8, 36, (0.0, 0.25, -0.25)
"""Walls of an opening look at each other to within this cosine; so many directions are looked along for its ends, from
its middle and so far to either side, as a share of half its width."""
FACING, LOOKED = 0.96, 400
"""The same where both walls are looked for, in so many directions."""


def _begun_plane(points: Floats, normals: Floats) -> Feature:
    return Plane(points.mean(0), unit(normals.sum(0)))


def _begun_sphere(points: Floats, normals: Floats) -> Feature:
    """Along its normals each point lies as far from the centre."""
    rows = np.concatenate([np.tile(np.eye(3), (len(points), 1)), normals.reshape(-1, 1)], axis=1)
    x = np.linalg.lstsq(rows, points.ravel(), rcond=None)[0]
    return Sphere(x[:3], abs(float(x[3])))


def _begun_cylinder(points: Floats, normals: Floats) -> Feature:
    """Its axis is where normals look least; seen along it each point lies as far along its normal from the centre."""
    axis = np.linalg.eigh(normals.T @ normals)[1][:, 0]
    frame = orthonormal_frame(axis)
    flat, facing = points @ frame[:2].T, unit(normals @ frame[:2].T)
    rows = np.concatenate([np.tile(np.eye(2), (len(points), 1)), facing.reshape(-1, 1)], axis=1)
    x = np.linalg.lstsq(rows, flat.ravel(), rcond=None)[0]
    return Cylinder(x[0] * frame[0] + x[1] * frame[1] + (points @ frame[2]).mean() * frame[2], axis, abs(float(x[2])))


def _begun_cone(points: Floats, normals: Floats) -> Feature:
    """Its normals lie on a cone about its axis, and the planes of all its points meet in its apex.

    What the patch took over an edge lies off both: the half of it that agrees best is what counts.
    """
    good = np.ones(len(points), dtype=bool)
    for _ in range(6):
        axis = np.linalg.svd(normals[good] - normals[good].mean(0), full_matrices=False)[2][2]
        off = np.abs(normals @ axis - np.median(normals[good] @ axis))
        good = off <= max(2.5 * float(np.median(off)), 1e-6)
    points, normals = points[good], normals[good]
    lean = float(np.mean(normals @ axis))
    apex = np.linalg.lstsq(normals, np.einsum("nd,nd->n", normals, points), rcond=None)[0]
    along = (points - apex) @ axis
    if along.mean() < 0:
        axis, along, lean = -axis, -along, -lean
    half = float(np.arcsin(np.clip(abs(lean), 0.0, 1.0)))
    if not np.radians(SLIM) < half < np.radians(88):
        raise FitError("the points make no cone")
    return Cone(apex + along.mean() * axis, axis, float(along.mean() * np.tan(half)), half)


def _begun_torus(points: Floats, normals: Floats) -> Feature:
    """The lines along its normals all meet its axis; seen round that, each point lies as far along its normal from one place.

    That lines (direction l, moment m) meet an axis (direction a, moment b) is a . m + b . l = 0 (Pottmann and Wallner 2001).
    """
    centre, good = points.mean(0), np.ones(len(points), dtype=bool)
    size = max(float(np.linalg.norm(np.ptp(points, axis=0))), 1e-9)
    places = (points - centre) / size
    rows = np.concatenate([np.cross(places, normals), normals], axis=1)
    for _ in range(4):
        axis, place = _met_by(rows[good])
        off = np.abs(rows @ np.r_[axis, np.cross(place, axis)])
        good = off <= max(2.5 * float(np.median(off)), 1e-9)
    arms = places[good] - place
    along = arms @ axis
    out = arms - np.outer(along, axis)
    reach = np.linalg.norm(out, axis=1)
    out = unit(out)
    looks = np.stack([np.einsum("nd,nd->n", normals[good], out), normals[good] @ axis], axis=1)
    flat = np.stack([reach, along], axis=1)
    system = np.concatenate([np.tile(np.eye(2), (len(flat), 1)), looks.reshape(-1, 1)], axis=1)
    radius, height, minor = np.linalg.lstsq(system, flat.ravel(), rcond=None)[0]
    if min(abs(radius), abs(minor)) < 1e-6:
        raise FitError("the points make no torus")
    return Torus(centre + size * (place + height * axis), axis, float(abs(radius) * size), float(abs(minor) * size))


def _met_by(rows: Floats) -> tuple[Floats, Floats]:
    """Direction and a place (3,) of the axis that lines (N, 6) with moments and directions meet best."""
    values, vectors = np.linalg.eigh(rows.T @ rows)
    best: tuple[float, Floats] | None = None
    # Of what nearly fits, the one that is a line: its moment stands square to its direction.
    for vector in vectors.T[:1] if values[1] > 4 * values[0] else vectors.T[:2]:
        length = float(np.linalg.norm(vector[:3]))
        if length > 1e-6 and (best is None or abs(vector[:3] @ vector[3:]) < best[0]):
            best = (abs(float(vector[:3] @ vector[3:])), vector / length)
    if best is None:
        raise FitError("the points make no torus")
    axis, moment = best[1][:3], best[1][3:]
    return axis, np.cross(axis, moment - (moment @ axis) * axis)


BEGINNINGS: dict[str, Callable[[Floats, Floats], Feature]] = {
    "plane": _begun_plane, "cylinder": _begun_cylinder, "sphere": _begun_sphere, "cone": _begun_cone, "torus": _begun_torus,
}  # fmt: skip


def opening_about(mesh: TriangleMesh, seed: int, kind: str, looks: Callable[[int], Floats]) -> Opening:
    """A slot or a rectangle to begin with, of which a triangle lies on the wall: looked for across the opening.

    Parameters
    ----------
    looks : callable
        Which way (3,) the surface looks about a triangle: one of them by itself may be turned by noise.

    Raises
    ------
    FitError
        When there is no wall all round.
    """
    lost = FitError(f"there is no wall all round the place, as a {kind} has", next="Click inside it, or name its faces")
    out, place = looks(seed), mesh.points[mesh.triangles[seed]].mean(0)
    over = mesh.tree.first_hit(place + 1e-3 * mesh.spacing * out, out)
    # Whatever part of the wall the place is on, round end or side, the middle of that chord lies in the opening.
    sides = None if over is None else _opposite(mesh, (place + over[1]) / 2, looks)
    if sides is None:
        raise lost
    out, place, gap = sides
    ends = _ends_beside(mesh, place + gap / 2 * out, gap / 2 * out, looks)
    if ends is None:
        raise lost
    along, first, last = ends
    reach, middle = float((last - first) @ along), (first + last) / 2
    middle = middle + float((place + gap / 2 * out - middle) @ out) * out
    axis = np.cross(out, along)
    length, width, way = (reach, gap, along) if reach >= gap else (gap, reach, out)
    return OPENINGS[kind](middle, axis, way, length, width)


def _opposite(
    mesh: TriangleMesh, middle: Floats, looks: Callable[[int], Floats]
) -> tuple[Floats, Floats, float] | None:
    """The nearest two walls that look at each other across a place: which way, where the one lies, and how far apart they are."""
    best: tuple[float, Floats, Floats] | None = None
    for way in even_directions(2 * LOOKED)[:LOOKED]:
        first, last = mesh.tree.first_hit(middle, -way), mesh.tree.first_hit(middle, way)
        if first is None or last is None:
            continue
        sides = looks(first[0]), looks(last[0])
        gap = float(np.linalg.norm(last[1] - first[1]))
        if min(sides[0] @ way, -(sides[1] @ way)) > FACING and (best is None or gap < best[0]):
            best = (gap, unit(sides[0] - sides[1]), first[1])
    if best is None:
        return None
    last = mesh.tree.first_hit(best[2] + 1e-3 * mesh.spacing * best[1], best[1])
    return None if last is None else (best[1], best[2], float((last[1] - best[2]) @ best[1]))


def _ends_beside(
    mesh: TriangleMesh, middle: Floats, across: Floats, looks: Callable[[int], Floats]
) -> tuple[Floats, Floats, Floats] | None:
    """Across which direction two walls look at each other best, and where either is met; None where there are none.

    Parameters
    ----------
    across : array (3,)
        From the middle to one side: lines of sight go beside the middle, too, lest a gap in the scan lets one through.
    """
    u, v, out = orthonormal_frame(across)
    best: tuple[float, Floats, Floats, Floats] | None = None
    for turn, aside in product(np.linspace(0, np.pi, TURNS, endpoint=False), ASIDE):
        way, start = np.cos(turn) * u + np.sin(turn) * v, middle + aside * across
        first, last = mesh.tree.first_hit(start, -way), mesh.tree.first_hit(start, way)
        if first is None or last is None:
            continue
        sides = looks(first[0]), looks(last[0])
        agree = min(float(sides[0] @ way), float(-sides[1] @ way))
        if agree > OPPOSITE and (best is None or agree > best[0]):
            along = unit(sides[0] - sides[1])
            best = (agree, unit(along - (along @ out) * out), first[1], last[1])
    return None if best is None else best[1:]


def walls_met(mesh: TriangleMesh, opening: Opening, seed: int) -> list[int]:
    """A triangle on the wall, and those that are met from the middle of an opening, as deep, along its length and its width."""
    middle = opening.anchored(mesh.points[mesh.triangles[seed]].mean(0)).point
    met = [mesh.tree.first_hit(middle, way) for way in (*opening.frame[:2], *-opening.frame[:2])]
    return [seed, *(hit[0] for hit in met if hit is not None)]
