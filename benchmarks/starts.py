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
from juxtum.geometry.arrays import Floats, Ints
from juxtum.geometry.mesh import Scan
from juxtum.geometry.transform import rotation_from_vector
from juxtum.job.document import LOOSE_SHARE
from juxtum.job.steps import Fragments, Trim
from juxtum.job.steps.base import NOMINAL, Outcomes, surface
from juxtum.nominal import Nominal
from juxtum.progress import silent

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
    """Fifteen parts of our own making."""
    box, cut, fused = solids.box, solids.cut, solids.fused
    flange = cut(
        fused(drill(0, 0, 60, 0, 15), [drill(0, 0, 30, 0, 40)]),
        [drill(0, 0, 20), *(drill(x, y, 5) for x, y in _around(6, 46)), drill(53, 0, 2)],
    )
    holes = [drill(x, y, 2.5) for x, y in ((12, 12), (108, 12), (12, 68), (100, 68))]
    frame = cut(
        box((0, 0, 0), (4000, 2500, 120)),
        [box((200, 200, -10), (3600, 2100, 200)), drill(100, 100, 40), drill(100, 2400, 25)],
    )
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
        **_more_parts(),
    }  # fmt: skip


def _more_parts() -> dict[str, Any]:
    """Parts that repeat, or nearly, and some that do not at all."""
    box, cut, fused, extruded = solids.box, solids.cut, solids.fused, solids.extruded
    web = extruded([(0, -12, 8), (160, -8, 8), (160, 8, 8), (0, 12, 8)], (0, 0, 12))
    lever = fused(drill(0, 0, 22, 0, 30), [drill(160, 0, 14, 0, 30), web])
    outline = [(0, 0, 0), (120, 0, 0), (120, 20, 0), (20, 20, 0), (20, 60, 0), (70, 60, 0), (70, 75, 0), (0, 75, 0)]
    along = (1.0, 0.0, 0.0)
    pipe = cut(solids.cylinder((0, 0, 0), along, 40, 150), [solids.cylinder((-5, 0, 0), along, 37, 200)])
    shell = cut(pipe, [box((-10, -60, -80), (300, 120, 80))])
    return {
        "pump cover": pump_cover(),
        "lever": cut(lever, [drill(0, 0, 12), drill(160, 0, 7), box((-3, 10, -5), (6, 5, 50))]),
        "keyed gear": _gear(31),
        "hook": cut(extruded(outline, (0, 0, 16)), [drill(100, 10, 4), drill(10, 65, 4)]),
        "half shell": fused(shell, [box((20, 38, 0), (30, 15, 4)), box((90, -53, 0), (30, 15, 4))]),
    }


def pump_cover() -> Any:
    """Nearly the same every 72 degrees; mirrored, its holes lie right and its lug anywhere between them."""
    holes = [drill(45 * np.cos(a), 45 * np.sin(a), 6) for a in np.radians(20 + 72 * np.arange(5))]
    disc = solids.fused(drill(0, 0, 60, 0, 14), [drill(0, 0, 30, 0, 30), solids.box((50, -12, 0), (28, 24, 9))])
    return solids.cut(disc, [drill(0, 0, 20), drill(70, 4, 3), *holes])


def _gear(teeth: int) -> Any:
    """One keyway tells its teeth apart."""
    wide, gaps = 24 / teeth, []
    for turn in 2 * np.pi * np.arange(teeth) / teeth:
        out, across = np.array([np.cos(turn), np.sin(turn)]), np.array([-np.sin(turn), np.cos(turn)])
        corners = [r * out + w * wide * across for r, w in ((44, -2), (55, -5), (55, 5), (44, 2))]
        gaps.append(solids.extruded([(float(x), float(y), -1.0) for x, y in corners], (0, 0, 30)))
    bored = [drill(0, 0, 15), solids.box((12, -3, -5), (7, 6, 40)), drill(0, 0, 30, 12, 60)]
    return solids.cut(drill(0, 0, 50, 0, 18), [*gaps, *bored])


def made_scan(nominal: Nominal, kind: str, rng: np.random.Generator) -> Scan:
    """A scan of the part as drawn, in part coordinates."""
    mesh = nominal.samples.mesh
    size = max(float(np.sqrt(nominal.area / POINTS)) * (6.0 if "coarse" in kind else 1.5), 1e-3)
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
    places = _scattered(part, rng) if "cloud" in kind else part.points
    points = places + rng.normal(0, noise, places.shape)
    scan: Scan = PointCloud(points) if "cloud" in kind else TriangleMesh(points, part.triangles)
    if "outliers" in kind:
        scan = _with(scan, *_scraps(nominal, int(OUTLIERS * len(points)), rng))
    return _with(scan, *_table(nominal, size, noise, rng)) if "table" in kind else scan


def _scattered(part: TriangleMesh, rng: np.random.Generator) -> Floats:
    """As many points as it has corners, anywhere on a surface: corners of drawn triangles lie in rows, scanned points do not."""
    areas = np.cumsum(part.triangle_areas)
    owner = np.searchsorted(areas, rng.uniform(0, areas[-1], len(part.points))).clip(0, len(areas) - 1)
    weights = rng.dirichlet((1, 1, 1), len(owner))
    return np.asarray(np.einsum("ij,ijk->ik", weights, part.corners[owner]))


def _with(scan: Scan, points: Floats, triangles: Ints) -> Scan:
    together = np.concatenate([scan.points, points])
    if isinstance(scan, PointCloud):
        return PointCloud(together)
    return TriangleMesh(together, np.concatenate([scan.triangles, triangles + len(scan.points)]))


def _scraps(nominal: Nominal, count: int, rng: np.random.Generator) -> tuple[Floats, Ints]:
    """Small loose triangles anywhere about the part."""
    low, high = nominal.mesh.bounds
    centres = rng.uniform(low - 0.2 * (high - low), high + 0.2 * (high - low), (count // 3, 3))
    corners = centres[:, None] + rng.normal(0, nominal.diagonal / 400, (len(centres), 3, 3))
    return corners.reshape(-1, 3), np.arange(3 * len(centres), dtype=np.int32).reshape(-1, 3)


def _table(nominal: Nominal, size: float, noise: float, rng: np.random.Generator) -> tuple[Floats, Ints]:
    """A flat table under the part, twice as wide as the part."""
    low, high = nominal.mesh.bounds
    middle, half = (low + high) / 2, (high - low)[:2].max()
    count = int(np.clip(2 * half / size, 20, 150))
    u, v = np.meshgrid(np.linspace(-half, half, count), np.linspace(-half, half, count), indexing="ij")
    points = np.stack([middle[0] + u, middle[1] + v, np.full_like(u, low[2])], -1).reshape(-1, 3)
    a = (np.arange(count - 1)[:, None] * count + np.arange(count - 1)).ravel()
    triangles = np.concatenate([np.stack([a, a + count, a + count + 1], 1), np.stack([a, a + count + 1, a + 1], 1)])
    return points + rng.normal(0, noise, points.shape), triangles.astype(np.int32)


KINDS = (
    "full mesh", "one view mesh", "part mesh", "full cloud", "one view cloud", "part cloud",
    "full mesh on a table", "one view cloud on a table", "full mesh with outliers", "part mesh, coarse",
)  # fmt: skip
OUTLIERS = 0.03


@dataclass
class Outcome:
    """What a start came to."""

    word: str
    seconds: float


def judge(nominal: Nominal, scan: Scan, pose: RigidTransform, *, is_dirty: bool = False) -> Outcome:
    """Right, unsure (and the truth among the alternatives), unsure without it, open (the data cannot tell), refused, or WRONG."""
    begun = time.perf_counter()
    try:
        moved = scan.moved(pose)
        clean = moved
        for step in (Trim(), Fragments(share=LOOSE_SHARE)):
            clean = step.run(Outcomes({surface("scan"): clean, NOMINAL: nominal}), silent())
        if not is_dirty and len(clean.points) < 0.99 * len(moved.points):
            return Outcome("TRIMMED", time.perf_counter() - begun)
        found = rough_align(clean, nominal)
    except JuxtumError:
        return Outcome("refused", time.perf_counter() - begun)
    seconds = time.perf_counter() - begun
    limit = 0.02 * nominal.diagonal
    points = pose.inverse.apply(clean.points)[:: max(1, len(clean.points) // 4000)]
    points = points[nominal.mesh.tree.query(points, limit=limit).found]
    if _fits(nominal, found.transform @ pose, points, limit):
        return Outcome("unsure, right" if found.alternatives else "right", seconds)
    if any(_fits(nominal, other @ pose, points, limit) for other in found.alternatives):
        return Outcome("unsure, offered", seconds)
    told = bool(found.alternatives) or any("free" in note or "not sure" in note for note in found.notes)
    if told and _fits_as_well(nominal, clean, found.transform, pose.inverse):
        return Outcome("open, told", seconds)
    if found.alternatives:
        return Outcome("unsure, not offered", seconds)
    told = any("free" in note or "not sure" in note for note in found.notes)
    return Outcome("told" if told else "WRONG", seconds)


def _fits_as_well(nominal: Nominal, scan: Scan, found: RigidTransform, true: RigidTransform) -> bool:
    """Whether a scan lies on the part as well in the pose that was found as in the true one: then nobody can tell them apart."""
    cap = max(nominal.diagonal / 250, 0.2)

    def misfit(pose: RigidTransform) -> float:
        points = pose.apply(scan.points)[:: max(1, len(scan.points) // 6000)]
        normals = None if scan.normals is None else pose.turn(scan.normals)[:: max(1, len(scan.points) // 6000)]
        there = nominal.projector.project(points, normals, limit=cap)
        return float(np.where(there.found, np.minimum(np.abs(there.distances), cap), cap).mean())

    return misfit(found) <= 1.05 * misfit(true) + 1e-4 * cap


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
    names = [name for name in os.environ.get("JUXTUM_PARTS", "").split(",") if name]
    counts: dict[str, int] = {}
    times = []
    for name, shape in parts().items():
        if names and not any(n in name for n in names):
            continue
        nominal, rng = Nominal.from_shape(shape), np.random.default_rng([11, *name.encode()])
        for kind in KINDS:
            words = []
            for _ in range(3):
                scan = made_scan(nominal, kind, rng)
                turn = rotation_from_vector(rng.normal(size=3) * 1.5)
                pose = RigidTransform.from_parts(turn, rng.normal(size=3) * nominal.diagonal)
                outcome = judge(nominal, scan, pose, is_dirty="table" in kind or "outliers" in kind)
                words.append(outcome.word)
                times.append(outcome.seconds)
                counts[outcome.word] = counts.get(outcome.word, 0) + 1
            yield f"{name:24} {kind:16} {', '.join(words)}"
    yield f"{counts}; median {np.median(times):.2f} s, longest {max(times):.1f} s"
