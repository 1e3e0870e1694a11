"""Even samples of a scan, so that dense places do not outweigh sparse ones."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from juxtum.geometry.arrays import Floats
from juxtum.geometry.mesh import Scan


@dataclass(frozen=True, eq=False)
class ScanSample:
    """Points of a scan with their normals (None for clouds) and the area each stands for, mm2."""

    points: Floats
    normals: Floats | None
    area: float


def scan_sample(scan: Scan, count: int) -> ScanSample:
    """About `count` points spread evenly over the area of a scan.

    Points are taken at equal steps of the running sum of area in the scan's own order, so that the choice does not
    depend on the pose and needs no random numbers.
    """
    areas = scan.point_areas
    total = float(areas.sum())
    count = min(count, len(scan.points))
    steps = (np.arange(count) + 0.5) * total / count
    chosen = np.unique(np.searchsorted(np.cumsum(areas), steps).clip(0, len(areas) - 1))
    normals = scan.normals
    return ScanSample(scan.points[chosen], None if normals is None else normals[chosen], total / max(len(chosen), 1))
