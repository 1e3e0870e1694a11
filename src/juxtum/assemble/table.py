"""Whether what looks like a table is a face of the part: only the nominal can tell."""

from __future__ import annotations

import numpy as np

from juxtum.align import rough_align
from juxtum.align.samples import scan_sample
from juxtum.align.symmetry import principal_frame
from juxtum.assemble.trim import Flat, hull_area, without_outliers
from juxtum.errors import AlignmentError
from juxtum.geometry import Plane
from juxtum.geometry.mesh import Scan
from juxtum.nominal import Nominal
from juxtum.progress import Progress

LIES_ON_THE_PART = 0.97
"""With so much of its flat region on the nominal a scan has no table."""
SAMPLE = 4000
LARGER = 1.15
"""A flat region larger than this share of the largest outline of the part is none of its faces."""
DIRECTIONS = 300
"""In which outlines are looked at, on a half sphere: between them none is more than a hundredth larger."""


def thinnest(nominal: Nominal) -> float:
    """The smallest extent of the part's bounds, mm."""
    return float(np.ptp(nominal.mesh.bounds, axis=0).min())


def largest_shadow(nominal: Nominal) -> float:
    """Area of the outline that a part's hull throws at most, over many directions, mm2."""
    from scipy.spatial import ConvexHull

    points = nominal.mesh.points
    if np.linalg.matrix_rank(points - points.mean(0), tol=1e-9 * nominal.diagonal) < 3:
        return float(nominal.area)
    corners = points[ConvexHull(points).vertices]
    k = np.arange(DIRECTIONS) + 0.5
    rise, turn = k / DIRECTIONS, np.pi * (1 + np.sqrt(5)) * k
    flat = np.sqrt(1 - rise**2)
    ways = np.stack([flat * np.cos(turn), flat * np.sin(turn), rise], axis=1)
    return max(hull_area(corners, Plane(np.zeros(3), way)) for way in ways)


def could_be_the_part(scan: Scan, flat: Flat, nominal: Nominal, progress: Progress) -> bool:
    """Whether a flat region lies on the part, with the scan as it is brought near the nominal.

    A table reaches farther than the part: then no alignment of the whole scan brings it onto the nominal.
    """
    sample = scan_sample(scan, SAMPLE)
    heights = flat.plane.distances(sample.points)
    on = np.abs(heights) < flat.thickness
    along = sample.points[on] - np.outer(heights[on], flat.plane.normal)
    # Along its own axes: the box of a turned rectangle is larger than the rectangle.
    if len(along) > 2 and np.linalg.norm(np.ptp(along @ principal_frame(along).T, axis=0)) > 1.25 * nominal.diagonal:
        return False
    # No face of the part is larger than its largest shadow; this is told without looking for its pose.
    if len(along) > 2 and hull_area(without_outliers(along), flat.plane) > LARGER * largest_shadow(nominal):
        return False
    try:
        found = rough_align(scan, nominal, progress)
    except AlignmentError:
        return False
    near = max(nominal.diagonal / 250, 0.2)
    there = nominal.projector.project(found.transform.apply(sample.points[on]), limit=2 * near)
    return bool(there.found.mean() > LIES_ON_THE_PART)
