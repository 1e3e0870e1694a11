"""What has to be told about a job before its numbers are believed."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from juxtum.align import Alignment
from juxtum.align.hand import OPPOSITE_HAND, Fit, is_opposite_hand
from juxtum.evaluate.deviation import Deviation
from juxtum.evaluate.doubled import find_doubling
from juxtum.evaluate.swapped import SWAPPED, look_swapped
from juxtum.evaluate.thin import thinnest_walls
from juxtum.geometry import TriangleMesh
from juxtum.geometry.mesh import Scan
from juxtum.job.inputs import LoadedScan
from juxtum.nominal import Nominal
from juxtum.progress import Progress


@dataclass(frozen=True)
class Doubts:
    """Notes to be read, and objections that withhold every verdict."""

    notes: tuple[str, ...] = ()
    objections: tuple[str, ...] = ()


def doubts_about_inputs(nominal: Nominal, loaded: LoadedScan, reach: float) -> tuple[str, ...]:
    """Units that nobody named, meshes that seem to have changed places, points that may belong to either side of a wall.

    Parameters
    ----------
    reach : float
        How far off the nominal is searched, mm.
    """
    notes = []
    if nominal.unit_is_assumed and loaded.unit_is_assumed:
        size = " x ".join(f"{v:.4g}" for v in np.ptp(nominal.mesh.bounds, axis=0))
        notes.append(
            f"neither file names a unit: all numbers were taken as millimetres, which makes the part {size} mm"
        )
    if not nominal.is_exact and isinstance(loaded.scan, TriangleMesh) and look_swapped(nominal.mesh, loaded.scan):
        notes.append(SWAPPED)
    if loaded.scan.normals is None and (wall := thinnest_walls(nominal, reach)) is not None:
        what = f"the points come without normals, and walls are only {wall:.2g} mm thick"
        notes.append(
            f"{what}: which side a point belongs to is taken from the nearer one; bring a mesh, or points with normals"
        )
    return tuple(notes)


def doubts_about_scan(scan: Scan, deviation: Deviation, alignment: Alignment, progress: Progress) -> tuple[str, ...]:
    """Why a scan as a whole cannot be judged: it is the opposite hand, or it is double."""
    objections = []
    doubling = find_doubling(deviation)
    if doubling is not None:
        objections.append(doubling.sentence)
    elif is_opposite_hand(
        scan, deviation.nominal, Fit(alignment.transform, deviation.noise, deviation.area_seen), progress
    ):
        objections.append(OPPOSITE_HAND)
    return tuple(objections)
