"""Poses of one scan on another by their shape alone, from wherever they lie."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from juxtum.align.scans.edges import Edges
from juxtum.align.scans.sheet import Sheet
from juxtum.geometry import RigidTransform
from juxtum.geometry.arrays import Bools, Floats, Ints, frozen, unit
from juxtum.geometry.transform import orthonormalised

PAIRED, EDGED = 280, 160
"""Points of the target whose pairs go into drawers: of its faces, and along its edges."""
TAKEN, ALONG, SCORED = 700, 500, 400
"""Points of the source from which pairs are taken, of its faces and along its edges, and those of its faces by which a pose is scored."""
CHOSEN = 2500
"""Pairs of the source that are looked up."""
FINE = 64
"""Voxels along the diagonal of the target."""
STEPS = 40
"""Drawers of distance along it."""
MOST = 30_000
LINES, LINED = 150, 1.2
"""Places along the edges of the source that tell poses apart, and how many voxels from an edge its voxels reach."""
LIKELY, SETTLED, KEPT = 8000, 600, 200
"""Poses that are told apart, that are laid onto the scan, and that are handed on."""


@dataclass(frozen=True, eq=False)
class Search:
    """What is made once of a scan onto which others are laid."""

    sheet: Sheet
    points: Floats
    normals: Floats
    starts: Ints
    pairs: Ints
    grid: Ints
    lined: Bools
    origin: Floats
    voxel: float
    step: float


def telling(sheet: Sheet, count: int, seed: int) -> Ints:
    """Rows of points that tell much: each way of facing gets its say, however little of the area faces so.

    Seeded, so that the same scans are joined alike.
    """
    rng = np.random.default_rng(seed)
    facing = np.round(unit(sheet.normals) * 3).astype(np.int64) @ [49, 7, 1]
    _, kind, counts = np.unique(facing, return_inverse=True, return_counts=True)
    weights = 1.0 / np.sqrt(counts[kind.reshape(-1)].astype(np.float64))
    weights[sheet.border] *= 0.25
    chosen = rng.choice(len(weights), min(count, len(weights)), replace=False, p=weights / weights.sum())
    return np.asarray(chosen)


def make_search(sheet: Sheet, seed: int = 0) -> Search:
    """Drawers and voxels of a scan."""
    from juxtum.align.scans import _shape_kernels as kernels

    rows = telling(sheet, PAIRED, seed)
    points, normals = _with_edges(sheet.points[rows], sheet.normals[rows], sheet.edges, EDGED)
    step = 2 * sheet.size / STEPS
    starts, pairs = kernels.fill(points, normals, step, STEPS)
    voxel = max(2 * sheet.size / FINE, 1.2 * sheet.spacing)
    origin = sheet.points.min(0) - 2 * voxel
    shape = tuple(int(v) for v in np.ceil((sheet.points.max(0) - origin) / voxel) + 2)
    return Search(
        sheet, frozen(points), frozen(normals), starts, pairs, kernels.grid(sheet.points, origin, voxel, shape),
        _lined(sheet.edges.points, origin, voxel, shape), frozen(origin), voxel, step,
    )  # fmt: skip


def _lined(edges: Floats, origin: Floats, voxel: float, shape: tuple[int, ...]) -> Bools:
    """The voxels whose middle has an edge within about their size."""
    beside = np.array(np.meshgrid(*[(-1, 0, 1)] * 3)).reshape(3, -1).T
    cells = np.floor((edges - origin) / voxel).astype(np.int64)[:, None] + beside
    near = np.linalg.norm(origin + (cells + 0.5) * voxel - edges[:, None], axis=2) < LINED * voxel
    cells = cells[near & ((cells >= 0) & (cells < shape)).all(2)]
    made = np.zeros(shape, dtype=bool)
    made[tuple(cells.T)] = True
    return frozen(made, bool)


def _with_edges(points: Floats, normals: Floats, edges: Edges, count: int) -> tuple[Floats, Floats]:
    """Directed points (N, 3) of faces, and about so many along edges: on a flat sheet only its outline tells where one is."""
    some = edges.some(count)
    both = np.concatenate([points, edges.points[some]]), np.concatenate([normals, edges.out[some]])
    return np.ascontiguousarray(both[0]), np.ascontiguousarray(both[1])


def poses_by_shape(made: Search, target: Search, seed: int = 1) -> list[tuple[float, RigidTransform]]:
    """Poses of a scan on another with their scores, 0 to 1 of what could be common, the best first.

    Pairs of directed points that are alike in distance and angles (Drost et al. 2010) give poses; each is scored by
    points of every way of facing, since a plane lies well anywhere on a larger one.
    """
    from juxtum.align.scans import _shape_kernels as kernels

    rng, source = np.random.default_rng(seed), made.sheet
    rows = telling(source, TAKEN, seed)
    points, normals = np.ascontiguousarray(source.points[rows]), np.ascontiguousarray(source.normals[rows])
    paired, facing = _with_edges(points, normals, source.edges, ALONG)
    chosen = rng.integers(0, len(paired), (CHOSEN * 4, 2))
    apart = np.linalg.norm(paired[chosen[:, 0]] - paired[chosen[:, 1]], axis=1)
    long = apart > 0.15 * min(source.size, target.sheet.size)
    turned = np.einsum("ij,ij->i", facing[chosen[:, 0]], facing[chosen[:, 1]]) < 0.985
    chosen = chosen[long & turned][:CHOSEN]
    # They come in any order, so that the first are as good as any.
    points, normals = points[:SCORED], normals[:SCORED]
    weights = np.full(len(points), 1.0 / len(points))
    lines = source.edges.points[: source.edges.clear]
    lines = np.ascontiguousarray(lines[rng.permutation(len(lines))[:LINES]])
    found = kernels.search(
        chosen, paired, facing, points, normals, weights, lines, target.starts, target.pairs, target.points, target.normals,
        target.grid, target.lined, target.origin, target.voxel, target.sheet.points, target.sheet.normals, target.step, STEPS, MOST,
    )  # fmt: skip
    return _settled(found, made, target, lines)


def _settled(found: Floats, made: Search, target: Search, lines: Floats) -> list[tuple[float, RigidTransform]]:
    """The best of many poses, each laid onto the scan; points beside its surface count against it."""
    from juxtum.align.scans import _shape_kernels as kernels

    centre, source = target.sheet.centre, made.sheet
    tried = found[np.argsort(-found[:, 0])][:LIKELY]
    tried = tried[_apart(tried, source, 4 * target.voxel, SETTLED)]
    poses = np.concatenate([tried[:, 1:10].reshape(-1, 3, 3), (tried[:, 10:] - centre)[:, :, None]], axis=2)
    some = source.some(1200)
    shares = kernels.settle(
        poses, np.ascontiguousarray(source.points[some]), np.ascontiguousarray(source.normals[some]), target.grid,
        target.origin - centre, target.voxel, target.sheet.points - centre, target.sheet.normals, source.size, 12,
    )  # fmt: skip
    agreed = kernels.agreements(poses, lines, target.grid, target.lined, target.origin - centre, target.voxel)
    scores = np.maximum(shares[:, 0] - 1.5 * shares[:, 1], 0.0)
    order = np.argsort(-np.minimum(scores, kernels.ENOUGH) * (0.2 + 0.8 * agreed) - 1e-3 * scores)
    rows = np.concatenate([scores[:, None], poses[:, :, :3].reshape(-1, 9), poses[:, :, 3] + centre], axis=1)
    rows = rows[order]
    rows = rows[_apart(rows, source, 2 * target.voxel, KEPT)]
    # Turned a dozen times in single steps: brought back to a rotation before anybody relies on it.
    return [(float(r[0]), RigidTransform.from_parts(orthonormalised(r[1:10].reshape(3, 3)), r[10:])) for r in rows]


def _apart(rows: Floats, source: Sheet, least: float, most: int) -> Ints:
    """Rows of poses, from the first on, of which no two lay the scan within `least` mm of each other."""
    corners = np.array(np.meshgrid(*np.stack([source.points.min(0), source.points.max(0)]).T)).reshape(3, -1).T
    # The largest offset along any axis will do to tell poses apart.
    laid = (np.einsum("kij,cj->kci", rows[:, 1:10].reshape(-1, 3, 3), corners) + rows[:, None, 10:]).astype(np.float32)
    kept: list[int] = []
    left = np.arange(len(rows))
    while len(left) and len(kept) < most:
        kept.append(int(left[0]))
        off = np.abs(laid[left] - laid[left[0]]).max(axis=(1, 2))
        left = left[off > least]
    return np.array(kept, dtype=np.int64)
