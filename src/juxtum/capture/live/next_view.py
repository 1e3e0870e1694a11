"""What is missing, and from where to come in for it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from juxtum.capture.live.coverage import Coverage, Seen
from juxtum.capture.path.route import Stop
from juxtum.geometry.arrays import Bools, Floats
from juxtum.plan.planner import Planner
from juxtum.plan.targets.ground import Ground

UNTRACKED_WORTH = 0.15
OTHER_POSITION_WORTH = 0.5


@dataclass(frozen=True, eq=False)
class NextView:
    """The best next view.

    Parameters
    ----------
    stop : Stop
        Where to hold the scanner.
    aim : array (3,)
        The place on the part it is for.
    face : int
        Number of the face that misses most there.
    name : str
    area : float
        That it would still bring, mm2.
    turns_over : bool
        Whether the part must be turned over for it.
    """

    stop: Stop
    aim: Floats
    face: int
    name: str
    area: float
    turns_over: bool


def missing_patches(coverage: Coverage, ground: Ground) -> Floats:
    """Area of each of the ground's patches (K,) that is not yet captured densely enough, mm2."""
    cells = coverage.cells
    lacks = np.zeros(int(max(cells.samples.max(initial=0), ground.patches.samples.max(initial=0))) + 1)
    lacks[cells.samples] = coverage.seen[cells.owners] < Seen.ENOUGH
    areas = ground.nominal.samples.mesh.triangle_areas[ground.patches.samples]
    return np.asarray(
        np.bincount(ground.patches.owners, areas * lacks[ground.patches.samples], len(ground.patches.areas)),
        dtype=np.float64,
    )


def next_view(
    coverage: Coverage, planner: Planner, tracks: Bools, position: int, shunned: frozenset[int] = frozenset()
) -> NextView | None:
    """The planned pose that would bring most of what is missing; None when nothing is left that a pose sees.

    Parameters
    ----------
    tracks : array (P,)
        Which poses track with the targets of the plan.
    shunned : frozenset of int
        Poses that were tried and brought nothing.
    """
    ground = planner.ground()
    missing = missing_patches(coverage, ground)
    gains = ground.covers @ missing
    worth = (
        gains
        * np.where(tracks, 1.0, UNTRACKED_WORTH)
        * np.where(ground.views.setups == position, 1.0, OTHER_POSITION_WORTH)
    )
    worth[list(shunned)] = 0
    best = int(np.argmax(worth))
    if gains[best] < 0.002 * float(coverage.cells.areas.sum()) or worth[best] <= 0:
        return None
    views, here = ground.views, np.where(ground.covers[best], missing, 0.0)
    patch = int(np.argmax(here))
    by_face = np.bincount(ground.patches.faces, here)
    face = int(np.argmax(by_face)) + 1
    stop = Stop(views.eyes[best], views.axes[best], views.ups[best], int(views.setups[best]))
    return NextView(
        stop, ground.patches.places[patch], face, name_of(planner, face), float(gains[best]), stop.position != position
    )


def pose_of(planner: Planner, view: NextView) -> int:
    """Row of the planned pose of a view."""
    return int(np.argmin(np.linalg.norm(planner.ground().views.eyes - view.stop.eye, axis=1)))


def name_of(planner: Planner, face: int) -> str:
    """What people call a face: after the characteristic that names it alone, or its number and form."""
    for aim in planner.task.aims:
        if face in aim.faces:
            return aim.title.split(", ")[-1]
    return planner.nominal.face(face).title.split(" \u00d8")[0]
