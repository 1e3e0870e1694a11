"""How much material lies in a beam through a part: what a cabinet has to see through."""

from __future__ import annotations

import numpy as np

from juxtum.geometry.arrays import Floats, unit
from juxtum.nominal import Nominal

ACROSS = 36
"""Pixels across the part's shadow."""
TURNS = 8
"""Directions of the beam over half a turn."""
COUNTED = 95.0
"""Percentile of the paths that is called the longest: single rays along a wall are noise."""


def paths_along(nominal: Nominal, direction: Floats) -> Floats:
    """Mean length of material (N,) in parallel beams along a direction, mm, one for each pixel of the part's shadow.

    The surface is summed up, entry against exit (Gauss's theorem): exact for a closed surface up to its pixels.
    """
    way = unit(np.asarray(direction, dtype=np.float64))
    samples = nominal.samples
    facing = samples.mesh.triangle_normals @ way * samples.mesh.triangle_areas
    depth = samples.centres @ way
    helper = np.eye(3)[int(np.argmin(np.abs(way)))]
    right = unit(np.cross(helper, way))
    shadow = np.stack([samples.centres @ right, samples.centres @ np.cross(way, right)], 1)
    size = max(float(np.ptp(shadow, axis=0).max()) / ACROSS, 2 * samples.size)
    cells = np.floor((shadow - shadow.min(0)) / size).astype(np.int64)
    keys = cells[:, 0] * (cells[:, 1].max() + 1) + cells[:, 1]
    lengths = np.bincount(keys, facing * depth) / size**2
    return np.asarray(lengths[np.bincount(keys) > 0])


def longest_path(nominal: Nominal, axis: int = 2, about: int = TURNS) -> float:
    """The longest path of material in a beam across an axis of the part about which it is turned, mm; nan for an open part.

    Examples
    --------
    >>> from juxtum.demo import solids
    >>> 45 < longest_path(Nominal.from_shape(solids.box((0, 0, 0), (30, 40, 100)))) < 55
    True
    """
    if not np.isfinite(nominal.volume):
        return float("nan")
    first, second = (np.eye(3)[k] for k in range(3) if k != axis)
    angles = np.pi * np.arange(about) / about
    return max(
        float(np.percentile(paths_along(nominal, np.cos(a) * first + np.sin(a) * second), COUNTED)) for a in angles
    )


def shortest_longest_path(nominal: Nominal) -> float:
    """The same about the axis of the part that asks for least, mm."""
    return min(longest_path(nominal, axis) for axis in range(3))
