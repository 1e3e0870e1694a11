"""Surfaces of known shape that tests work on."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import trimesh

from juxtum.geometry import TriangleMesh
from juxtum.geometry.arrays import Bools, Floats

NOISE = 0.02
RADIUS = 30.0


def ball(subdivisions: int = 5) -> TriangleMesh:
    made = trimesh.creation.icosphere(subdivisions, RADIUS)
    return TriangleMesh(np.array(made.vertices), np.array(made.faces))


def tube(radius: float = 20.0, spacing: float = 0.8) -> TriangleMesh:
    """An open cylinder about Z, 40 mm tall."""
    round_, tall = int(2 * np.pi * radius / spacing), int(40 / spacing)
    turn, z = np.meshgrid(np.arange(round_) * 2 * np.pi / round_, np.arange(tall + 1) * 40 / tall, indexing="ij")
    points = np.stack([radius * np.cos(turn), radius * np.sin(turn), z], -1).reshape(-1, 3)
    a = np.arange(round_ * (tall + 1)).reshape(round_, -1)
    b = np.roll(a, -1, axis=0)
    quads = np.stack([a[:, :-1], b[:, :-1], b[:, 1:], a[:, 1:]], -1).reshape(-1, 4)
    return TriangleMesh(points, np.concatenate([quads[:, [0, 1, 2]], quads[:, [0, 2, 3]]]))


def noisy(mesh: TriangleMesh, noise: float = NOISE) -> TriangleMesh:
    rng = np.random.default_rng(1)
    return TriangleMesh(mesh.points + mesh.normals * rng.normal(0, noise, (len(mesh.points), 1)), mesh.triangles)


def bored(mesh: TriangleMesh, places: list[tuple[float, float, float]], width: float) -> TriangleMesh:
    """With round holes of a width about some places."""
    middles = mesh.corners.mean(1)
    near = np.zeros(len(middles), dtype=bool)
    for place in places:
        near |= np.linalg.norm(middles - place, axis=1) < width / 2
    return mesh.kept_triangles(~near)


def sheet(
    lift: Callable[[Floats, Floats], Floats],
    bend: float = np.inf,
    blank: Callable[[Floats, Floats], Bools] | None = None,
) -> TriangleMesh:
    """A sheet of 100 mm square, flat or bent about Y to a radius, lifted by a function of its two lengths, with noise of 0.02 mm."""
    rng, count = np.random.default_rng(4), 200
    u, v = (np.meshgrid(np.arange(count), np.arange(count), indexing="ij") - np.full((2, 1, 1), count / 2)) * 0.5
    u, v = u + rng.uniform(-0.1, 0.1, u.shape), v + rng.uniform(-0.1, 0.1, v.shape)
    high = lift(u, v) + rng.normal(0, NOISE, u.shape)
    turned = (
        ((bend + high) * np.sin(u / bend), v, (bend + high) * np.cos(u / bend)) if np.isfinite(bend) else (u, v, high)
    )
    points = np.stack(turned, -1).reshape(-1, 3)
    a = np.arange(count * count).reshape(count, -1)
    quads = np.stack([a[:-1, :-1], a[1:, :-1], a[1:, 1:], a[:-1, 1:]], -1).reshape(-1, 4)
    mesh = TriangleMesh(points, np.concatenate([quads[:, [0, 1, 2]], quads[:, [0, 2, 3]]]))
    return mesh if blank is None else mesh.kept_triangles(~blank(u, v).ravel()[mesh.triangles].any(1))
