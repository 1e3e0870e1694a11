"""Linear algebra of the bundle adjustment: rows, normal equations, Schur complement, covariance."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from juxtum.geometry.arrays import Floats, Ints

if TYPE_CHECKING:
    from juxtum.plan.photos.bundle import Network

LENS_SCALES = np.array([1.0, 1.0, 1.0, 1e-4, 1e-7])
"""Units in which the lens is solved, so that its columns are of the size of the others."""


@dataclass(frozen=True, eq=False)
class System:
    """Normal equations with targets split into eliminated ones and kept ones (the ends of bars).

    Parameters
    ----------
    blocks : array (E, 3, 3)
        Of the eliminated targets, inverted.
    mixed : array (3E, Y)
        Between the eliminated ones and the rest.
    rest : array (Y, Y)
        Cameras, lens, kept targets and the multipliers of the datum.
    """

    blocks: Floats
    mixed: Floats
    rest: Floats
    right_eliminated: Floats
    right_rest: Floats
    eliminated: Ints
    kept: Ints
    photos: int
    lens: int


@dataclass(frozen=True, eq=False)
class Solution:
    """One step: of targets (T, 3), camera turns and shifts (M, 3), lens (5,)."""

    points: Floats
    turns: Floats
    shifts: Floats
    lens: Floats


def unknowns(network: Network) -> int:
    """Unknowns less the freedom of the datum."""
    count = 3 * len(network.points) + 6 * len(network.photos.centres) + (5 if network.is_self_calibrating else 0)
    return count - (6 if network.bars else 7)


def in_camera(network: Network) -> Floats:
    """Targets in the cameras' frames, for each ray (N, 3)."""
    rays, photos = network.rays, network.photos
    offset = network.points[rays.targets] - photos.centres[rays.photos]
    return np.asarray(np.einsum("nij,nj->ni", photos.rotations[rays.photos], offset))


def projected(network: Network) -> Floats:
    """Where the targets should appear (N, 2), mm: Brown's radial model with two terms."""
    focal, cx, cy, k1, k2 = network.lens.numbers
    q = in_camera(network)
    ab = q[:, :2] / q[:, 2:]
    r2 = (ab**2).sum(1) * focal**2
    scale = 1 + k1 * r2 + k2 * r2**2
    return np.asarray(focal * ab * scale[:, None] + [cx, cy])


def residuals(network: Network) -> Floats:
    """Observed less computed (N, 2), mm."""
    return network.rays.places - projected(network)


def _derivatives(network: Network) -> tuple[Floats, Floats, Floats]:
    """Of the places in the pictures by the target in the camera (N, 2, 3), by the lens (N, 2, 5); and the targets there."""
    focal, _, _, k1, k2 = network.lens.numbers
    q = in_camera(network)
    z = q[:, 2]
    a, b = q[:, 0] / z, q[:, 1] / z
    n2 = a**2 + b**2
    r2 = n2 * focal**2
    scale = 1 + k1 * r2 + k2 * r2**2
    slope = 2 * focal**2 * (k1 + 2 * k2 * r2)
    by_ab = np.empty((len(q), 2, 2))
    by_ab[:, 0, 0] = focal * (scale + a * a * slope)
    by_ab[:, 1, 1] = focal * (scale + b * b * slope)
    by_ab[:, 0, 1] = by_ab[:, 1, 0] = focal * a * b * slope
    by_q = np.zeros((len(q), 2, 3))
    by_q[:, 0, 0] = by_q[:, 1, 1] = 1 / z
    by_q[:, 0, 2], by_q[:, 1, 2] = -a / z, -b / z
    by_lens = np.zeros((len(q), 2, 5))
    ab = np.stack([a, b], 1)
    by_lens[:, :, 0] = ab * (scale + focal * 2 * focal * n2 * (k1 + 2 * k2 * r2))[:, None]
    by_lens[:, 0, 1] = by_lens[:, 1, 2] = 1.0
    by_lens[:, :, 3] = focal * ab * r2[:, None]
    by_lens[:, :, 4] = focal * ab * (r2**2)[:, None]
    return np.einsum("nij,njk->nik", by_ab, by_q), by_lens, q


def derivatives(network: Network) -> tuple[Floats, Floats]:
    """Of the places in the pictures by the target (N, 2, 3) and by turn and shift of the photo (N, 2, 6)."""
    by_q, _, q = _derivatives(network)
    by_point = np.einsum("nij,njk->nik", by_q, network.photos.rotations[network.rays.photos])
    by_turn = -np.einsum("nij,njk->nik", by_q, _skew(q))
    return by_point, np.concatenate([by_turn, -by_point], axis=2)


def linearise(network: Network) -> System:
    """Normal equations at the network's present state."""
    rays, photos = network.rays, network.photos
    _, by_lens, _ = _derivatives(network)
    by_point, cameras = derivatives(network)
    kept = (
        np.unique([[b.first, b.second] for b in network.bars]).astype(int) if network.bars else np.empty(0, dtype=int)
    )
    eliminated = np.setdiff1d(np.arange(len(network.points)), kept)
    m, has_lens = len(photos.centres), 5 if network.is_self_calibrating else 0
    width = 6 * m + has_lens + 3 * len(kept)
    weight = 1 / rays.noise
    rest = _spread(cameras * weight, rays.photos * 6, width)
    if has_lens:
        rest = rest + _spread(by_lens * LENS_SCALES * weight, np.full(len(rays.photos), 6 * m), width)
    slot = np.full(len(network.points), -1)
    slot[kept] = 6 * m + has_lens + 3 * np.arange(len(kept))
    on_kept = np.flatnonzero(slot[rays.targets] >= 0)
    rest = rest + _spread(by_point[on_kept] * weight, slot[rays.targets[on_kept]], width, on_kept, len(rays.photos))
    number = np.full(len(network.points), -1)
    number[eliminated] = 3 * np.arange(len(eliminated))
    on_rest = np.flatnonzero(number[rays.targets] >= 0)
    points = _spread(
        by_point[on_rest] * weight, number[rays.targets[on_rest]], 3 * len(eliminated), on_rest, len(rays.photos)
    )
    r = np.zeros((len(rays.photos), 2)) if rays.places.size == 0 else residuals(network) * weight
    return _normal(network, points, rest, r.ravel(), eliminated, kept, slot, width)


def _normal(
    network: Network, points: Any, rest: Any, r: Floats, eliminated: Ints, kept: Ints, slot: Ints, width: int
) -> System:
    block = (points.T @ points).tobsr((3, 3)) if len(eliminated) else None
    blocks = np.zeros((len(eliminated), 3, 3))
    if block is not None:
        rows = np.repeat(np.arange(len(eliminated)), np.diff(block.indptr))
        blocks[rows[rows == block.indices]] = block.data[rows == block.indices]
    mixed, square = (points.T @ rest).toarray(), (rest.T @ rest).toarray()
    right = np.asarray(rest.T @ r)
    for bar in network.bars:
        d = network.points[bar.first] - network.points[bar.second]
        now = float(np.linalg.norm(d))
        row = np.zeros(width)
        row[slot[bar.first] : slot[bar.first] + 3] = d / now / bar.uncertainty
        row[slot[bar.second] : slot[bar.second] + 3] = -d / now / bar.uncertainty
        square += np.outer(row, row)
        right += row * (bar.length - now) / bar.uncertainty
    datum = _datum(network)
    border = np.zeros((width, datum.shape[1]))
    for k in kept:
        border[slot[k] : slot[k] + 3] = datum[3 * k : 3 * k + 3]
    whole = np.block([[square, border], [border.T, np.zeros((datum.shape[1],) * 2)]])
    rows = (3 * eliminated[:, None] + np.arange(3)).ravel()
    mixed = np.concatenate([mixed, datum[rows]], axis=1)
    right = np.concatenate([right, np.zeros(datum.shape[1])])
    lens = 5 if network.is_self_calibrating else 0
    return System(
        np.asarray(np.linalg.inv(blocks), dtype=np.float64),
        mixed,
        whole,
        np.asarray(points.T @ r),
        right,
        eliminated,
        kept,
        len(network.photos.centres),
        lens,
    )


def _datum(network: Network) -> Floats:
    """Motions of the whole network (3T, 6 or 7) that no observation sees, scaled to length one."""
    p = network.points - network.points.mean(0)
    motions = [np.tile(axis, len(p)) for axis in np.eye(3)]
    motions += [np.cross(axis, p).ravel() for axis in np.eye(3)]
    if not network.bars:
        motions.append(p.ravel())
    return np.stack([v / np.linalg.norm(v) for v in motions], axis=1)


def _spread(values: Floats, columns: Ints, width: int, rows: Ints | None = None, count: int | None = None) -> Any:
    """Blocks (N, 2, K) as a sparse matrix whose block n starts at rows 2n and a column."""
    n, two, k = values.shape
    at = np.arange(n) if rows is None else rows
    row = np.repeat(2 * at[:, None] + np.arange(two), k, axis=1).reshape(n, two, k)
    column = np.broadcast_to((columns[:, None] + np.arange(k))[:, None], values.shape)
    shape = (2 * (count or n), width)
    from scipy import sparse

    return sparse.csr_matrix((values.ravel(), (row.ravel(), column.ravel())), shape=shape)


def _reduced(system: System) -> tuple[Floats, Floats]:
    """Schur complement, and the blocks' inverse times the mixed part."""
    e = len(system.eliminated)
    weighted = np.einsum("eij,ejy->eiy", system.blocks, system.mixed.reshape(e, 3, -1)).reshape(3 * e, -1)
    return system.rest - system.mixed.T @ weighted, weighted


def solve(system: System) -> Solution:
    """One Gauss-Newton step."""
    reduced, weighted = _reduced(system)
    from scipy import linalg

    y = linalg.solve(
        reduced, system.right_rest - weighted.T @ system.right_eliminated, assume_a="sym", check_finite=False
    )
    e = len(system.eliminated)
    x = np.einsum("eij,ej->ei", system.blocks, (system.right_eliminated - system.mixed @ y).reshape(e, 3))
    m = system.photos
    points = np.zeros((e + len(system.kept), 3))
    points[system.eliminated] = x
    start = 6 * m + system.lens
    points[system.kept] = y[start : start + 3 * len(system.kept)].reshape(-1, 3)
    cameras = y[: 6 * m].reshape(m, 6)
    lens = y[6 * m : 6 * m + 5] * LENS_SCALES if system.lens else np.zeros(5)
    return Solution(points, cameras[:, :3], cameras[:, 3:], lens)


def covariance(system: System) -> Floats:
    """Of all targets (3T, 3T)."""
    reduced, weighted = _reduced(system)
    inverse = np.linalg.inv(reduced)
    e = len(system.eliminated)
    own = weighted @ inverse @ weighted.T
    for k in range(e):
        own[3 * k : 3 * k + 3, 3 * k : 3 * k + 3] += system.blocks[k]
    start = 6 * system.photos + system.lens
    part = slice(start, start + 3 * len(system.kept))
    across = -weighted @ inverse[:, part]
    order = (3 * np.concatenate([system.eliminated, system.kept])[:, None] + np.arange(3)).ravel()
    whole = np.block([[own, across], [across.T, inverse[part, part]]])
    result = np.empty_like(whole)
    result[np.ix_(order, order)] = (whole + whole.T) / 2
    return result


def turned(rotations: Floats, turns: Floats) -> Floats:
    """Rotations (M, 3, 3) turned in the camera by small vectors (M, 3)."""
    from scipy.spatial.transform import Rotation

    return np.asarray(Rotation.from_rotvec(turns).as_matrix() @ rotations)


def _skew(v: Floats) -> Floats:
    """Matrices (N, 3, 3) of the cross product with v."""
    x, y, z = v.T
    zero = np.zeros_like(x)
    return np.stack([np.stack([zero, -z, y], -1), np.stack([z, zero, -x], -1), np.stack([-y, x, zero], -1)], 1)
