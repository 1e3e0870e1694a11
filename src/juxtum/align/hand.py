"""Left or right: whether a scan is the mirror image of the nominal."""

from __future__ import annotations

import numpy as np

from juxtum.align.best_fit import BestFitOptions, best_fit
from juxtum.align.rough import rough_align
from juxtum.align.samples import scan_sample
from juxtum.errors import AlignmentError
from juxtum.geometry import PointCloud, RigidTransform, TriangleMesh
from juxtum.geometry.mesh import Scan
from juxtum.nominal import Nominal
from juxtum.progress import Progress, silent

OPPOSITE_HAND = "this scan is the opposite hand: its mirror image fits the nominal"
SAMPLE = 6_000
MEAN_OF_NOISE = 0.8
"""Mean distance of points that are off by nothing but noise, in its standard deviations."""
CLEARLY = 0.4
"""The mirror image must leave less than this share of what the scan leaves unexplained."""


def mirrored(scan: Scan) -> Scan:
    """The scan mirrored at the plane X = 0; the triangles keep their outside outside."""
    mirror = np.array([-1.0, 1.0, 1.0])
    if isinstance(scan, TriangleMesh):
        return TriangleMesh(scan.points * mirror, scan.triangles[:, ::-1])
    return PointCloud(scan.points * mirror, None if scan.normals is None else scan.normals * mirror)


def misfit(scan: Scan, nominal: Nominal, transform: RigidTransform, cap: float) -> float:
    """Mean distance from the nominal, each place counted with at most `cap` mm."""
    sample = scan_sample(scan, SAMPLE)
    directions = None if sample.normals is None else transform.turn(sample.normals)
    found = nominal.projector.project(transform.apply(sample.points), directions, limit=cap)
    return float(np.where(found.found, np.minimum(np.abs(found.distances), cap), cap).mean())


def is_opposite_hand(scan: Scan, nominal: Nominal, transform: RigidTransform, noise: float, progress: Progress | None = None) -> bool:
    """Whether the mirror image of a scan fits the nominal clearly better than the scan does as it is aligned.

    Parameters
    ----------
    transform : RigidTransform
        Scan to part, as aligned.
    noise : float
        Standard deviation of single points, mm: no pose of any image fits better than that.
    """
    progress = progress or silent()
    cap = max(nominal.diagonal / 100, 1.0)
    as_is = misfit(scan, nominal, transform, cap)
    if CLEARLY * as_is < MEAN_OF_NOISE * noise:
        return False
    other = mirrored(scan)
    progress.phase("trying the mirror image")
    try:
        start = rough_align(other, nominal, progress.part(0.0, 0.8)).transform
        pose = best_fit(other, nominal, start, BestFitOptions(count=SAMPLE), progress.part(0.8, 1.0)).transform
    except AlignmentError:
        return False
    return misfit(other, nominal, pose, cap) < CLEARLY * as_is
