"""The automatic start on plain parts that are not the demo: right, said to be unsure, or wrong in silence."""

from __future__ import annotations

import os
import time
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np

from juxtum.align import rough_align
from juxtum.demo import solids
from juxtum.errors import JuxtumError
from juxtum.geometry import PointCloud, RigidTransform, TriangleMesh
from juxtum.geometry.arrays import Floats
from juxtum.geometry.mesh import Scan
from juxtum.geometry.transform import rotation_from_vector
from juxtum.nominal import Nominal

NOISE = 0.02
POINTS = 30_000


def drill(x: float, y: float, radius: float, low: float = -50, high: float = 100) -> Any:
    """A cylinder along Z."""
    from OCP.BRepPrimAPI import BRepPrimAPI_MakeCylinder
    from OCP.gp import gp_Ax2, gp_Dir, gp_Pnt

    return BRepPrimAPI_MakeCylinder(gp_Ax2(gp_Pnt(x, y, low), gp_Dir(0, 0, 1)), radius, high - low).Shape()


def _around(count: int, radius: float) -> list[tuple[float, float]]:
    return [(radius * np.cos(2 * np.pi * k / count), radius * np.sin(2 * np.pi * k / count)) for k in range(count)]


def parts() -> dict[str, Any]:
    """Ten parts of our own making."""
    box, cut, fused = solids.box, solids.cut, solids.fused
    flange = cut(fused(drill(0, 0, 60, 0, 15), [drill(0, 0, 30, 0, 40)]), [drill(0, 0, 20), *(drill(x, y, 5) for x, y in _around(6, 46)), drill(53, 0, 2)])
    holes = [drill(x, y, 2.5) for x, y in ((12, 12), (108, 12), (12, 68), (100, 68))]
    frame = cut(box((0, 0, 0), (4000, 2500, 120)), [box((200, 200, -10), (3600, 2100, 200)), drill(100, 100, 40), drill(100, 2400, 25)])
    return {
        "plate with small holes": cut(box((0, 0, 0), (120, 80, 8)), holes),
        "beam of 3 m": cut(box((0, 0, 0), (3000, 120, 80)), [box((10, 10, -5), (2980, 100, 70)), *(drill(x, 60, 12) for x in (150, 700, 2800))]),
        "bolted flange": flange,
        "keyed ring": cut(drill(0, 0, 50, 0, 20), [drill(0, 0, 35), box((33, -4, -5), (6, 8, 30))]),
        "sheet bracket": fused(box((0, 0, 0), (90, 60, 1.5)), [box((0, 0, 0), (1.5, 60, 45)), box((60, 0, 0), (30, 1.5, 20))]),
        "casting": cut(fused(box((0, 0, 0), (90, 70, 20)), [drill(25, 30, 15, 0, 55), box((55, 20, 0), (25, 40, 35))]), [drill(25, 30, 9), drill(75, 10, 4)]),
        "part of 5 mm": fused(box((0, 0, 0), (5, 3, 1)), [box((0, 0, 0), (1.5, 1.5, 2.5))]),
        "frame of 4 m": frame,
        "turned shaft": fused(drill(0, 0, 15, 0, 60), [drill(0, 0, 22, 60, 80), drill(0, 0, 10, 80, 140)]),
        "plain plate": box((0, 0, 0), (100, 60, 10)),
    }  # fmt: skip


def made_scan(nominal: Nominal, kind: str, rng: np.random.Generator) -> Scan:
    """A scan of the part as drawn, in part coordinates."""
    mesh = nominal.samples.mesh
    size = max(float(np.sqrt(nominal.area / POINTS)) * 1.5, 1e-3)
    from juxtum.nominal.model import sample_surface

    fine = sample_surface(nominal.mesh, nominal.triangle_faces, size * 2.5).mesh if nominal.diagonal < 1e6 else mesh
    keys = np.round(fine.points / 1e-5).astype(np.int64)
    _, first, inverse = np.unique(keys, axis=0, return_index=True, return_inverse=True)
    whole = TriangleMesh(fine.points[first], inverse.reshape(-1)[fine.triangles])
    keep = np.ones(len(whole.triangles), dtype=bool)
    centres, normals = whole.corners.mean(1), whole.triangle_normals
    if "view" in kind:
        towards = rng.normal(size=3)
        towards /= np.linalg.norm(towards)
        keep &= normals @ towards > 0.35
    if "part" in kind:
        along = rng.normal(size=3)
        heights = centres @ along
        keep &= heights < np.quantile(heights, 0.3)
    part = whole.kept_triangles(keep)
    noise = min(NOISE, nominal.diagonal / 3000)
    points = part.points + rng.normal(0, noise, part.points.shape)
    return PointCloud(points) if "cloud" in kind else TriangleMesh(points, part.triangles)


KINDS = ("full mesh", "one view mesh", "part mesh", "full cloud", "one view cloud", "part cloud")


@dataclass
class Outcome:
    """What a start came to."""

    word: str
    seconds: float


def judge(nominal: Nominal, scan: Scan, pose: RigidTransform) -> Outcome:
    """Right, unsure (and the truth among the alternatives), unsure without it, refused, or WRONG."""
    begun = time.perf_counter()
    try:
        found = rough_align(scan.moved(pose), nominal)
    except JuxtumError:
        return Outcome("refused", time.perf_counter() - begun)
    seconds = time.perf_counter() - begun
    limit = 0.02 * nominal.diagonal
    points = scan.points[:: max(1, len(scan.points) // 4000)]
    if _fits(nominal, found.transform @ pose, points, limit):
        return Outcome("unsure, right" if found.alternatives else "right", seconds)
    if any(_fits(nominal, other @ pose, points, limit) for other in found.alternatives):
        return Outcome("unsure, offered", seconds)
    return Outcome("unsure, not offered" if found.alternatives else "free" if any("free" in n for n in found.notes) else "WRONG", seconds)


def _fits(nominal: Nominal, error: RigidTransform, points: Floats, limit: float) -> bool:
    """Whether every point comes to lie where it belongs; a shape that maps onto itself exactly is right too."""
    if np.linalg.norm(error.apply(points) - points, axis=1).max() < limit:
        return True
    tight = max(3 * NOISE, nominal.diagonal / 1500)
    samples = nominal.samples.centres[:: max(1, len(nominal.samples.centres) // 6000)]
    there = nominal.projector.project(error.apply(samples), limit=10 * tight)
    return bool(there.found.all() and np.abs(there.distances).max() < tight)


def starts() -> Iterator[str]:
    """A line for each part and kind of scan, one word a pose; JUXTUM_PARTS names some of the parts."""
    rng = np.random.default_rng(11)
    names = [name for name in os.environ.get("JUXTUM_PARTS", "").split(",") if name]
    counts: dict[str, int] = {}
    times = []
    for name, shape in parts().items():
        if names and not any(n in name for n in names):
            continue
        nominal = Nominal.from_shape(shape)
        for kind in KINDS:
            words = []
            for _ in range(3):
                scan = made_scan(nominal, kind, rng)
                turn = rotation_from_vector(rng.normal(size=3) * 1.5)
                pose = RigidTransform.from_parts(turn, rng.normal(size=3) * nominal.diagonal)
                outcome = judge(nominal, scan, pose)
                words.append(outcome.word)
                times.append(outcome.seconds)
                counts[outcome.word] = counts.get(outcome.word, 0) + 1
            yield f"{name:24} {kind:16} {', '.join(words)}"
    yield f"{counts}; median {np.median(times):.2f} s, longest {max(times):.1f} s"
