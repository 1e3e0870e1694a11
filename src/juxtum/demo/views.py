"""BC-220 scanned in six pieces from round about, each a little farther off than the one before: to be joined."""

from __future__ import annotations

import os
from pathlib import Path

import numpy as np

from juxtum.demo.job import demo_job
from juxtum.demo.truth import truth
from juxtum.demo.world import scan_path
from juxtum.exchange.meshes import read_mesh, write_ply
from juxtum.geometry import RigidTransform, TriangleMesh
from juxtum.geometry.arrays import Floats
from juxtum.geometry.rays import RayCaster
from juxtum.job import FileStore, Job
from juxtum.progress import Progress, silent

COUNT = 6
HEIGHT = np.radians(38)
"""From which they are looked at, above the table."""
STEP = (0.06, 0.012)
"""How far each is off the one before, mm and degrees."""
NOISE = 0.012
"""Added to each piece for itself, mm."""
SEED = 6


def view_paths(progress: Progress | None = None) -> tuple[Path, ...]:
    """The files of the pieces, made on first use from the scan of the whole part."""
    whole = scan_path(progress)
    paths = tuple(whole.with_name(f"BC-220 piece {k + 1}.ply") for k in range(COUNT))
    if not all(path.exists() for path in paths):
        (progress or silent()).phase("cutting the demo scan into pieces")
        mesh = read_mesh(whole).scan
        assert isinstance(mesh, TriangleMesh)
        for path, piece in zip(paths, pieces(mesh), strict=True):
            unfinished = path.with_name(f"{os.getpid()}.part.ply")
            write_ply(unfinished, piece)
            os.replace(unfinished, path)
    return paths


def pieces(mesh: TriangleMesh) -> list[TriangleMesh]:
    """What is seen of a scan from round about, each piece moved by the drift so far."""
    rng, caster = np.random.default_rng(SEED), RayCaster(mesh)
    middle = mesh.bounds.mean(0)
    drift, found = RigidTransform.identity(), []
    turn = np.radians(STEP[1]) / np.sqrt(3)
    one = RigidTransform.about(middle, np.array([*np.full(3, STEP[0] / np.sqrt(3)), turn, turn, turn]))
    for azimuth in 2 * np.pi * np.arange(COUNT) / COUNT:
        flat = np.cos(HEIGHT)
        towards = np.array([flat * np.cos(azimuth), flat * np.sin(azimuth), np.sin(HEIGHT)])
        piece = _seen_from(mesh, caster, truth().pose.turn(towards[None])[0])
        points = piece.points + rng.normal(0, NOISE, piece.points.shape)
        found.append(TriangleMesh(points, piece.triangles).moved(drift))
        drift = one @ drift
    return found


def _seen_from(mesh: TriangleMesh, caster: RayCaster, towards: Floats) -> TriangleMesh:
    """The triangles that face a direction and that nothing hides."""
    far = float(np.linalg.norm(np.ptp(mesh.bounds, axis=0)))
    seen = mesh.triangle_normals @ towards > 0.25
    starts = mesh.corners.mean(1)[seen] + 1e-3 * far * mesh.triangle_normals[seen]
    seen[seen] = ~caster.blocked(starts, np.tile(towards, (len(starts), 1)), np.full(len(starts), far))
    return mesh.kept_triangles(seen)


def views_job(files: FileStore, progress: Progress | None = None) -> Job:
    """The demo job with the pieces in place of the scan."""
    job = demo_job(files, progress, with_scan=False)
    for path in view_paths(progress):
        job = job.with_further(files.adopt(path))
    return job
