"""How long the associations take that a person waits for."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from benchmarks.speed import seconds
from juxtum.associate.fit import fit_cylinder
from juxtum.associate.from_points import zoned
from juxtum.evaluate.features.growing import grow
from juxtum.geometry import TriangleMesh


def grid_mesh(across: int, noise: float) -> TriangleMesh:
    """A plate of 200 mm beside a half cylinder along its border, as one net of triangles."""
    rng = np.random.default_rng(3)
    s, t = np.meshgrid(np.linspace(0, 200, across), np.linspace(0, 200, across), indexing="ij")
    bend = np.clip(s - 140, 0, None) / 40.0
    points = np.stack(
        [np.where(s < 140, s, 140 + 40 * np.sin(bend)), t, np.where(s < 140, 0.0, -40 * (1 - np.cos(bend)))], -1
    )
    k = np.arange(across * across).reshape(across, across)
    quads = k[:-1, :-1], k[1:, :-1], k[1:, 1:], k[:-1, 1:]
    triangles = np.concatenate([np.stack(q, -1).reshape(-1, 3) for q in (quads[:3], (quads[0], quads[2], quads[3]))])
    return TriangleMesh(points.reshape(-1, 3) + rng.normal(0, noise, (across**2, 3)), triangles)


def fits() -> Iterator[str]:
    """Gauss cylinder and narrowest zone of 100,000 points, a region grown over two million triangles."""
    rng = np.random.default_rng(5)
    turn = rng.uniform(0, 2 * np.pi, 100_000)
    wall = np.stack([30 * np.cos(turn), 30 * np.sin(turn), rng.uniform(0, 60, len(turn))], 1)
    wall += rng.normal(0, 0.02, wall.shape) + np.array([5000.0, -4000.0, 3000.0])
    flat = np.column_stack([rng.uniform(0, 200, (100_000, 2)), rng.normal(0, 0.02, 100_000)])
    fit_cylinder(wall[:100])
    yield f"Gauss cylinder on 100,000 points: {1000 * seconds(lambda: fit_cylinder(wall)):.0f} ms (100 asked)"
    yield f"narrowest zone of a plane on 100,000: {1000 * seconds(lambda: zoned('plane', flat)):.0f} ms (300 asked)"
    mesh = grid_mesh(1001, 0.01)
    seeds = {"plane": 2 * 50_000, "cylinder": 850 * 1000 + 500}
    for kind, seed in seeds.items():
        grow(mesh, seed, kind)
        spent = seconds(lambda kind=kind, seed=seed: grow(mesh, seed, kind))
        auto = seconds(lambda seed=seed: grow(mesh, seed))
        region = grow(mesh, seed)
        yield (
            f"{type(region.feature).__name__.lower()} grown to {len(region.triangles):,} of {len(mesh.triangles):,} triangles: "
            f"{1000 * spent:.0f} ms with its kind, {1000 * auto:.0f} ms where the kind is told by the surface (300 asked)"
        )
