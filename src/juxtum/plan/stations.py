"""Tracker stations: the fewest from which the scanner's cage is in sight at every pose that is needed."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from juxtum.errors import InputError
from juxtum.geometry.arrays import Bools, Floats, Ints, frozen, unit
from juxtum.geometry.rays import RayCaster
from juxtum.instruments.models import TrackerNeeds
from juxtum.plan.targets.ground import Ground
from juxtum.progress import Progress, silent

CAGE_BEHIND = 60.0
"""The middle of the cage lies so far behind the scanner's eye, mm."""
RISE = 500.0
"""Trackers stand so much higher than the middle of the part, mm."""
MOST_STATIONS = 12
SECONDS_TO_SOLVE = 4.0
REFERENCE_SPREAD = 300.0


@dataclass(frozen=True)
class Obstacle:
    """A box that blocks the sight, table coordinates: lowest and highest corner, mm."""

    low: tuple[float, float, float]
    high: tuple[float, float, float]


@dataclass(frozen=True, eq=False)
class Station:
    """Where a tracker stands and looks, table coordinates."""

    place: Floats
    axis: Floats
    poses: int
    """Poses it serves."""


@dataclass(frozen=True, eq=False)
class StationPlan:
    """Stations and what they see.

    Parameters
    ----------
    stations : tuple of Station
    seen : array (S, P)
        Which stations see the cage at which poses.
    share : float
        Of all poses that some station serves.
    references : array (N, 3)
        Reference targets that tie the stations together, table coordinates.
    ties : tuple of (int, int, int)
        Pairs of stations with the number of reference targets they share.
    shadows : array (K,)
        Patches that no served pose sees.
    nearest, farthest : float
        Range of the poses served, mm.
    worst_error, usual_error : float
        Maximum permissible error at the farthest range and at the mean range, mm.
    is_proven : bool
        Whether it is proven that fewer stations cannot do.
    """

    stations: tuple[Station, ...]
    seen: Bools
    share: float
    references: Floats
    ties: tuple[tuple[int, int, int], ...]
    shadows: Bools
    nearest: float
    farthest: float
    worst_error: float
    usual_error: float
    is_proven: bool


def plan_stations(
    ground: Ground, obstacles: tuple[Obstacle, ...] = (), goal: float = 0.99, progress: Progress | None = None
) -> StationPlan:
    """Set cover over candidate places round the part.

    Parameters
    ----------
    goal : float
        Share of the poses that can be served at all.

    Raises
    ------
    InputError
        When the instrument has no tracker, or no place serves any pose.
    """
    progress = progress or silent()
    tracker = ground.model.tracker
    if tracker is None:
        raise InputError(f"{ground.model.name} is not followed by a tracker", "stations", "Choose a tracked instrument")
    progress.phase("placing trackers", 0.0)
    places, axes = _candidates(ground, tracker)
    seen = _sight(ground, tracker, places, axes, obstacles, progress.part(0.05, 0.6))
    if not seen.any():
        raise InputError(
            "no place round the part lets a tracker see the scanner",
            "stations",
            "Move obstacles away, or choose a tracker with another range",
        )
    progress.phase("choosing the fewest stations", 0.6)
    rows, proven = _fewest(seen, goal)
    progress.phase("tying the stations together", 0.85)
    references, ties = _tied(ground, tracker, places[rows], axes[rows], obstacles)
    served = seen[rows].any(0)
    cages = cage_places(ground)
    ranges = np.where(seen[rows], np.linalg.norm(cages[None] - places[rows][:, None], axis=2), np.inf).min(0)[served]
    stations = tuple(Station(frozen(places[r]), frozen(axes[r]), int(seen[r].sum())) for r in rows)
    shadows = ~ground.covers[served].any(0)
    worst, usual = (float(tracker.a + tracker.b * d / 1000) for d in (ranges.max(), ranges.mean()))
    return StationPlan(
        stations, frozen(seen[rows], bool), float(served.mean()), frozen(references), ties, frozen(shadows, bool),
        float(ranges.min()), float(ranges.max()), worst, usual, proven,
    )  # fmt: skip


def cage_places(ground: Ground) -> Floats:
    """Middle of the cage at each pose (P, 3), table coordinates."""
    views = ground.views
    cages = views.eyes - views.axes * CAGE_BEHIND
    result = np.empty_like(cages)
    for setup, turned in enumerate(views.turned):
        rows = views.setups == setup
        result[rows] = turned.apply(cages[rows])
    return result


def _candidates(ground: Ground, tracker: TrackerNeeds) -> tuple[Floats, Floats]:
    """Places on rings and rows round the part, at the tracker's height, looking at the part."""
    box = ground.views.turned[0].apply(ground.nominal.mesh.bounds)
    low, high = box.min(0), box.max(0)
    centre = (low + high) / 2
    axis = int(np.argmax((high - low)[:2]))
    reach = (high - low)[axis] / 2
    along = np.unique(np.round(np.linspace(-reach, reach, max(1, int(2 * reach / 700) + 1)), 1))
    places, aims = [], []
    near, far = tracker.nearest, tracker.farthest
    for distance in (near + 0.25 * (far - near), near + 0.5 * (far - near), near + 0.72 * (far - near)):
        for shift in along:
            for angle in np.radians(np.arange(0, 360, 30)):
                direction = np.array([np.cos(angle), np.sin(angle), 0.0])
                aim = centre.copy()
                aim[axis] += shift
                places.append(aim + direction * distance + [0, 0, RISE])
                aims.append(aim)
    points, looks = np.array(places), unit(np.array(aims) - np.array(places))
    outside = (np.maximum(np.maximum(low - points, points - high), 0)[:, :2] ** 2).sum(1) > 400.0**2
    return points[outside], looks[outside]


def _sight(
    ground: Ground,
    tracker: TrackerNeeds,
    places: Floats,
    axes: Floats,
    obstacles: tuple[Obstacle, ...],
    progress: Progress,
) -> Bools:
    """Which trackers (S, P) see the cage at which poses."""
    cages = cage_places(ground)
    views = ground.views
    backs = np.empty_like(views.axes)
    for setup, turned in enumerate(views.turned):
        rows = views.setups == setup
        backs[rows] = turned.turn(-views.axes[rows])
    seen = np.zeros((len(places), len(cages)), dtype=bool)
    for k, (place, axis) in enumerate(zip(places, axes, strict=True)):
        if k % 20 == 0:
            progress.phase("looking from tracker places", k / len(places))
            progress.check()
        inside = in_volume(tracker, place, axis, cages)
        towards = unit(place - cages)
        inside &= np.einsum("pd,pd->p", towards, backs) > np.cos(np.radians(tracker.facing))
        rows = np.flatnonzero(inside)
        inside[rows] = _clear(ground, place, cages[rows], views.setups[rows], obstacles)
        seen[k] = inside
    return seen


def in_volume(tracker: TrackerNeeds, place: Floats, axis: Floats, points: Floats) -> Bools:
    """Points (N,) inside the truncated pyramid of a tracker."""
    right = unit(np.cross(axis, [0.0, 0, 1]))
    up = np.cross(right, axis)
    sight = points - place
    depth = sight @ axis
    wide = np.degrees(np.arctan2(np.abs(sight @ right), np.maximum(depth, 1e-9)))
    high = np.degrees(np.arctan2(np.abs(sight @ up), np.maximum(depth, 1e-9)))
    distance = np.linalg.norm(sight, axis=1)
    inside = (distance > tracker.nearest) & (distance < tracker.farthest) & (depth > 0)
    return np.asarray(inside & (wide < tracker.across / 2) & (high < tracker.upright / 2))


def _clear(ground: Ground, place: Floats, points: Floats, setups: Ints, obstacles: tuple[Obstacle, ...]) -> Bools:
    """Where nothing stands between a tracker and points (N, 3), part and obstacles alike."""
    clear = np.ones(len(points), dtype=bool)
    for setup, turned in enumerate(ground.views.turned):
        rows = np.flatnonzero(setups == setup)
        back = turned.inverse
        starts, end = back.apply(points[rows]), back.apply(place[None])[0]
        clear[rows] = ~blocked_between(ground.caster, starts, end)
    for obstacle in obstacles:
        clear &= ~_through_box(points, place, obstacle)
    return clear


def blocked_between(caster: RayCaster, starts: Floats, end: Floats) -> Bools:
    """Where the mesh lies between points (N, 3) and one end."""
    way = end - starts
    reach = np.linalg.norm(way, axis=1)
    return caster.blocked(starts, way / np.maximum(reach, 1e-9)[:, None], reach)


def _through_box(starts: Floats, end: Floats, box: Obstacle) -> Bools:
    """Where the way from points (N, 3) to an end passes a box (slab test)."""
    way = end - starts
    safe = np.where(np.abs(way) < 1e-12, 1e-12, way)
    first, second = (np.array(box.low) - starts) / safe, (np.array(box.high) - starts) / safe
    enter, leave = np.minimum(first, second).max(1), np.maximum(first, second).min(1)
    return np.asarray((enter < leave) & (leave > 0) & (enter < 1))


def _fewest(seen: Bools, goal: float) -> tuple[Ints, bool]:
    """Rows of the fewest stations that serve the wanted share, and whether fewer is proven impossible."""
    reachable = seen.any(0)
    needed = int(np.ceil(goal * reachable.sum()))
    greedy = _greedy(seen, needed)
    if len(greedy) == 1:
        return greedy, True
    columns, weights = np.unique(seen[:, reachable].T, axis=0, return_counts=True)
    n, m = len(seen), len(columns)
    # Imported when it is asked for: a fifth of a second that a window need not wait for.
    from scipy.optimize import Bounds, LinearConstraint, milp
    from scipy.sparse import csr_matrix, hstack, identity

    covered = hstack([csr_matrix(columns.astype(float)), -identity(m)]).tocsr()
    enough = csr_matrix(np.concatenate([np.zeros(n), weights])[None])
    answer = milp(
        np.concatenate([np.ones(n), np.zeros(m)]),
        constraints=[LinearConstraint(covered, 0, np.inf), LinearConstraint(enough, needed, np.inf)],
        integrality=np.concatenate([np.ones(n), np.zeros(m)]),
        bounds=Bounds(0, 1),
        options={"time_limit": SECONDS_TO_SOLVE},
    )
    if answer.x is None:
        return greedy, False
    rows = np.flatnonzero(answer.x[:n] > 0.5)
    proven = answer.status == 0 or answer.mip_dual_bound > len(greedy) - 1 + 1e-6
    return (rows if len(rows) < len(greedy) else greedy), bool(proven)


def _greedy(seen: Bools, needed: int) -> Ints:
    rows: list[int] = []
    served = np.zeros(seen.shape[1], dtype=bool)
    while served.sum() < needed and len(rows) < MOST_STATIONS:
        gains = (seen & ~served).sum(1)
        best = int(np.argmax(gains))
        if gains[best] == 0:
            break
        rows.append(best)
        served |= seen[best]
    return np.array(rows)


def _tied(
    ground: Ground, tracker: TrackerNeeds, places: Floats, axes: Floats, obstacles: tuple[Obstacle, ...]
) -> tuple[Floats, tuple[tuple[int, int, int], ...]]:
    """Reference targets on stands round the part, so that neighbouring stations share enough of them."""
    if len(places) < 2:
        return np.empty((0, 3)), ()
    spots = _reference_spots(ground)
    setups = np.zeros(len(spots), dtype=np.int8)
    seen = np.array(
        [
            in_volume(tracker, p, a, spots) & _clear(ground, p, spots, setups, obstacles)
            for p, a in zip(places, axes, strict=True)
        ]
    )
    pairs = _spanning_pairs(seen)
    chosen: list[int] = []
    while True:
        shared = [seen[a][chosen].astype(int) @ seen[b][chosen].astype(int) if chosen else 0 for a, b in pairs]
        open_pairs = [p for p, n in zip(pairs, shared, strict=True) if n < tracker.shared]
        gains = np.sum([seen[a] & seen[b] for a, b in open_pairs], axis=0) if open_pairs else np.zeros(len(spots))
        if chosen:
            apart = np.linalg.norm(spots[:, None] - spots[chosen][None], axis=2).min(1)
            gains = np.where(apart > REFERENCE_SPREAD, gains * (1 + 1e-4 * np.minimum(apart, 2000)), 0)
        if not np.any(gains > 0):
            return spots[chosen], tuple((a + 1, b + 1, int(n)) for (a, b), n in zip(pairs, shared, strict=True))
        chosen.append(int(np.argmax(gains)))


def _reference_spots(ground: Ground) -> Floats:
    """Places for reference targets on stands, at two heights round the part."""
    box = ground.views.turned[0].apply(ground.nominal.mesh.bounds)
    low, high = box.min(0), box.max(0)
    spots = []
    for away, height in ((250.0, 0.2), (500.0, 0.9), (350.0, 1.6)):
        xs = np.linspace(low[0] - away, high[0] + away, max(3, int((high[0] - low[0] + 2 * away) / 350)))
        ys = np.linspace(low[1] - away, high[1] + away, max(3, int((high[1] - low[1] + 2 * away) / 350)))
        z = low[2] + height * (high[2] - low[2])
        spots += [(x, y, z) for x in xs for y in (ys[0], ys[-1])] + [
            (x, y, z) for y in ys[1:-1] for x in (xs[0], xs[-1])
        ]
    return np.array(spots)


def _spanning_pairs(seen: Bools) -> list[tuple[int, int]]:
    """Pairs of stations that hang all of them together, those first that can share most."""
    common = seen.astype(int) @ seen.T.astype(int)
    inside, pairs = {0}, []
    while len(inside) < len(seen):
        _, a, b = max((common[a, b], a, b) for a in inside for b in range(len(seen)) if b not in inside)
        pairs.append((a, b))
        inside.add(b)
    return pairs
