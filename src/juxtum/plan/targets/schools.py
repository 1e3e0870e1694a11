"""Targets on the part, around it, or none: the three schools compared on one part."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass
from enum import StrEnum

import numpy as np

from juxtum.align.best_fit import free_motion
from juxtum.errors import InputError
from juxtum.geometry.arrays import Floats, frozen
from juxtum.plan.targets.ground import Choice, Ground
from juxtum.plan.targets.linking import State, state_of
from juxtum.plan.targets.placer import Placer, grow_well
from juxtum.plan.targets.places import PlacementRules, table_places
from juxtum.plan.targets.shape import LOOSE, ShapeHold, shape_hold
from juxtum.plan.targets.targets import Target, arrays
from juxtum.plan.targets.views import Spots, Stance
from juxtum.progress import Progress, silent

MINUTES_EACH = 0.16
"""For sticking a target by hand and going on to the next: no ruler, the scanner learns where it is."""
PLATE_MINUTES = 2.0
PLATE_EACH = 0.15


class School(StrEnum):
    """Where the targets are."""

    ON_PART = "on the part"
    AROUND = "around it"
    NONE = "none, by shape"


@dataclass(frozen=True, eq=False)
class SchoolResult:
    """What one school reaches on a part.

    Parameters
    ----------
    targets : int
    share : float
        Of the area, by place, that is seen well while tracking, 0 to 1.
    worst : int
        Well-placed targets at the worst pose.
    minutes : float
        Of sticking.
    words : str
        What limits it.
    """

    school: School
    targets: int
    share: float
    worst: int
    minutes: float
    words: str
    places: Floats
    """Places (N, 3) about the part, table coordinates; empty for the others."""


def around_school(ground: Ground, rules: PlacementRules, goal: float, progress: Progress | None = None) -> SchoolResult:
    """Targets on a plate on which the part stands; after turning over it is the same plate."""
    progress = progress or silent()
    if ground.stance is Stance.STANDS:
        words = "the part stands free: a plate under it would not be seen"
        return SchoolResult(School.AROUND, 0, 0.0, 0, 0.0, words, frozen(np.empty((0, 3))))
    turned = ground.views.turned
    table = table_places(ground.nominal, turned[0], rules)
    spots = Spots.on_table(table, turned)
    choice = Choice(spots, ground.seen(spots, progress.part(0, 0.3)), spots.places[0], stays=False)
    placer = Placer(ground, choice, rules)
    grow_well(placer, goal, progress.part(0.3, 1))
    state, count = placer.state(), len(placer.chosen)
    minutes = PLATE_MINUTES + PLATE_EACH * count
    words = _limits(ground, state)
    if len(turned) > 1:
        words += "; the two set-ups are joined by shape"
    return SchoolResult(
        School.AROUND, count, state.share, state.tracking.worst, minutes, words, frozen(table[placer.chosen])
    )


def part_school(ground: Ground, targets: tuple[Target, ...]) -> SchoolResult:
    """Targets on the part, as they are planned."""
    points, normals = arrays(targets)
    spots = ground.spots(points, normals)
    state = state_of(ground, ground.seen_targets(points, normals), spots, np.ones(len(targets), dtype=bool))
    words = _limits(ground, state)
    minutes = MINUTES_EACH * len(targets)
    return SchoolResult(
        School.ON_PART, len(targets), state.share, state.tracking.worst, minutes, words, frozen(np.empty((0, 3)))
    )


def shape_school(ground: Ground, hold: ShapeHold) -> SchoolResult:
    """No targets: scans are joined by shape, where the surface in view holds all six motions."""
    shares, motions = pose_holds(ground)
    enough = shares >= LOOSE
    words = "; ".join(hold.free) if hold.free else ""
    if not words and not enough.all():
        names = Counter(_kind_of(m) for m in motions if m)
        words = f"{100 * (~enough).mean():.0f} % of the views are too plain: {names.most_common(1)[0][0]}"
    if not words:
        words = "every view has enough shape"
    return SchoolResult(School.NONE, 0, ground.cover.of(enough).share, 0, 0.0, words, frozen(np.empty((0, 3))))


def pose_holds(ground: Ground) -> tuple[Floats, list[str]]:
    """For each pose the weakest hold of the surface in view (P,), and the motion that is free, if any."""
    patches = ground.patches
    size = max(patches.size * 3, 1.0)
    shares, motions = np.zeros(len(ground.views)), []
    for pose, rows in enumerate(ground.covers):
        share, motion = _hold(patches.places[rows], patches.normals[rows], patches.areas[rows], size)
        shares[pose] = share
        motions.append(motion)
    return shares, motions


def _hold(places: Floats, normals: Floats, areas: Floats, size: float) -> tuple[float, str]:
    if len(places) < 3:
        return 0.0, "free to slide along the surface"
    weights = areas / areas.sum()
    middle = weights @ places
    rates = np.concatenate([normals, np.cross(places - middle, normals) / size], axis=1)
    values, vectors = np.linalg.eigh((rates * weights[:, None]).T @ rates)
    share = float(np.sqrt(max(values[0], 0.0)))
    if share >= LOOSE:
        return share, ""
    return share, free_motion(vectors[:, 0] * np.array([1, 1, 1, 1 / size, 1 / size, 1 / size]), middle)


def _kind_of(motion: str) -> str:
    """A motion without its place, so that equal ones can be counted."""
    return motion.split(" through ", maxsplit=1)[0]


def _limits(ground: Ground, state: State) -> str:
    """What is seen too seldom, by area: how much, and most at which faces."""
    lacks = state.covered.lacks > 0
    if not lacks.any():
        return "every place is seen well"
    areas = np.bincount(ground.patches.faces, ground.patches.areas * lacks)
    most = [str(f + 1) for f in np.argsort(-areas)[:3] if areas[f] > 0]
    return f"{100 * (1 - state.share):.0f} % of the area is seen too seldom, most at face {', '.join(most)}"


def compare_schools(
    ground: Ground, rules: PlacementRules, targets: tuple[Target, ...], goal: float, progress: Progress | None = None
) -> tuple[SchoolResult, ...]:
    """All three on this part."""
    faces = tuple(sorted({int(f) + 1 for f in ground.patches.faces}))
    hold = shape_hold(ground.nominal, faces)
    if ground.model.targets is None:
        raise InputError(f"{ground.model.name} does not use reference targets", "targets", "Choose another instrument")
    return part_school(ground, targets), around_school(ground, rules, goal, progress), shape_school(ground, hold)
