"""Targets as a list in part coordinates, for and from other programs: name, X, Y, Z in mm."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from juxtum.errors import InputError
from juxtum.exchange.named_places import read_named_places
from juxtum.nominal import Nominal
from juxtum.plan.targets.targets import Target

MOST_ROWS = 1000
NEAR = 5.0
"""A target that lies farther from the part than this, mm, is not on it."""


def read_targets(path: Path, nominal: Nominal, diameter: float) -> tuple[Target, ...]:
    """Targets of a list, put onto the nearest surface of the part.

    Columns `name,X,Y,Z` in this order; where the first line has names, they say which columns these are (so that what
    Juxtum writes as `targets.csv` is read too).

    Parameters
    ----------
    diameter : float
        Of the discs, mm.

    Raises
    ------
    InputError
        Naming the line that cannot be read, or the target that does not lie on the part.
    """
    rows = read_named_places(path, "targets")
    if len(rows) > MOST_ROWS:
        raise InputError(f"the list has {len(rows)} targets, {MOST_ROWS} are the most", str(path), "Give fewer")
    places = np.array([row.place for row in rows])
    found = nominal.projector.project(places, limit=NEAR)
    for row, is_near in zip(rows, found.found, strict=True):
        if not is_near:
            what = f"line {row.line}: target {row.name} lies more than {NEAR:g} mm from the part"
            raise InputError(what, str(path), "See that the list is in part coordinates and in mm")
    edges = nominal.edge_distances(found.feet, 25 * diameter)
    return tuple(
        Target(np.array(foot), np.array(normal), int(face) + 1, float(edge))
        for foot, normal, face, edge in zip(found.feet, found.normals, found.faces, edges, strict=True)
    )
