"""Points in great number: taken in fast, kept in blocks, never copied to grow."""

from __future__ import annotations

import re
from pathlib import Path

import numpy as np

from juxtum.devices.protocol import POINT, Points
from juxtum.errors import InputError, JuxtumError
from juxtum.exchange.limits import check_file
from juxtum.geometry import RigidTransform
from juxtum.geometry.arrays import Bools, Floats, frozen
from juxtum.plan.cost.schedule import machine_memory

BLOCK = 1_000_000
CAPTURE_SHARE = 0.25
"""Of the machine's memory that a capture may fill: joining and meshing need more than the points themselves."""


class MemoryFull(JuxtumError):
    """The memory that captures may use is full; what was taken in stays."""


def capture_memory() -> float:
    """Bytes that captures may use on this machine."""
    return CAPTURE_SHARE * machine_memory()


class PointStore:
    """Points of one patch in the map's coordinates, 16 bytes each.

    Parameters
    ----------
    budget : Budget
        Shared by all patches.
    """

    def __init__(self, budget: Budget) -> None:
        self._budget = budget
        self._blocks: list[Points] = []
        self._count = 0

    def __len__(self) -> int:
        return self._count

    def add(self, points: Points, pose: RigidTransform) -> Floats:
        """Take a frame in, bringing it from the device to the map; the places (N, 3) in the map.

        Raises
        ------
        MemoryFull
            When there is no room for it; nothing of it is taken then.
        """
        from juxtum.capture.live import _point_kernels as kernels

        self._budget.take(points.nbytes)
        places = np.empty((len(points), 3))
        start = 0
        while start < len(points):
            if self._count == len(self._blocks) * BLOCK:
                self._blocks.append(np.empty(BLOCK, dtype=POINT))
            at = self._count % BLOCK
            n = min(BLOCK - at, len(points) - start)
            kernels.take(
                points[start : start + n],
                pose.rotation,
                pose.offset,
                self._blocks[-1][at : at + n],
                places[start : start + n],
            )
            self._count += n
            start += n
        return places

    def all(self) -> Points:
        """Every point (N,)."""
        parts = [b[: min(BLOCK, self._count - k * BLOCK)] for k, b in enumerate(self._blocks)]
        return np.concatenate(parts) if parts else np.empty(0, dtype=POINT)

    def move(self, move: RigidTransform) -> None:
        """Bring every point into another map."""
        points = self.all()
        self.clear()
        self.add(points, move)

    def keep(self, good: Bools) -> None:
        """Only points (N,) that are true stay."""
        left = self.all()[good]
        self._budget.give((self._count - len(left)) * POINT.itemsize)
        self._blocks, self._count = [], 0
        for start in range(0, len(left), BLOCK):
            block = np.empty(BLOCK, dtype=POINT)
            some = left[start : start + BLOCK]
            block[: len(some)] = some
            self._blocks.append(block)
        self._count = len(left)

    def clear(self) -> None:
        """Let all go."""
        self._budget.give(self._count * POINT.itemsize)
        self._blocks, self._count = [], 0


class Budget:
    """Bytes that captures may use together."""

    def __init__(self, limit: float) -> None:
        self.limit, self.used = limit, 0.0

    def take(self, size: int) -> None:
        """Use some."""
        if self.used + size > self.limit:
            raise MemoryFull(
                "the memory for points is full",
                "capture",
                "Stop this patch, make the surface, or scan coarser; nothing is lost",
            )
        self.used += size

    def give(self, size: int) -> None:
        """Give some back."""
        self.used = max(0.0, self.used - size)


def places_of(points: Points) -> Floats:
    """Places (N, 3) of points, mm."""
    return frozen(points["place"].astype(np.float64))


def normals_of(points: Points) -> Floats:
    """Unit normals (N, 3) of points."""
    normals = points["normal"].astype(np.float64)
    length = np.linalg.norm(normals, axis=1, keepdims=True)
    return frozen(normals / np.where(length > 0, length, 1))


PLY_POINT = np.dtype(
    [("x", "<f4"), ("y", "<f4"), ("z", "<f4"), ("nx", "<f4"), ("ny", "<f4"), ("nz", "<f4"), ("quality", "u1")]
)


def read_points(path: Path) -> Points:
    """Read points back that `write_points` wrote.

    Raises
    ------
    InputError
        When the file is anything else or damaged.
    """
    size = check_file(path)
    with path.open("rb") as file:
        head = file.read(1000)
        end = head.find(b"end_header\n")
        count = re.search(rb"element vertex (\d{1,12})\n", head[: max(end, 0)])
        start = end + len(b"end_header\n")
        if end < 0 or count is None or size - start != int(count[1]) * PLY_POINT.itemsize:
            raise InputError(
                "this is not a patch of a capture, or it is damaged", str(path), "Discard it and capture it again"
            )
        file.seek(start)
        rows = np.fromfile(file, PLY_POINT)
    points = np.empty(len(rows), dtype=POINT)
    points["place"] = np.stack([rows["x"], rows["y"], rows["z"]], 1)
    points["normal"] = np.round(np.clip(np.stack([rows["nx"], rows["ny"], rows["nz"]], 1), -1, 1) * 127)
    points["quality"] = rows["quality"]
    return points


def write_points(path: Path, points: Points) -> None:
    """Write points as binary PLY: places in mm, normals, quality 0 to 255."""
    header = ["ply", "format binary_little_endian 1.0", "comment units mm", f"element vertex {len(points)}"]
    header += [f"property float {name}" for name in ("x", "y", "z", "nx", "ny", "nz")] + [
        "property uchar quality",
        "end_header",
    ]
    with path.open("wb") as file:
        file.write(("\n".join(header) + "\n").encode())
        for start in range(0, len(points), BLOCK):
            some = points[start : start + BLOCK]
            rows = np.empty(len(some), PLY_POINT)
            rows["x"], rows["y"], rows["z"] = some["place"].T
            rows["nx"], rows["ny"], rows["nz"] = normals_of(some).T
            rows["quality"] = some["quality"]
            rows.tofile(file)
