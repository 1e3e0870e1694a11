"""Which points of a scan count: clear of sharp edges and of roundings, which scanners smear, and of where the scan itself ends."""

from __future__ import annotations

import numpy as np

from juxtum.geometry.arrays import Bools, Floats, Ints
from juxtum.geometry.kdtree import kd_tree
from juxtum.geometry.mesh import Scan, TriangleMesh
from juxtum.geometry.topology import border_points
from juxtum.nominal.model import Nominal
from juxtum.nominal.projection import Projection

LEAST_CLEAR = 0.05
"""A face with a smaller share of its points clear of edges is too narrow to keep clear of them."""
MOSTLY = 0.75
"""Where less of a face lies off the scan's own borders, or off roundings, than this share, what lies along them counts as well."""
TIGHT = 4.0
"""A face that bends with a radius of less than so many spacings is a rounding: from one point to the next it turns by 14 degrees and more."""


SMALL = 80.0
"""On a smaller part so many times 0.5 mm an edge is rounded by less than that."""


def edge_margin(spacing: float, size: float) -> float:
    """How far from a sharp edge a scan of a part of some size is trusted, mm: twice its spacing, but between 0.5 (less on parts under 40 mm) and 3 mm."""
    return float(np.clip(2 * spacing, min(0.5, size / SMALL), 3.0))


def clear_points(scan: Scan, nominal: Nominal, feet: Projection, rows: Ints | None = None) -> Bools:
    """Which points of a scan count by where their feet lie on the nominal.

    Parameters
    ----------
    feet : Projection
        Of the points, or of `rows` of them.
    """
    margin, found = edge_margin(scan.spacing, nominal.diagonal), feet.found
    clear = np.zeros(len(feet.faces), dtype=bool)
    clear[found] = ~feet.on_border[found] & (nominal.edge_distances(feet.feet[found], margin) >= margin)
    for off in (_off_roundings(scan, nominal, feet, margin), _off_borders(scan, rows)):
        clear &= off | _mostly_lost(np.where(clear, feet.faces, -1), off)
    return clear


def or_in_the_middle(nominal: Nominal, clear: Bools, feet: Floats, faces: Ints, margin: float) -> Bools:
    """What counts of points (N,) within faces: what is `clear`, or, of faces too narrow for that, the middle third between their edges."""
    if len(faces) == 0:
        return clear
    every, left = np.bincount(faces), np.bincount(faces, clear)
    narrow = (left < LEAST_CLEAR * every)[faces]
    away, most = np.zeros(len(faces)), np.zeros(int(faces.max()) + 1)
    if narrow.any():
        away[narrow] = nominal.edge_distances(feet[narrow], margin)
    np.maximum.at(most, faces, away)
    return np.asarray(clear | (narrow & (away >= 0.65 * most[faces])))


def _mostly_lost(faces: Ints, kept: Bools) -> Bools:
    """Points (N,) of faces (N,) by index, -1 for none, of which too little would be left."""
    every, left = np.bincount(faces + 1), np.bincount(faces + 1, kept)
    return np.asarray((left < MOSTLY * every)[faces + 1])


def _off_borders(scan: Scan, rows: Ints | None) -> Bools:
    """Points (N,), or some rows of them, no nearer to an open border of their mesh than its spacing; a list of points has no borders.

    What ends a scan is seen from the side and by few lines.
    """
    points = scan.points if rows is None else scan.points[rows]
    rim = border_points(scan) if isinstance(scan, TriangleMesh) else np.zeros(0, dtype=bool)
    if not rim.any():
        return np.ones(len(points), dtype=bool)
    near = kd_tree(scan.points[rim]).query(points, distance_upper_bound=scan.spacing, workers=-1)[0]
    return np.asarray(near >= scan.spacing)


def _off_roundings(scan: Scan, nominal: Nominal, feet: Projection, margin: float) -> Bools:
    """Points (N,) that keep away from roundings of other faces: beside one a coarse mesh swings past the surface."""
    is_tight = np.append(nominal.bend_radii < TIGHT * scan.spacing, False)[feet.faces]
    off = np.ones(len(feet.faces), dtype=bool)
    rows = np.flatnonzero(feet.found & ~is_tight)
    if is_tight.any() and len(rows):
        near = kd_tree(feet.feet[is_tight]).query(feet.feet[rows], distance_upper_bound=margin, workers=-1)[0]
        off[rows] = near >= margin
    return off
