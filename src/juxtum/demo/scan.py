"""The simulated scan of BC-220: what a handheld scanner would deliver from the made part on its table.

The surface of part and table together is cut out of a field of distances on a grid (as scanners mesh their data),
put back onto the made surface except near its edges (which stay rounded), seen or not seen from many poses by
casting rays, and given noise along the line of sight.
"""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from juxtum.demo.carrier import BORE_HEIGHT, build_carrier
from juxtum.demo.truth import Bump, Truth
from juxtum.exchange.solid import TessellationRule
from juxtum.geometry import TriangleMesh
from juxtum.geometry.arrays import Bools, Floats, unit
from juxtum.geometry.rays import RayCaster
from juxtum.nominal import Nominal
from juxtum.progress import Progress, silent

GRID = 0.62
TABLE = ((-165.0, 165.0), (-120.0, 120.0))
STAND_OFF = 380.0
EDGE_ROUNDING = 0.45
BLOCK = 4
"""Cells of the grid, along each side, that are looked at together."""


def simulate_scan(truth: Truth, progress: Progress | None = None) -> TriangleMesh:
    """The scan in the device frame, deterministic for the truth's seed."""
    rng = np.random.default_rng(truth.seed)
    return _with_fragments(with_noise(seen_surface(truth, rng, progress or silent()), truth.noise, rng), rng).moved(
        truth.pose
    )


def seen_surface(truth: Truth, rng: np.random.Generator, progress: Progress) -> TriangleMesh:
    """What the poses see of the made part and its table, without noise, in part coordinates."""
    progress.phase("making the demo part", 0.0)
    made = Nominal.from_shape(build_carrier(truth.errors), rule=TessellationRule(0.02, 0.15))
    progress.phase("cutting the surface out of a grid", 0.15)
    raw = _grid_surface(made)
    progress.phase("putting the surface in place", 0.45)
    points = _settled(raw, made, truth.bump)
    mesh = TriangleMesh(points, raw.triangles)
    progress.phase("looking from 40 poses", 0.6)
    return mesh.kept(_seen(mesh, made.mesh, rng))


def with_noise(scan: TriangleMesh, noise: float, rng: np.random.Generator) -> TriangleMesh:
    """A surface with noise (mm) along the lines of sight, which lie about its normals."""
    sight = unit(scan.normals + 0.15 * rng.normal(size=scan.points.shape))
    return TriangleMesh(scan.points + sight * rng.normal(0, noise, (len(scan.points), 1)), scan.triangles)


def _grid_surface(made: Nominal) -> TriangleMesh:
    """Zero level of the distance field of part and table."""
    from vtkmodules.util.numpy_support import numpy_to_vtk, vtk_to_numpy
    from vtkmodules.vtkCommonDataModel import vtkImageData
    from vtkmodules.vtkFiltersCore import vtkFlyingEdges3D

    low = np.array([TABLE[0][0], TABLE[1][0], -1.13])
    high = np.array([TABLE[0][1], TABLE[1][1], made.mesh.bounds[1, 2] + 2.0])
    shape = tuple(int(n) for n in np.ceil((high - low) / GRID))
    field = _part_distances(made, low, shape)
    heights = (low[2] + GRID * np.arange(shape[2])).astype(np.float32)
    np.minimum(field, heights, out=field)
    image = vtkImageData()
    image.SetDimensions(*shape)
    image.SetSpacing(GRID, GRID, GRID)
    image.SetOrigin(*low)
    values = np.ascontiguousarray(field.transpose(2, 1, 0)).ravel()
    image.GetPointData().SetScalars(numpy_to_vtk(values))
    edges = vtkFlyingEdges3D()
    edges.SetInputData(image)
    edges.SetValue(0, 0.0)
    edges.ComputeNormalsOff()
    edges.ComputeScalarsOff()
    edges.Update()
    output = edges.GetOutput()
    points = vtk_to_numpy(output.GetPoints().GetData()).astype(np.float64)
    triangles = vtk_to_numpy(output.GetPolys().GetConnectivityArray()).reshape(-1, 3).astype(np.int32)
    mesh = TriangleMesh(points, triangles)
    outward = float(mesh.triangle_normals[mesh.corners[:, :, 2].max(1) < 0.5][:, 2].mean())
    return mesh if outward > 0 else TriangleMesh(points, triangles[:, ::-1])


def _part_distances(made: Nominal, low: Floats, shape: tuple[int, ...]) -> npt.NDArray[np.float32]:
    """Signed distances to the part near its surface; far away only the sign is right."""
    field = np.full(shape, np.nan, dtype=np.float32)
    blocks = np.stack(np.meshgrid(*(np.arange(0, n, BLOCK) for n in shape), indexing="ij"), -1).reshape(-1, 3)
    middles = low + GRID * (blocks + (BLOCK - 1) / 2)
    reach = GRID * (BLOCK * np.sqrt(3) / 2 + 2)
    near = blocks[made.mesh.tree.query(middles, limit=reach).found]
    # Every cell of a block that a surface may cross: no row of cells gets from inside to outside unseen.
    inside = np.stack(np.meshgrid(*[np.arange(BLOCK)] * 3, indexing="ij"), -1).reshape(-1, 3)
    index = (near[:, None] + inside).reshape(-1, 3)
    index = index[(index < shape).all(1)]
    field[tuple(index.T)] = made.projector.project(low + GRID * index).distances
    return _filled(field)


def _filled(field: npt.NDArray[np.float32]) -> npt.NDArray[np.float32]:
    """Give each unknown cell the sign of the last known one along X; rows start outside."""
    known = np.isfinite(field)
    last = np.where(known, np.arange(field.shape[0])[:, None, None], -1)
    np.maximum.accumulate(last, axis=0, out=last)
    sign = np.sign(np.take_along_axis(field, np.maximum(last, 0), axis=0))
    sign[last < 0] = 1.0
    return np.where(known, field, 5.0 * sign).astype(np.float32)


def _settled(raw: TriangleMesh, made: Nominal, bump: Bump) -> Floats:
    """Points on the made surface; rounded within reach of its sharp edges; the shroud's bump added."""
    smooth = _smoothed(raw, rounds=2)
    exact = made.projector.project(smooth)
    on_table = smooth[:, 2] < np.abs(exact.distances)
    target = np.where(on_table[:, None], smooth * [1, 1, 0], exact.feet)
    near = made.edge_distances(smooth, 3.0)
    near = np.minimum(
        near, np.where(smooth[:, 2] < 2, np.abs(np.abs(exact.distances) - smooth[:, 2]) + smooth[:, 2], 9)
    )
    share = np.clip((near - EDGE_ROUNDING) / EDGE_ROUNDING, 0, 1)[:, None]
    points = smooth + (target - smooth) * share
    return points + exact.normals * bump_height(points, bump)[:, None]


def _smoothed(mesh: TriangleMesh, rounds: int) -> Floats:
    from scipy.sparse import coo_matrix

    t, n = mesh.triangles, len(mesh.points)
    rows, columns = t.ravel(), np.roll(t, -1, axis=1).ravel()
    graph = coo_matrix((np.ones(2 * len(rows)), (np.r_[rows, columns], np.r_[columns, rows])), shape=(n, n)).tocsr()
    degree = np.asarray(graph.sum(1))
    points = np.array(mesh.points)
    for _ in range(rounds):
        points = 0.5 * points + 0.5 * (graph @ points) / degree
    return points


def bump_height(points: Floats, bump: Bump) -> Floats:
    """How far the shroud stands proud at each point (N,)."""
    radial = np.hypot(points[:, 0], points[:, 2] - BORE_HEIGHT)
    azimuth = np.degrees(np.arctan2(points[:, 2] - BORE_HEIGHT, points[:, 0]))
    outer = radial > 48.5
    across = np.radians(azimuth - bump.azimuth) * radial
    distance = np.hypot(across, points[:, 1] - bump.y)
    x = np.clip((bump.outer_radius - distance) / (bump.outer_radius - bump.flat_radius), 0, 1)
    return np.asarray(np.where(outer, bump.height * x * x * x * (10 - 15 * x + 6 * x * x), 0.0))


def _seen(mesh: TriangleMesh, occluder: TriangleMesh, rng: np.random.Generator) -> Bools:
    """Points that at least two of the poses see under less than 70 degrees."""
    caster = RayCaster(occluder)
    times = np.zeros(len(mesh.points), dtype=np.int8)
    normals = mesh.normals
    for k in range(40):
        turn, rise = 2.399963 * k, np.radians(8 + 76 * ((k * 7) % 40) / 39)
        direction = np.array([np.cos(turn) * np.cos(rise), np.sin(turn) * np.cos(rise), np.sin(rise)])
        pose = STAND_OFF * direction + [0, 0, 50] + rng.normal(0, 8, 3)
        rows = np.flatnonzero(times < 2)
        towards = unit(pose - mesh.points[rows])
        rows = rows[np.einsum("ij,ij->i", towards, normals[rows]) > np.cos(np.radians(70))]
        times[rows] += caster.sees(pose, mesh.points[rows] + normals[rows] * 0.5, 0.2)
    return times >= 2


def _with_fragments(scan: TriangleMesh, rng: np.random.Generator) -> TriangleMesh:
    """Some loose scraps in the air, as reflections and sleeves leave them."""
    points, triangles = [scan.points], [scan.triangles]
    count = len(scan.points)
    for _ in range(7):
        size = int(rng.integers(5, 22))
        u, v = np.meshgrid(np.arange(size) * 0.55, np.arange(size) * 0.55, indexing="ij")
        sheet = np.stack([u, v, 0.04 * (u - v) ** 2 / size], axis=-1).reshape(-1, 3) + rng.normal(
            0, 0.08, (size * size, 3)
        )
        centre = np.array([rng.uniform(-140, 140), rng.uniform(-105, 105), rng.uniform(150, 190)])
        frame, _ = np.linalg.qr(rng.normal(size=(3, 3)))
        points.append(sheet @ frame + centre)
        corner = (np.arange(size - 1)[:, None] * size + np.arange(size - 1)).ravel() + count
        triangles += [
            np.stack([corner, corner + size, corner + 1], 1),
            np.stack([corner + 1, corner + size, corner + size + 1], 1),
        ]
        count += size * size
    return TriangleMesh(np.concatenate(points), np.concatenate(triangles))
