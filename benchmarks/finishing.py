"""Surfaces of many points, selections, features grown over large meshes: how long, how much memory, how true."""

from __future__ import annotations

import resource
import time
from collections.abc import Iterator

import numpy as np

from juxtum.demo.world import nominal_path
from juxtum.geometry import TriangleMesh
from juxtum.geometry.arrays import Floats
from juxtum.job.inputs import load_nominal
from juxtum.nominal import Nominal
from juxtum.nominal.model import sample_surface
from juxtum.progress import silent

NOISE = 0.02


def _points(nominal: Nominal, count: int) -> tuple[Floats, Floats]:
    """About so many points of the part as drawn with noise, and their directions."""
    size = 2.2 * float(np.sqrt(nominal.area / count))
    dense = sample_surface(nominal.mesh, nominal.triangle_faces, size).mesh
    normals = dense.triangle_normals
    rng = np.random.default_rng(0)
    return dense.corners.mean(1) + normals * rng.normal(0, NOISE, (len(normals), 1)), normals


def surfaces() -> Iterator[str]:
    """BC-220 from five to sixteen million points, its truth, then what is done with the surface."""
    from juxtum.assemble.finishing import repair, smooth, thin
    from juxtum.assemble.holes import holes_of
    from juxtum.assemble.surfacing import make_surface

    nominal = load_nominal(nominal_path(), None, silent())
    points, normals = _points(nominal, 5_000_000)
    began = time.perf_counter()
    mesh = make_surface(points, normals, 0.36, overhang=0.9)
    seconds = time.perf_counter() - began
    memory = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1e6
    yield f"{len(points):,} points: {len(mesh.triangles):,} triangles in {seconds:.0f} s, {memory:.1f} GB at most; {_truth(mesh, nominal)}"
    for name, work in (
        ("repair", lambda: repair(mesh)),
        ("holes", lambda: holes_of(mesh)),
        ("smooth", lambda: smooth(mesh, 0.05)),
        ("thin to 300,000", lambda: thin(mesh, 1.0, 300_000)),
    ):
        began = time.perf_counter()
        made = work()
        words = "; ".join(getattr(made, "notes", ())) or f"{len(made)} borders"
        yield f"{name}: {time.perf_counter() - began:.1f} s; {words}"
    yield f"after smoothing: {_truth(smooth(mesh, 0.05).mesh, nominal)}"


def _truth(mesh: TriangleMesh, nominal: Nominal) -> str:
    """How far its points lie off the part, away from edges."""
    some = mesh.points[:: max(1, len(mesh.points) // 40_000)]
    foot = nominal.projector.project(some, limit=2.0)
    clear = np.isfinite(foot.distances)
    clear[clear] = nominal.edge_distances(foot.feet[clear], 3.0) > 1.5
    off = foot.distances[clear]
    return f"RMS {np.sqrt((off**2).mean()):.4f} mm to the truth, bias {off.mean():+.5f}"


def selections() -> Iterator[str]:
    """An outline of three hundred corners and a brush over five million points; features grown over two million triangles."""
    from juxtum.assemble.select import Prism, inside_prism
    from juxtum.assemble.surfacing import make_surface
    from juxtum.evaluate.features.growing import grow

    rng = np.random.default_rng(0)
    points = rng.uniform(-1, 1, (5_000_000, 3))
    turn = np.linspace(0, 2 * np.pi, 300, endpoint=False)
    outline = 0.7 * (1 + 0.3 * np.sin(9 * turn))[:, None] * np.column_stack([np.cos(turn), np.sin(turn)])
    for name, prism in (
        ("outline", Prism(np.eye(4), outline)),
        ("brush", Prism(np.eye(4), outline[:100], np.array([0.05, 0.08]))),
    ):
        inside_prism(points[:10], prism)
        began = time.perf_counter()
        share = inside_prism(points, prism).mean()
        yield f"{name} over 5,000,000 points: {1000 * (time.perf_counter() - began):.0f} ms, {share:.3f} of them"
    nominal = load_nominal(nominal_path(), None, silent())
    mesh = make_surface(*_points(nominal, 3_000_000), 0.44, overhang=0.9)
    centres = mesh.corners.mean(1)
    began = time.perf_counter()
    grow(mesh, 0)
    yield f"the first click on {len(mesh.triangles):,} triangles: {time.perf_counter() - began:.2f} s"
    for name, place, kind in (("bore", (36.0, 0, 80), "cylinder"), ("top of the plate", (-60.0, 20, 18), "plane")):
        seed = int(np.argmin(np.linalg.norm(centres - place, axis=1)))
        for asked in ("", kind):
            began = time.perf_counter()
            made = grow(mesh, seed, asked)
            words = "kind found" if not asked else "kind given"
            yield f"{name}, {words}: {1000 * (time.perf_counter() - began):.0f} ms, {len(made.triangles):,} triangles, {made.feature.sizes}"
