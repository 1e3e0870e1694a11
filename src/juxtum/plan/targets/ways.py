"""Ways to know where the scanner is: targets on equipment, on the part, both or none; compared on one part and chosen."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass
from enum import StrEnum

import numpy as np

from juxtum.align.best_fit import free_motion
from juxtum.errors import InputError
from juxtum.geometry.arrays import Floats
from juxtum.instruments.equipment import Equipment
from juxtum.plan.targets.covering import HARDLY
from juxtum.plan.targets.ground import Ground
from juxtum.plan.targets.linking import State, sighted, state_of
from juxtum.plan.targets.places import PlacementRules
from juxtum.plan.targets.shape import LOOSE, ShapeHold, shape_hold
from juxtum.plan.targets.targets import Target, arrays, place_targets
from juxtum.plan.targets.ties import tie_of
from juxtum.progress import Progress, silent

MINUTES_EACH = 0.16
"""For sticking a target by hand and going on to the next: no ruler, the scanner learns where it is."""
EQUIPMENT_MINUTES = 1.5
"""For fetching a plate or a block, wiping it and putting the part on it."""
VERY_MANY = 150
"""More targets than this are not stuck."""
JOINING_MINUTES = 2.0
"""For joining what was scanned in two positions by its shape and looking at it."""


class Way(StrEnum):
    """Where the targets are."""

    EQUIPMENT = "all on equipment"
    BOTH = "equipment, a few on the part"
    PART = "on the part"
    NONE = "none, by shape"


@dataclass(frozen=True, eq=False)
class WayResult:
    """What a way reaches on a part.

    Parameters
    ----------
    targets : tuple of Target
        To be stuck on the part.
    equipment : tuple of Equipment
    share : float
        Of the area, by place, that is seen well while tracking, 0 to 1.
    worst : int
        Well-placed targets at the worst pose.
    minutes : float
        Of getting ready: sticking, putting the part down on equipment, joining by shape.
    expanded : float
        U of a length over the whole part, with what ties its positions, k = 2, mm; inf where nothing ties them, nan where
        it cannot be said.
    words : str
        What limits it.
    """

    way: Way
    targets: tuple[Target, ...]
    equipment: tuple[Equipment, ...]
    share: float
    worst: int
    minutes: float
    expanded: float
    words: str

    @property
    def is_possible(self) -> bool:
        """Whether it can be chosen at all; where nothing ties the positions the first one can still be scanned."""
        return self.share > 0


def way_of(ground: Ground) -> Way:
    """The way that a ground's equipment makes of targets on it."""
    if ground.gear is None or not ground.gear.items:
        return Way.PART
    return Way.EQUIPMENT if ground.is_joined_by_shape else Way.BOTH


def way_result(ground: Ground, targets: tuple[Target, ...], error: float) -> WayResult:
    """What targets and a ground's equipment reach.

    Parameters
    ----------
    error : float
        Maximum permissible error of the scanner over the whole part, mm.
    """
    way, items = way_of(ground), ground.gear.items if ground.gear is not None else ()
    there = sighted(ground, *arrays(targets))
    state = state_of(ground, there)
    tie = tie_of(ground, there, state.linkage)
    minutes = MINUTES_EACH * len(targets) + EQUIPMENT_MINUTES * len(items)
    if ground.is_joined_by_shape and len(ground.views.turned) > 1:
        minutes += JOINING_MINUTES
    expanded = 2 * float(np.hypot(error / np.sqrt(3), tie.spread))
    words = f"{_limits(ground, state)}; {tie.words}"
    if len(targets) > VERY_MANY and state.share < 0.9:
        words += "; so large a part wants a tracked scanner"
    return WayResult(way, targets, items, state.share, state.tracking.worst, minutes, expanded, words)


def impossible(way: Way, words: str) -> WayResult:
    """A way that this part does not allow, and why."""
    return WayResult(way, (), (), 0.0, 0, 0.0, np.inf, words)


def shape_way(ground: Ground, hold: ShapeHold) -> WayResult:
    """No targets: scans are joined by shape, where the surface in view holds all six motions."""
    shares, motions = pose_holds(ground)
    enough = shares >= LOOSE
    words = "; ".join(hold.free) if hold.free else ""
    if not words and not enough.all():
        names = Counter(_kind_of(m) for m in motions if m)
        words = f"{100 * (~enough).mean():.0f} % of the views are too plain: {names.most_common(1)[0][0]}"
    if not words:
        words = "every view has enough shape"
    share = ground.cover.of(enough).share
    # Every joint of two views adds to the error, and how many there will be nobody knows: U is not said.
    return WayResult(Way.NONE, (), (), share, 0, JOINING_MINUTES, np.nan, words)


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
    if 1 - state.share < HARDLY:
        return "every place is seen well"
    areas = np.bincount(ground.patches.faces, ground.patches.areas * lacks)
    most = [str(f + 1) for f in np.argsort(-areas)[:3] if areas[f] > 0]
    return f"{100 * (1 - state.share):.1f} % of the area is seen too seldom, most at face {', '.join(most)}"


@dataclass(frozen=True, eq=False)
class Bases:
    """The same ground bare, with equipment, and with equipment whose positions are joined by shape; None where it does not suit."""

    bare: Ground
    tied: Ground | None
    joined: Ground | None
    why_not: str = ""


def compare_ways(
    grounds: Bases, rules: PlacementRules | InputError, goal: float, error: float, progress: Progress | None = None
) -> tuple[WayResult, ...]:
    """All ways on this part, each with the targets that it wants.

    Parameters
    ----------
    rules : PlacementRules or InputError
        Of targets on the part, or why it can carry none.
    error : float
        Maximum permissible error of the scanner over the whole part, mm.
    """
    progress, ground = progress or silent(), grounds.bare
    if ground.model.targets is None:
        raise InputError(f"{ground.model.name} does not use reference targets", "targets", "Choose another instrument")
    found = []
    if grounds.tied is None or grounds.joined is None:
        found += [impossible(way, grounds.why_not) for way in (Way.EQUIPMENT, Way.BOTH)]
    else:
        found.append(way_result(grounds.joined, (), error))
        few = _placed(grounds.tied, rules, goal, progress.part(0, 0.4))
        found.append(few if isinstance(few, WayResult) else way_result(grounds.tied, few, error))
    alone = _placed(ground, rules, goal, progress.part(0.4, 0.8))
    found.append(alone if isinstance(alone, WayResult) else way_result(ground, alone, error))
    faces = tuple(sorted({int(f) + 1 for f in ground.patches.faces}))
    found.append(shape_way(ground, shape_hold(ground.nominal, faces)))
    return tuple(found)


def _placed(
    ground: Ground, rules: PlacementRules | InputError, goal: float, progress: Progress
) -> tuple[Target, ...] | WayResult:
    """Targets, or why there is no place for any."""
    if isinstance(rules, InputError):
        return impossible(way_of(ground), rules.what)
    try:
        return place_targets(ground, rules, goal, (), progress)
    except InputError as problem:
        return impossible(way_of(ground), problem.what)
