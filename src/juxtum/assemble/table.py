"""Whether what looks like a table is a face of the part: only the nominal can tell."""

from __future__ import annotations

import numpy as np

from juxtum.align import rough_align
from juxtum.align.samples import scan_sample
from juxtum.align.symmetry import principal_frame
from juxtum.assemble.trim import Flat
from juxtum.errors import AlignmentError
from juxtum.geometry.mesh import Scan
from juxtum.nominal import Nominal
from juxtum.progress import Progress

LIES_ON_THE_PART = 0.97
"""With so much of its flat region on the nominal a scan has no table."""
SAMPLE = 4000


def thinnest(nominal: Nominal) -> float:
    """The smallest extent of the part's bounds, mm."""
    return float(np.ptp(nominal.mesh.bounds, axis=0).min())


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
    try:
        found = rough_align(scan, nominal, progress)
    except AlignmentError:
        return False
    near = max(nominal.diagonal / 250, 0.2)
    there = nominal.projector.project(found.transform.apply(sample.points[on]), limit=2 * near)
    return bool(there.found.mean() > LIES_ON_THE_PART)
