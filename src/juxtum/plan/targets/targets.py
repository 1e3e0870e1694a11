"""Reference targets: where they go, so that every place is seen by views that hang together, with as few as will do."""

from __future__ import annotations

import weakref
from dataclasses import dataclass, replace

import numpy as np

from juxtum.errors import InputError
from juxtum.geometry.arrays import Floats
from juxtum.plan.targets.ground import Ground
from juxtum.plan.targets.linking import sighted
from juxtum.plan.targets.placer import Placer, grow_well
from juxtum.plan.targets.places import PlacementRules, Places
from juxtum.progress import Progress, silent

USELESS = 0.01
"""Targets that show less of the area than this are not worth sticking."""


@dataclass(frozen=True, eq=False)
class Target:
    """A reference target on the part.

    Parameters
    ----------
    place, normal : array (3,)
    face : int
        Number of the face; 0 on the table.
    edge : float
        Distance to the nearest edge, mm.
    is_locked : bool
        Whether improving must leave it alone.
    """

    place: Floats
    normal: Floats
    face: int
    edge: float
    is_locked: bool = False


_PLANNED: weakref.WeakKeyDictionary[Ground, dict[tuple[PlacementRules, float], tuple[Target, ...]]] = (
    weakref.WeakKeyDictionary()
)
"""Targets that were planned before: a plan and the ways that are compared with it ask for the same."""


def place_targets(
    ground: Ground,
    rules: PlacementRules,
    goal: float = 0.98,
    locked: tuple[Target, ...] = (),
    progress: Progress | None = None,
) -> tuple[Target, ...]:
    """Targets on the part: greedy by gain, improved by exchange, without the superfluous.

    Parameters
    ----------
    goal : float
        Share of poses that should track.
    locked : tuple of Target
        Targets that stay where they are.

    Raises
    ------
    InputError
        Where targets on the part are of no use, saying why.
    """
    progress = progress or silent()
    known = _PLANNED.setdefault(ground, {})
    if not locked and (rules, goal) in known:
        return known[rules, goal]
    places, choice = ground.choice(rules, progress.part(0, 0.3))
    placer = Placer(ground, choice, rules, sighted(ground, *arrays(locked)))
    grow_well(placer, goal, progress.part(0.3, 1))
    if not locked and placer.state().share < USELESS:
        raise _no_use(placer)
    made = sticking_order((*locked, *made_targets(places, placer.chosen)))
    if not locked:
        known[rules, goal] = made
    return made


def _no_use(placer: Placer) -> InputError:
    """Why targets on this part show next to nothing."""
    least = placer.ground.needs.least
    most = placer.most_at_once()
    if most < least:
        what = f"targets on this part show nothing: at most {most} that keep the rules are in view at once, {least} are needed"
    else:
        what = "targets on this part show nothing: too few of them are in view at once, and too near each other, to hold a pose"
    return InputError(
        what, "targets", "Put the part on a plate with targets of its own, allow faces, or let them be nearer"
    )


def improve_targets(
    ground: Ground,
    rules: PlacementRules,
    targets: tuple[Target, ...],
    goal: float = 0.98,
    progress: Progress | None = None,
) -> tuple[Target, ...]:
    """What was placed, made better: locked targets stay, the others begin at the nearest good place and move on from there."""
    progress = progress or silent()
    places, choice = ground.choice(rules, progress.part(0, 0.3))
    locked = tuple(t for t in targets if t.is_locked)
    placer = Placer(ground, choice, rules, sighted(ground, *arrays(locked)))
    for target in targets:
        if not target.is_locked:
            placer.take_nearest(target.place)
    placer.exchange(progress=progress.part(0.3, 0.6))
    grow_well(placer, goal, progress.part(0.6, 1))
    return sticking_order((*locked, *made_targets(places, placer.chosen)))


def made_targets(places: Places, rows: list[int]) -> tuple[Target, ...]:
    """Targets at some of the candidate places."""
    return tuple(
        Target(places.points[c], places.normals[c], int(places.faces[c]), float(places.edges[c])) for c in rows
    )


def arrays(targets: tuple[Target, ...]) -> tuple[Floats, Floats]:
    """Places and normals (T, 3)."""
    return np.array([t.place for t in targets]).reshape(-1, 3), np.array([t.normal for t in targets]).reshape(-1, 3)


def sticking_order(targets: tuple[Target, ...]) -> tuple[Target, ...]:
    """In the order in which to stick them: from one end, always to the nearest one not yet stuck."""
    if len(targets) < 3:
        return targets
    points = np.array([t.place for t in targets])
    spans = np.ptp(points, axis=0)
    left = list(range(len(targets)))
    now = int(np.argmin(points[:, int(np.argmax(spans))]))
    order = []
    while True:
        order.append(now)
        left.remove(now)
        if not left:
            return tuple(targets[k] for k in order)
        # A change of the side of the part costs a walk.
        turn = 1 - np.array([float(targets[k].normal @ targets[now].normal) for k in left])
        now = left[int(np.argmin(np.linalg.norm(points[left] - points[now], axis=1) + 40 * turn))]


def snapped(ground: Ground, place: Floats, rules: PlacementRules) -> Target:
    """A target at the surface point nearest to a place."""
    nominal = ground.nominal
    found = nominal.projector.project(np.asarray(place, dtype=np.float64)[None], limit=50.0)
    if not bool(found.found[0]):
        raise InputError("this place is more than 50 mm from the part", "targets", "Choose a place on the part")
    foot = np.array(found.feet[0])
    edge = float(nominal.edge_distances(foot[None], 25 * rules.diameter)[0])
    return Target(foot, np.array(found.normals[0]), int(found.faces[0]) + 1, edge)


def with_lock(target: Target, *, locked: bool) -> Target:
    """The target locked or free."""
    return replace(target, is_locked=locked)
