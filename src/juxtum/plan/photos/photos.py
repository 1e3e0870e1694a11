"""The photo network of a large part: coded targets, scale bars, photos, and the length error they will give."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from juxtum.errors import InputError
from juxtum.evaluate.quantity import Aim
from juxtum.geometry import RigidTransform
from juxtum.geometry.arrays import Bools, Floats, Ints, frozen, unit
from juxtum.geometry.rays import RayCaster
from juxtum.instruments.models import Camera, InstrumentModel
from juxtum.nominal import Nominal
from juxtum.plan.photos.bars import LaidBar, lay_bars
from juxtum.plan.photos.bundle import Adjusted, BarTie, Lens, Network, Photos, Rays, predict
from juxtum.plan.photos.choosing import Wanted, hanging_together, in_walking_order, surer
from juxtum.plan.photos.spared import Variant, variants_of
from juxtum.plan.photos.walk import LEAST_ANGLE, LEAST_RAYS, largest_angles
from juxtum.plan.targets.places import PlacementRules, candidate_places
from juxtum.plan.targets.views import Spots, Views, seen_from
from juxtum.plan.task import Task
from juxtum.progress import Progress, silent

RAYS_WANTED = 4
"""To every target; what more photos are taken is taken for the lengths."""
ANGLE_WANTED = 55.0
ELEVATIONS = (8.0, 35.0, 65.0)
AZIMUTHS = 12
ROLLED_SHARE = 0.25
MOST_PHOTOS = 120
LEAST_CODES, MOST_CODES = 24, 80
CODE_AREA = 360.0**2
"""About one coded target for so much surface, mm2."""
WHOLE = 1.08
"""So much more than the part's length a photo of all of it shows."""
FLOOR = 850.0
"""The part stands this high above the floor, mm: no camera goes below it."""


@dataclass(frozen=True)
class NetworkWish:
    """What the user chose about the network.

    Parameters
    ----------
    bars : int
        How many of the set's bars are laid out.
    self_calibration : bool
        Whether the camera is solved with the rest.
    photos : int
        At most so many.
    expanded : float
        U of the longest length that is enough, mm (k = 2); 0 for as sure as photos make it.
    """

    bars: int = 2
    self_calibration: bool = True
    photos: int = MOST_PHOTOS
    expanded: float = 0.0


@dataclass(frozen=True, eq=False)
class LengthForecast:
    """Predicted expanded uncertainty of a length, mm."""

    aim: str
    length: float
    expanded: float


@dataclass(frozen=True, eq=False)
class PhotoPlan:
    """The planned network.

    Parameters
    ----------
    points, normals : array (T, 3)
        Targets: first the coded ones on the part, then the part's reference targets, then the ends of the bars.
    codes : int
        How many coded ones there are on the part.
    bars : tuple of LaidBar
    views : Views
        Chosen photos.
    rolled : array (M,)
        Whether a photo is taken with the camera turned by a quarter.
    seen : array (M, T)
    prediction : Adjusted
    forecasts : tuple of LengthForecast
        For each characteristic.
    a, b : float
        The network's own length error: expanded uncertainty at no length and its growth per metre, mm.
    variants : tuple of Variant
    """

    points: Floats
    normals: Floats
    codes: int
    bars: tuple[LaidBar, ...]
    views: Views
    rolled: Bools
    seen: Bools
    prediction: Adjusted
    forecasts: tuple[LengthForecast, ...]
    a: float
    b: float
    variants: tuple[Variant, ...]
    camera: Camera
    wanted: float = 0.0
    """U of the longest length that was to be reached, mm; 0 where none was named."""

    @property
    def holds(self) -> bool:
        """Whether it reaches what was wanted, within a twentieth."""
        return self.wanted == 0 or self.variants[0].expanded <= 1.05 * self.wanted

    @property
    def rays(self) -> Ints:
        """Photos that see each target (T,)."""
        return np.asarray(self.seen.sum(0))

    @property
    def angles(self) -> Floats:
        """Largest angle between the rays to each target (T,), degrees."""
        return largest_angles(self.points, self.views.eyes, self.seen)

    @property
    def minutes(self) -> float:
        """Of taking the photos."""
        return len(self.views) * self.camera.seconds_per_photo / 60


def plan_photos(
    nominal: Nominal, task: Task, model: InstrumentModel, wish: NetworkWish | None = None,
    extra: tuple[Floats, Floats] | None = None, progress: Progress | None = None,
) -> PhotoPlan:  # fmt: skip
    """Design the network and predict what it will give.

    Parameters
    ----------
    extra : (array (N, 3), array (N, 3)), optional
        Places and normals of reference targets that shall be measured too.

    Raises
    ------
    InputError
        When the instrument has no camera or bars, or the part gives the camera nothing to see.
    """
    progress, wish = progress or silent(), wish or NetworkWish()
    task.check(nominal)
    if model.camera is None:
        raise InputError(f"{model.name} has no camera", "photos", "Choose a photo set")
    bars = lay_bars(nominal, model, task.environment, wish.bars)
    caster = RayCaster(nominal.mesh)
    pool = _pool(nominal, model, bars)
    progress.phase("choosing coded targets", 0.1)
    places, normals, codes = _coded(nominal, task, model, pool, caster)
    if extra is not None:
        places, normals = np.concatenate([places, extra[0]]), np.concatenate([normals, extra[1]])
    ends = np.concatenate([bar.ends for bar in bars])
    up = np.broadcast_to([0.0, 0, 1], ends.shape)
    points, facing = np.concatenate([places, ends]), np.concatenate([normals, up])
    progress.phase("looking from all sides", 0.3)
    seen = seen_from(pool, Spots.on_part(points, facing, 1), caster, model.camera.incidence, progress.part(0.3, 0.6))
    seen, usable = _usable(seen, model.camera)
    # Photos that show too few targets are not taken: a code that only they show from the side is not stuck.
    wide = (np.arange(len(points)) >= codes) | (largest_angles(points, pool.eyes, seen) >= LEAST_ANGLE)
    seen, usable = _usable(seen & (usable & wide), model.camera)
    if not usable[-len(ends) :].all():
        raise InputError(
            "a scale bar would be seen in fewer than four photos", "photos", "Lay fewer bars, or choose a wider camera"
        )
    points, facing, seen, codes = points[usable], facing[usable], seen[:, usable], int(usable[:codes].sum())
    progress.phase("choosing photos", 0.6)
    chosen = _choose(points, pool, seen, model.camera, wish.photos)
    progress.phase("seeing which photos make the lengths surer", 0.7)
    chosen = _surer(
        chosen, (pool, seen), points, _pairs(nominal, task, points[: -len(ends)]), (bars, model.camera, wish)
    )
    views, rolled = _some(pool, chosen), (chosen % 2).astype(bool)
    network = network_of(points, views, seen[chosen], bars, model.camera, wish)
    progress.phase("predicting the lengths", 0.8)
    prediction = predict(network)
    forecasts = _forecasts(nominal, task, points[: len(points) - len(ends)], prediction)
    a, b = _law(points[: len(points) - len(ends)], prediction)
    variants = variants_of(network, rolled, len(ends), prediction)
    return PhotoPlan(
        frozen(points), frozen(facing), codes, bars, views, frozen(rolled, bool), frozen(seen[chosen], bool), prediction,
        forecasts, a, b, variants, model.camera, wish.expanded,
    )  # fmt: skip


def _pool(nominal: Nominal, model: InstrumentModel, bars: tuple[LaidBar, ...]) -> Views:
    """Photos that could be taken: about points along the part, from three heights, upright and rolled (odd rows)."""
    assert model.camera is not None
    camera, mode = model.camera, model.modes[0]
    half = np.array(camera.picture) * camera.pixel / 2 / camera.focal
    span = 2 * half[0] * mode.stand_off[1]
    low, high = nominal.mesh.bounds
    axis = int(np.argmax(high - low))
    length = float((high - low)[axis])
    extent = max(nominal.diagonal, float(np.ptp(np.concatenate([bar.ends for bar in bars]), axis=0).max()))
    count = max(1, int(np.ceil(length / (0.45 * span))))
    # All that a photo shows has to lie beyond the nearest distance at which it is sharp.
    nearest = mode.stand_off[0] + 0.6 * extent
    distance = max(1.1 * extent / (2 * half[1]), nearest) if count == 1 else mode.stand_off[1]
    distance = min(float(distance), mode.stand_off[2])
    aims = np.tile(nominal.centre, (count, 1))
    aims[:, axis] = low[axis] + length * (np.arange(count) + 0.5) / count
    directions = []
    for elevation in np.radians(ELEVATIONS):
        for azimuth in np.arange(AZIMUTHS) * 2 * np.pi / AZIMUTHS + elevation:
            directions.append(
                [np.cos(azimuth) * np.cos(elevation), np.sin(azimuth) * np.cos(elevation), np.sin(elevation)]
            )
    towards = np.array(directions)
    eyes = (aims[:, None] + distance * towards[None]).reshape(-1, 3)
    axes = -np.tile(towards, (count, 1))
    if count > 1:
        # Photos that show all of it tie one end to the other.
        whole = min(WHOLE * length / (2 * half[0]), mode.stand_off[2])
        eyes = np.concatenate([eyes, nominal.centre + whole * towards])
        axes = np.concatenate([axes, -towards])
    keep = eyes[:, 2] > low[2] - FLOOR
    eyes, axes = np.repeat(eyes[keep], 2, axis=0), np.repeat(axes[keep], 2, axis=0)
    level = unit(np.cross(axes, [0.0, 0, 1]))
    ups = np.where((np.arange(len(axes)) % 2 == 0)[:, None], np.cross(level, axes), level)
    return Views(
        frozen(eyes), frozen(axes), frozen(ups), frozen(np.zeros(len(eyes)), np.int32), frozen(np.zeros(len(eyes)), np.int8),
        (RigidTransform.identity(),), (float(half[0]), float(half[1])), mode.stand_off,
    )  # fmt: skip


def _surer(
    chosen: Ints,
    shown: tuple[Views, Bools],
    points: Floats,
    pairs: Ints,
    rest: tuple[tuple[LaidBar, ...], Camera, NetworkWish],
) -> Ints:
    """The photos with those that make the lengths surer, in walking order."""
    (pool, seen), (bars, camera, wish) = shown, rest

    def predicted(rows: Ints) -> Adjusted:
        return predict(network_of(points, _some(pool, rows), seen[rows], bars, camera, wish))

    full = seen & (seen.sum(1) >= camera.least_targets)[:, None]
    every = network_of(points, pool, full, bars, camera, wish)
    made, _ = surer(chosen, every, Wanted(pairs, wish.expanded), wish.photos, predicted)
    return hanging_together(in_walking_order(pool, made), seen, camera.least_codes)


def _pairs(nominal: Nominal, task: Task, points: Floats) -> Ints:
    """Targets (K, 2) between which the lengths run: the two that lie farthest apart, then those of the characteristics."""
    i, j = np.triu_indices(len(points), 1)
    far = int(np.argmax(np.linalg.norm(points[i] - points[j], axis=1)))
    pairs = [(int(i[far]), int(j[far])), *(_nearest_two(nominal, task, aim, points) for aim in task.aims)]
    # Every target belongs to some length: none may hang by a thread.
    pairs += [(k, int(np.argmax(np.linalg.norm(points - points[k], axis=1)))) for k in range(len(points))]
    return np.array(list(dict.fromkeys(pairs)))


def _nearest_two(nominal: Nominal, task: Task, aim: Aim, points: Floats) -> tuple[int, int]:
    """The targets nearest to the ends of a characteristic."""
    first, second = task.ends(nominal, aim)
    start = int(np.argmin(np.linalg.norm(points - first, axis=1)))
    return start, int(np.argmin(np.linalg.norm(points - second, axis=1) + 1e9 * (np.arange(len(points)) == start)))


def _some(views: Views, rows: Ints) -> Views:
    return replace(
        views, eyes=frozen(views.eyes[rows]), axes=frozen(views.axes[rows]), ups=frozen(views.ups[rows]),
        patches=frozen(views.patches[rows], np.int32), setups=frozen(views.setups[rows], np.int8),
    )  # fmt: skip


def _coded(
    nominal: Nominal, task: Task, model: InstrumentModel, pool: Views, caster: RayCaster
) -> tuple[Floats, Floats, int]:
    """Coded targets spread over the part, and one near the far end of every characteristic."""
    assert model.targets is not None and model.camera is not None
    clear = tuple(sorted(set(task.own_faces) | set(task.datums)))
    smallest = min(model.targets.diameters)
    places = candidate_places(nominal, PlacementRules(diameter=smallest, spacing=(2 * smallest, 1e6), keep_clear=clear))
    seen = seen_from(pool, Spots.on_part(places.points, places.normals, 1), caster, model.camera.incidence)
    wide = largest_angles(places.points, pool.eyes, seen) >= LEAST_ANGLE
    good = np.flatnonzero((seen.sum(0) >= LEAST_RAYS) & wide)
    if len(good) < 8:
        raise InputError(
            f"only {len(good)} places on the part are seen in {LEAST_RAYS} photos, eight are needed",
            "photos",
            "Choose another camera",
        )
    points, normals = places.points[good], places.normals[good]
    count = int(np.clip(nominal.area / CODE_AREA + 14, LEAST_CODES, MOST_CODES))
    # The normal counts as a direction of its own, so that every side of the part gets its share.
    spread = np.column_stack([points, 0.15 * nominal.diagonal * normals])
    chosen = [int(np.argmin(np.linalg.norm(points - nominal.mesh.bounds[0], axis=1)))]
    gap = np.full(len(points), np.inf)
    for _ in range(min(count, len(points)) - 1):
        gap = np.minimum(gap, np.linalg.norm(spread - spread[chosen[-1]], axis=1))
        chosen.append(int(np.argmax(gap)))
    for aim in task.aims:
        for spot in task.ends(nominal, aim)[::-1]:
            chosen.append(int(np.argmin(np.linalg.norm(points - spot, axis=1))))
    rows = np.array(sorted(set(chosen)))
    return points[rows], normals[rows], len(rows)


def _usable(seen: Bools, camera: Camera) -> tuple[Bools, Bools]:
    """Without photos that show too few targets, and targets that too few of the others show, until both hold."""
    usable = np.ones(seen.shape[1], dtype=bool)
    while True:
        kept = seen & ((seen & usable).sum(1) >= camera.least_targets)[:, None]
        still = usable & (kept.sum(0) >= 4)
        if (still == usable).all():
            return kept, usable
        usable = still


def _choose(points: Floats, pool: Views, seen: Bools, camera: Camera, most: int) -> Ints:
    """Photos chosen greedily: every target wants rays, a wide angle between them, and some photos rolled."""
    enough = seen.sum(1) >= camera.least_targets
    if not enough.any():
        raise InputError(
            f"no photo shows {camera.least_targets} targets", "photos", "Add targets, or choose a wider camera"
        )
    sight = unit(points[None] - pool.eyes[:, None])
    counts, best = np.zeros(len(points)), np.zeros(len(points))
    chosen: list[int] = []
    open_angle = np.zeros((len(pool), len(points)))
    while len(chosen) < most:
        lacks = np.maximum(RAYS_WANTED - counts, 0)
        narrow = best < ANGLE_WANTED
        gain = (seen * (lacks > 0) * (1 + 0.3 * lacks)).sum(1)
        opens = (open_angle > best + 5) | ((best < LEAST_ANGLE) & (open_angle >= LEAST_ANGLE))
        gain += 2.5 * (seen & narrow & opens).sum(1)
        gain[~enough] = 0
        gain[chosen] = 0
        rolled = sum(c % 2 for c in chosen)
        wants_roll = rolled < ROLLED_SHARE * (len(chosen) + 1)
        gain *= np.where((np.arange(len(pool)) % 2 == 1) == wants_roll, 1.25, 1.0)
        row = int(np.argmax(gain))
        if gain[row] < 1:
            break
        if chosen:
            best = np.where(seen[row], np.maximum(best, open_angle[row]), best)
        chosen.append(row)
        counts += seen[row]
        angle = np.degrees(np.arccos(np.clip(np.einsum("ptd,td->pt", sight, sight[row]), -1, 1)))
        open_angle = np.maximum(open_angle, np.where(seen[row], angle, 0))
    return in_walking_order(pool, np.array(chosen))


def network_of(
    points: Floats, views: Views, seen: Bools, bars: tuple[LaidBar, ...], camera: Camera, wish: NetworkWish
) -> Network:
    """The network as the adjustment knows it; bars are the last targets."""
    right = np.cross(views.axes, views.ups)
    rotations = np.stack([right, -views.ups, views.axes], axis=1)
    photos, targets = np.nonzero(seen)
    first = len(points) - 2 * len(bars)
    ties = tuple(BarTie(first + 2 * k, first + 2 * k + 1, bar.length, bar.uncertainty) for k, bar in enumerate(bars))
    rays = Rays(photos, targets, np.zeros((len(photos), 2)), camera.noise * camera.pixel)
    return Network(
        points, Photos(rotations, np.array(views.eyes)), rays, ties, Lens(camera.focal), wish.self_calibration
    )


def _forecasts(nominal: Nominal, task: Task, points: Floats, prediction: Adjusted) -> tuple[LengthForecast, ...]:
    """Expanded uncertainty of each characteristic's length, between the targets nearest to its ends."""
    result = []
    for aim in task.aims:
        first, second = task.ends(nominal, aim)
        start, end = _nearest_two(nominal, task, aim, points)
        result.append(
            LengthForecast(aim.id, float(np.linalg.norm(second - first)), 2 * prediction.length_uncertainty(start, end))
        )
    return tuple(result)


def _law(points: Floats, prediction: Adjusted) -> tuple[float, float]:
    """A straight line over length that no pair's expanded uncertainty exceeds by more than noise: 95 of 100 lie below."""
    i, j = np.triu_indices(len(points), 1)
    step = max(1, len(i) // 3000)
    pairs = list(zip(i[::step], j[::step], strict=True))
    length = np.array([np.linalg.norm(points[a] - points[b]) for a, b in pairs]) / 1000
    spread = np.array([2 * prediction.length_uncertainty(int(a), int(b)) for a, b in pairs])
    b = max(float(np.polyfit(length, spread, 1)[0]), 0.0) if np.ptp(length) > 0 else 0.0
    return float(np.quantile(spread - b * length, 0.95)), b
