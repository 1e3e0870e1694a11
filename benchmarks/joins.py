"""Joining: partial views of parts of our own making from anywhere, and a ring of patches that drifts."""

from __future__ import annotations

import os
import time
from collections.abc import Iterator
from typing import Any

import numpy as np

from benchmarks.starts import drill, parts
from juxtum.demo import solids
from juxtum.geometry import RigidTransform, TriangleMesh
from juxtum.geometry.arrays import Floats
from juxtum.geometry.rays import RayCaster
from juxtum.geometry.transform import rotation_from_vector
from juxtum.nominal import Nominal
from juxtum.nominal.model import sample_surface

NOISE = 0.02
POINTS = 60_000
DIRECTIONS = np.array([[x, y, z] for x in (-1, 1) for y in (-1, 1) for z in (-1, 1)]) / np.sqrt(3)


def joined_parts() -> dict[str, Any]:
    """Different parts: cast, turned, sheet, free-form, near-symmetric, with threads.

    Of the turned one with a keyway three of the eight views see nothing of it: nobody can tell how these lie.
    """
    known = parts()
    ridges = [drill(0, 0, 14.0, z, z + 1.0) for z in np.arange(6.0, 44.0, 2.0)]
    bolt = solids.fused(drill(0, 0, 12.8, 0, 50), [*ridges, solids.box((-15, -13, 50), (30, 26, 12))])
    shaft = solids.cut(known["turned shaft"], [solids.box((-3, 7, 100), (6, 8, 50))])
    flats = [flat(turn, depth) for turn, depth in ((0, 3.0), (110, 5.0), (235, 4.0))]
    flattened = solids.cut(
        known["turned shaft"],
        [*flats, solids.cylinder((0, 0, 30), (1, 0, 0), 4, 40), solids.box((-20, 8, 118), (40, 6, 30))],
    )
    return {
        "casting": known["casting"], "turned shaft with a keyway": shaft, "turned shaft with flats": flattened, "sheet bracket": known["sheet bracket"],
        "bolted flange": known["bolted flange"], "threaded bolt": bolt,
    }  # fmt: skip


def flat(turn: float, depth: float) -> Any:
    """What a flat on a shaft of 22 mm radius takes away between 60 and 80 mm of its height, so many degrees round it."""
    out = np.array([np.cos(np.radians(turn)), np.sin(np.radians(turn))])
    across, near = np.array([-out[1], out[0]]) * 40, out * (22 - depth)
    corners = [near - across, 60 * out - across, 60 * out + across, near + across]
    return solids.extruded([(float(x), float(y), 60.0) for x, y in corners], (0, 0, 20.0))


def smooth_lump(seed: int = 3) -> TriangleMesh:
    """A free form without any edge, 120 x 84 x 60 mm and some dents and humps."""
    import trimesh

    ball = trimesh.creation.icosphere(subdivisions=6)
    places, rng = np.asarray(ball.vertices), np.random.default_rng(seed)
    reach = np.ones(len(places))
    for _ in range(9):
        towards = rng.normal(size=3)
        towards /= np.linalg.norm(towards)
        width = rng.uniform(2, 6)
        reach += rng.uniform(-0.12, 0.18) * np.exp(width * (places @ towards - 1))
    return TriangleMesh(places * reach[:, None] * [60, 42, 30], np.asarray(ball.faces))


def whole(nominal: Nominal, points: int = POINTS) -> TriangleMesh:
    """A fine mesh of the part as drawn."""
    size = float(np.sqrt(nominal.area / points)) * 1.5
    fine = sample_surface(nominal.mesh, nominal.triangle_faces, size * 2.5).mesh
    keys = np.round(fine.points / 1e-5).astype(np.int64)
    _, first, inverse = np.unique(keys, axis=0, return_index=True, return_inverse=True)
    return TriangleMesh(fine.points[first], inverse.reshape(-1)[fine.triangles])


def view_of(mesh: TriangleMesh, caster: RayCaster, towards: Floats, rng: np.random.Generator) -> TriangleMesh:
    """What is seen from a direction, with noise, in part coordinates."""
    centres, normals = mesh.corners.mean(1), mesh.triangle_normals
    far = float(np.linalg.norm(np.ptp(mesh.bounds, axis=0)))
    faces = normals @ towards > 0.25
    seen = faces.copy()
    starts = centres[faces] + 1e-4 * far * normals[faces]
    seen[faces] = ~caster.blocked(starts, np.tile(towards, (len(starts), 1)), np.full(len(starts), far))
    part = mesh.kept_triangles(seen)
    return TriangleMesh(part.points + rng.normal(0, NOISE, part.points.shape), part.triangles)


def anywhere(rng: np.random.Generator, size: float) -> RigidTransform:
    """Any pose."""
    turn = rng.normal(size=3)
    turn *= rng.uniform(0, np.pi) / np.linalg.norm(turn)
    return RigidTransform.from_parts(rotation_from_vector(turn), rng.uniform(-2 * size, 2 * size, 3))


def views(part: Nominal | TriangleMesh, seed: int, count: int = 8) -> tuple[list[TriangleMesh], list[RigidTransform]]:
    """Partial views from all round, each in a frame of its own, and the true way of each back into the part."""
    rng = np.random.default_rng(seed)
    mesh = part if isinstance(part, TriangleMesh) else whole(part)
    size = float(np.linalg.norm(np.ptp(mesh.bounds, axis=0)))
    caster = RayCaster(mesh)
    turn = rotation_from_vector(rng.normal(size=3))
    scans, truths = [], []
    for towards in DIRECTIONS[:count] @ turn.T:
        move = anywhere(rng, size)
        scans.append(view_of(mesh, caster, towards, rng).moved(move))
        truths.append(move.inverse)
    return scans, truths


def worst_corner(poses: list[RigidTransform], truths: list[RigidTransform], part: Nominal | TriangleMesh) -> float:
    """How far any corner of the part's bounds lies off, once the whole is laid as well as can be, mm."""
    from juxtum.geometry.registration import rigid_from_pairs

    bounds = part.bounds if isinstance(part, TriangleMesh) else part.mesh.bounds
    corners = np.array(np.meshgrid(*bounds.T)).reshape(3, -1).T
    there = np.concatenate([(p @ t.inverse).apply(corners) for p, t in zip(poses, truths, strict=True)])
    wanted = np.tile(corners, (len(poses), 1))
    laid = rigid_from_pairs(there, wanted).apply(there)
    return float(np.linalg.norm(laid - wanted, axis=1).max())


def ring(
    nominal: Nominal, count: int, step: tuple[float, float], seed: int, fine: tuple[int, float] = (200_000, 1.6)
) -> tuple[list[TriangleMesh], list[RigidTransform]]:
    """Patches all round the part in part coordinates, each a step (mm and degrees) farther off than the one before it.

    Made of so many triangles, each patch so many times half its share of the circle wide to either side.
    """
    rng, mesh = np.random.default_rng(seed), whole(nominal, fine[0])
    away, extent = mesh.corners.mean(1) - mesh.bounds.mean(0), np.ptp(mesh.bounds, axis=0)
    angles = np.arctan2(away[:, 1] / extent[1], away[:, 0] / extent[0])
    scans, truths, drift = [], [], RigidTransform.identity()
    turned, shift = rotation_from_vector(np.array([0.0, 0, np.radians(step[1])])), np.full(3, step[0] / np.sqrt(3))
    for k in range(count):
        apart = np.abs((angles + np.pi - 2 * np.pi * k / count + np.pi) % (2 * np.pi) - np.pi)
        part = mesh.kept_triangles(apart < fine[1] * np.pi / count)
        points = part.points + rng.normal(0, NOISE, part.points.shape)
        scans.append(TriangleMesh(points, part.triangles).moved(drift))
        truths.append(drift.inverse)
        middle = part.points.mean(0)
        drift = RigidTransform.from_parts(turned, middle - turned @ middle + shift) @ drift
    return scans, truths


def joins() -> Iterator[str]:
    """Rings of patches round the demo parts that drift, and eight views of each of six parts from anywhere, by shape; or what JUXTUM_PARTS names."""
    for part, count, fine in (("BC-220", 12, (200_000, 1.6)), ("HB-36", 24, (1_000_000, 2.4))):
        if _is_asked(part):
            yield _ring_joined(part, count, fine)
    known: dict[str, Nominal | TriangleMesh] = {n: Nominal.from_shape(shape) for n, shape in joined_parts().items()}
    for name, lying in (known | {"smooth lump": smooth_lump()}).items():
        if _is_asked(name):
            yield f"{name}: {_by_shape(lying)}"


def _is_asked(name: str) -> bool:
    return name in os.environ.get("JUXTUM_PARTS", name).split(",")


def _ring_joined(part: str, count: int, fine: tuple[int, float]) -> str:
    """Patches round a demo part, each a little off the one before, and what joining makes of them."""
    from juxtum.align.scans.join import join
    from juxtum.align.scans.sheet import make_sheet
    from juxtum.demo.world import nominal_path
    from juxtum.job.inputs import load_nominal
    from juxtum.progress import silent

    nominal = load_nominal(nominal_path(part), None, silent())
    scans, truths = ring(nominal, count, (0.05, 0.01), 2, fine)
    began = time.perf_counter()
    made = join([make_sheet(scan, str(k)) for k, scan in enumerate(scans)])
    seconds = time.perf_counter() - began
    poses = [p for p in made.poses if p is not None]
    worst = worst_corner(poses, truths, nominal)
    open_before = max((loop.before_mm for loop in made.loops), default=0.0)
    start = worst_corner([RigidTransform.identity()] * len(truths), truths, nominal)
    return (
        f"ring of {count} round {part}: {len(poses)} tied, worst corner {start:.3f} mm off before, {worst:.3f} after; "
        f"loops open by {open_before:.3f}; {sum(bool(r) for r in made.reasons)} doubt; {seconds:.0f} s"
    )


def _by_shape(lying: Nominal | TriangleMesh) -> str:
    """Eight views of a part from anywhere, and what joining makes of them."""
    from juxtum.align.scans.join import join
    from juxtum.align.scans.proposing import PROPOSED
    from juxtum.align.scans.sheet import make_sheet
    from juxtum.align.scans.work import Joining
    from juxtum.errors import AlignmentError

    scans, truths = views(lying, 5)
    began = time.perf_counter()
    try:
        made = join([make_sheet(scan, str(k)) for k, scan in enumerate(scans)], (), Joining(by_shape=True))
    except AlignmentError as problem:
        return problem.sentence
    placed = [(pose, truth) for pose, truth in zip(made.poses, truths, strict=True) if pose is not None]
    worst = worst_corner([pose for pose, _ in placed], [truth for _, truth in placed], lying)
    doubted = sum(PROPOSED in reason for reason in made.reasons)
    seconds = time.perf_counter() - began
    return f"{len(placed)} of 8 placed by shape, worst corner {worst:.3f} mm; {doubted} say that they are not sure; {seconds:.0f} s"


def twenty() -> Iterator[str]:
    """Twenty patches of about half a million points round BC-220 that drift: looked at and joined, from rough to closed."""
    from juxtum.align.scans.join import join
    from juxtum.align.scans.sheet import make_sheet
    from juxtum.demo.world import nominal_path
    from juxtum.job.inputs import load_nominal
    from juxtum.progress import silent

    nominal = load_nominal(nominal_path("BC-220"), None, silent())
    scans, truths = ring(nominal, 20, (0.02, 0.005), 2, (int(os.environ.get("JUXTUM_TRIANGLES") or 8_000_000), 2.4))
    sizes = sorted(len(scan.points) for scan in scans)
    began = time.perf_counter()
    sheets = [make_sheet(scan, str(k)) for k, scan in enumerate(scans)]
    looked = time.perf_counter()
    made = join(sheets)
    ended = time.perf_counter()
    poses = [pose for pose in made.poses if pose is not None]
    yield (
        f"20 scans of {sizes[0]:,} to {sizes[-1]:,} points: {len(poses)} tied, worst corner {worst_corner(poses, truths, nominal):.3f} mm; "
        f"{looked - began:.0f} s to look at them, {ended - looked:.0f} s to join them"
    )
