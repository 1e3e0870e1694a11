"""Tracker stations: the fewest from which the scanner's cage is in sight at every pose that is needed."""

from __future__ import annotations

from dataclasses import dataclass, replace
from itertools import product

import numpy as np

from juxtum.errors import InputError
from juxtum.geometry.arrays import Bools, Floats, Ints, frozen, unit
from juxtum.geometry.rays import RayCaster
from juxtum.instruments.models import TrackerNeeds
from juxtum.plan.covering import fewest_rows
from juxtum.plan.part_turns import PartTurns, Ring, turns_before_one
from juxtum.plan.targets.ground import Ground
from juxtum.progress import Progress, silent

CAGE_BEHIND = 60.0
"""The middle of the cage lies so far behind the scanner's eye, mm."""
RISES = (500.0, 0.0, -350.0)
"""Trackers stand so much higher than the middle of the part, mm: most often above it, else level with it or lower."""
FLOOR = -650.0
"""A tracker on its lowest stand, under the top of the table, mm."""
TABLE = (150.0, 40.0)
"""So far a table reaches beyond the part, and so thick it is, mm: low places look past it."""
STEP = 30.0
"""Degrees between two candidate places round the part."""
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
    turns: PartTurns | None = None
    """The part turned before one position instead; none where no one position serves as many poses."""


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
    places, axes, rings = _candidates(ground, tracker)
    free = _sight(ground, tracker, places, axes, (_table(ground),), progress.part(0.05, 0.6))
    seen = free & _past(ground, places, obstacles) if obstacles else free
    if not seen.any():
        raise InputError(
            "no place round the part lets a tracker see the scanner",
            "stations",
            "Move obstacles away, or choose a tracker with another range",
        )
    progress.phase("choosing the fewest stations", 0.6)
    needed = int(np.ceil(goal * seen.any(0).sum()))
    rows, proven = fewest_rows(seen, needed)
    turns = turns_before_one(free, _unhindered(ground, rings, places, obstacles), (places, axes), needed)
    progress.phase("tying the stations together", 0.85)
    references, ties = _tied(ground, tracker, places[rows], axes[rows], obstacles)
    made = _chosen(ground, tracker, (places[rows], axes[rows]), seen[rows])
    return replace(made, references=frozen(references), ties=ties, is_proven=proven, turns=turns)


def _chosen(ground: Ground, tracker: TrackerNeeds, stands: tuple[Floats, Floats], seen: Bools) -> StationPlan:
    """Stations at some places (S, 3) that look along axes (S, 3), and what they see (S, P); not tied to each other yet."""
    served, cages = seen.any(0), cage_places(ground)
    ranges = np.where(seen, np.linalg.norm(cages[None] - stands[0][:, None], axis=2), np.inf).min(0)[served]
    stations = tuple(Station(frozen(p), frozen(a), int(row.sum())) for p, a, row in zip(*stands, seen, strict=True))
    worst, usual = (float(tracker.a + tracker.b * d / 1000) for d in (ranges.max(), ranges.mean()))
    return StationPlan(
        stations, frozen(seen, bool), float(served.mean()), np.empty((0, 3)), (), frozen(~ground.covers[served].any(0), bool),
        float(ranges.min()), float(ranges.max()), worst, usual, False,
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


def _box(ground: Ground) -> tuple[Floats, Floats]:
    """Lowest and highest corner of the part as it stands, table coordinates."""
    box = ground.views.turned[0].apply(ground.nominal.mesh.bounds)
    return box.min(0), box.max(0)


def _table(ground: Ground) -> Obstacle:
    low, high = _box(ground)
    reach, thick = TABLE
    return Obstacle((low[0] - reach, low[1] - reach, -thick), (high[0] + reach, high[1] + reach, -1.0))


def _candidates(ground: Ground, tracker: TrackerNeeds) -> tuple[Floats, Floats, list[Ring]]:
    """Places on rings and rows round the part, looking at the part; and the rings about its middle among them."""
    low, high = _box(ground)
    centre = (low + high) / 2
    axis = int(np.argmax((high - low)[:2]))
    reach = (high - low)[axis] / 2
    along = np.unique(np.round(np.linspace(-reach, reach, max(1, int(2 * reach / 700) + 1)), 1))
    near, far = tracker.nearest, tracker.farthest
    turns = np.radians(np.arange(0, 360, STEP))
    ways = np.column_stack([np.cos(turns), np.sin(turns), np.zeros(len(turns))])
    places: list[Floats] = []
    aims: list[Floats] = []
    owners: list[Ints] = []
    # Where it usually stands it may stand at any of three distances; higher or lower places are looked at in the middle one.
    for rise, shares in zip(RISES, ((0.25, 0.5, 0.72), (0.5,), (0.5,)), strict=True):
        # More of them than that, and no time is enough for the proof that fewer stations cannot do.
        for share, shift in product(shares, along if rise == RISES[0] else along[[len(along) // 2]]):
            aim = centre + shift * np.eye(3)[axis]
            places.append(aim + ways * (near + share * (far - near)) + [0, 0, rise])
            aims.append(np.tile(aim, (len(ways), 1)))
            owners.append(np.full(len(ways), len(owners) if abs(shift) < 1 or len(along) == 1 else -1))
    points, owner = np.concatenate(places), np.concatenate(owners)
    looks = unit(np.concatenate(aims) - points)
    outside = (np.maximum(np.maximum(low - points, points - high), 0)[:, :2] ** 2).sum(1) > 400.0**2
    kept = np.flatnonzero(outside & (points[:, 2] > FLOOR))
    rings = [
        Ring(rows, STEP)
        for k in np.unique(owner[owner >= 0])
        if len(rows := np.flatnonzero(owner[kept] == k)) == len(ways)
    ]
    return points[kept], looks[kept], rings


def _past(ground: Ground, places: Floats, obstacles: tuple[Obstacle, ...]) -> Bools:
    """Which places (S, P) look past obstacles at which cages."""
    cages = cage_places(ground)
    clear = np.ones((len(places), len(cages)), dtype=bool)
    for row, place in zip(clear, places, strict=True):
        for obstacle in obstacles:
            row &= ~_through_box(cages, place, obstacle)
    return clear


def _unhindered(ground: Ground, rings: list[Ring], places: Floats, obstacles: tuple[Obstacle, ...]) -> list[Ring]:
    """Rings with a place that looks past all obstacles at the part; such a place comes first."""
    if not obstacles:
        return rings
    clear = _past(ground, places, obstacles).mean(1) > 0.95
    return [
        Ring(np.roll(ring.rows, -int(np.argmax(clear[ring.rows]))), ring.step)
        for ring in rings
        if clear[ring.rows].any()
    ]


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
