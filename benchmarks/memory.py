"""How much memory `inspect` takes on five million points."""

from __future__ import annotations

import resource
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from pathlib import Path

import numpy as np

from juxtum.demo.world import nominal_path, scan_path
from juxtum.exchange.meshes import read_mesh, write_ply
from juxtum.geometry import TriangleMesh


def dense_scan(path: Path, wanted: int) -> int:
    """The demo scan with its triangles cut in four until it has the wanted number of points."""
    scan = read_mesh(scan_path()).scan
    points, triangles = scan.points, scan.triangles.astype(np.int64)
    while len(points) < wanted:
        edges = np.sort(np.concatenate([triangles[:, [0, 1]], triangles[:, [1, 2]], triangles[:, [2, 0]]]), axis=1)
        keys, index = np.unique(edges[:, 0] * len(points) + edges[:, 1], return_inverse=True)
        a, b = keys // len(points), keys % len(points)
        ab, bc, ca = (index + len(points)).reshape(3, -1)
        points = np.concatenate([points, (points[a] + points[b]) / 2])
        x, y, z = triangles.T
        triangles = np.concatenate([np.stack(t, 1) for t in ((x, ab, ca), (ab, y, bc), (ca, bc, z), (ab, bc, ca))])
    # Cut to the wanted number from one end, which keeps the rest dense and connected.
    threshold = np.sort(points[:, 1])[wanted]
    keep = points[:, 1] < threshold
    triangles = triangles[keep[triangles].all(axis=1)]
    points, triangles = points[keep], (np.cumsum(keep) - 1)[triangles]
    write_ply(path, TriangleMesh(points, triangles))
    return len(points)


def five_million() -> Iterator[str]:
    """Peak resident memory of the whole command."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "dense.ply"
        count = dense_scan(path, 5_000_000)
        command = [sys.executable, "-m", "juxtum", "inspect", str(nominal_path()), str(path), "--out", f"{folder}/out"]
        before = resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss
        subprocess.run(command, check=True, capture_output=True)
        peak = resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss
    assert peak >= before
    yield f"inspect on {count} points: peak {peak / 1024**2:.2f} GB"
