"""Left or right: whether a scan is the mirror image of the nominal."""

from __future__ import annotations

from dataclasses import dataclass
from weakref import WeakKeyDictionary

import numpy as np

from juxtum.align.best_fit import BestFitOptions, best_fit
from juxtum.align.rough import best_of, rough_align
from juxtum.align.samples import scan_sample
from juxtum.align.symmetry import mirror_of, near_mirrors, near_symmetries
from juxtum.errors import AlignmentError
from juxtum.geometry import PointCloud, RigidTransform, TriangleMesh
from juxtum.geometry.mesh import Scan
from juxtum.nominal import Nominal
from juxtum.progress import Progress, silent

OPPOSITE_HAND = "this scan is the opposite hand: its mirror image fits the nominal"
SAMPLE = 6_000
MEAN_OF_NOISE = 0.8
"""Mean distance of points that are off by nothing but noise, in its standard deviations."""
WHOLE = 0.9
"""A scan that shows so much of the part shows whether the part is its own mirror image."""
NEARLY = 0.1
"""Of the cap: a scan so near lies on the part, whichever hand it is."""
CLEARLY = 0.4
"""The mirror image must leave less than this share of what the scan leaves unexplained."""

_KNOWN: WeakKeyDictionary[Scan, WeakKeyDictionary[Nominal, float]] = WeakKeyDictionary()
"""What the mirror image of a scan leaves unexplained of a part: the same for every alignment of the scan."""


def mirrored(scan: Scan) -> Scan:
    """The scan mirrored at the plane X = 0; the triangles keep their outside outside."""
    mirror = np.array([-1.0, 1.0, 1.0])
    if isinstance(scan, TriangleMesh):
        return TriangleMesh(scan.points * mirror, scan.triangles[:, ::-1])
    return PointCloud(scan.points * mirror, None if scan.normals is None else scan.normals * mirror)


def _mirrored_start(other: Scan, nominal: Nominal, transform: RigidTransform) -> RigidTransform | None:
    """The best pose of the mirrored scan among those that the part's own mirror symmetries allow."""
    laid = mirror_of(nominal) @ transform.matrix @ np.diag([-1.0, 1, 1, 1])
    there = RigidTransform.from_parts(laid[:3, :3], laid[:3, 3])
    return best_of(other, nominal, [motion @ there for motion in near_mirrors(nominal)])


def misfit(scan: Scan, nominal: Nominal, transform: RigidTransform, cap: float) -> float:
    """Mean distance from the nominal, each place counted with at most `cap` mm."""
    sample = scan_sample(scan, SAMPLE)
    directions = None if sample.normals is None else transform.turn(sample.normals)
    found = nominal.projector.project(transform.apply(sample.points), directions, limit=cap)
    return float(np.where(found.found, np.minimum(np.abs(found.distances), cap), cap).mean())


@dataclass(frozen=True)
class Fit:
    """How a scan lies on the nominal.

    Parameters
    ----------
    transform : RigidTransform
        Scan to part, as aligned.
    noise : float
        Standard deviation of single points, mm: no pose of any image fits better than that.
    seen : float
        Share of the nominal's area that has data, 0 to 1.
    """

    transform: RigidTransform
    noise: float
    seen: float


def is_opposite_hand(scan: Scan, nominal: Nominal, fit: Fit, progress: Progress | None = None) -> bool:
    """Whether the mirror image of a scan fits the nominal clearly better than the scan does as it is aligned.

    A whole scan that lies nearly on the part can only be mirrored where the part is nearly its own mirror image: then the
    part's mirror symmetries are tried, and all poses only where it also has near-symmetries: what repeats about an axis may
    lie on itself mirrored at any angle. For any other scan every pose of the mirror image is.
    """
    progress = progress or silent()
    cap = _cap(nominal)
    as_is = misfit(scan, nominal, fit.transform, cap)
    if CLEARLY * as_is < MEAN_OF_NOISE * fit.noise:
        return False
    if fit.seen >= WHOLE and as_is < NEARLY * cap:
        if not near_mirrors(nominal):
            return False
        progress.phase("trying the mirror image")
        other = mirrored(scan)
        start = _mirrored_start(other, nominal, fit.transform)
        left = np.inf if start is None else _left_from(other, nominal, start, progress.part(0.0, 0.2))
        if left < CLEARLY * as_is:
            return True
        if not near_symmetries(nominal):
            return False
    return _left_of_the_mirrored(scan, nominal, progress.part(0.2, 1.0)) < CLEARLY * as_is


def _left_of_the_mirrored(scan: Scan, nominal: Nominal, progress: Progress) -> float:
    """What the mirror image of a scan leaves unexplained in the best of all its poses, mm; searched for once."""
    known = _KNOWN.setdefault(scan, WeakKeyDictionary())
    if nominal not in known:
        progress.phase("trying the mirror image")
        other = mirrored(scan)
        try:
            start = rough_align(other, nominal, progress.part(0.0, 0.8)).transform
            known[nominal] = _left_from(other, nominal, start, progress.part(0.8, 1.0))
        except AlignmentError:
            known[nominal] = np.inf
    return known[nominal]


def _left_from(scan: Scan, nominal: Nominal, start: RigidTransform, progress: Progress) -> float:
    """What a scan that is fitted from a pose leaves unexplained on average, mm; infinite where it cannot be fitted."""
    try:
        pose = best_fit(scan, nominal, start, BestFitOptions(count=SAMPLE), progress).transform
    except AlignmentError:
        return np.inf
    return misfit(scan, nominal, pose, _cap(nominal))


def _cap(nominal: Nominal) -> float:
    """No place counts as farther from the nominal than this, mm."""
    return max(nominal.diagonal / 100, 1.0)
