"""Planning: time of target plans, rescoring, rays, targets against chance, the adjustment of photos."""

from __future__ import annotations

import time
from collections.abc import Iterator
from dataclasses import replace

import numpy as np

from juxtum.demo.beam_job import beam_job
from juxtum.demo.job import demo_job
from juxtum.demo.network import trial_network
from juxtum.demo.world import nominal_path
from juxtum.exchange.cad import read_cad
from juxtum.geometry.rays import RayCaster
from juxtum.job import FileStore
from juxtum.job.planning import task_of
from juxtum.nominal import Nominal
from juxtum.plan.grounds import Grounds
from juxtum.plan.photos.bundle import adjust, predict, simulate
from juxtum.plan.planner import Planner
from juxtum.plan.targets.assess import assess
from juxtum.plan.targets.ground import Ground
from juxtum.plan.targets.placer import Placer, grow_well
from juxtum.plan.targets.places import PlacementRules
from juxtum.plan.targets.targets import snapped
from juxtum.plan.targets.tracking import track
from juxtum.progress import silent

GOALS = (0.5, 0.7, 0.85)
SEEDS = range(8)


def planners() -> list[tuple[str, Planner]]:
    """Both demo parts as their jobs plan them."""
    files = FileStore()
    made = []
    for name, job in (("BC-220", demo_job(files, with_scan=False)), ("HB-36", beam_job(files))):
        nominal = Nominal.from_shape(read_cad(nominal_path(name)).shape)
        assert job.plan is not None
        made.append((name, Planner(nominal, task_of(job), job.plan, Grounds())))
    return made


def plan() -> Iterator[str]:
    """Target plans of both demo parts from nothing, and an edit scored."""
    for name, planner in planners():
        start = time.perf_counter()
        made = planner.planned()
        seconds = time.perf_counter() - start
        ground, rules = planner.ground(), planner.rules()
        targets = list(made.placed)
        score = assess(ground, rules, tuple(targets))
        times = []
        for k in range(0, len(targets), max(1, len(targets) // 20)):
            moved = [*targets]
            moved[k] = snapped(ground, moved[k].place + np.array([4.0, 3.0, 0.0]), rules)
            begun = time.perf_counter()
            assess(ground, rules, tuple(moved))
            times.append(time.perf_counter() - begun)
        yield f"{name}: planned in {seconds:.1f} s, {len(targets)} targets, {100 * score.share:.1f} % of the area seen well while tracking"
        yield f"{name}: an edit is scored in {1000 * np.median(times):.0f} ms, most {1000 * max(times):.0f} ms of {len(times)}"


def chance() -> Iterator[str]:
    """Planned targets against blue-noise random ones under the same rules."""
    for name, planner in planners():
        ground, rules = planner.ground(), planner.rules()
        possible = _possible(ground, rules)
        for goal in GOALS:
            placer = Placer(ground, ground.choice(rules)[1], rules)
            grow_well(placer, goal, silent())
            reached = placer.state().share
            others = [_random(ground, rules, seed, goal=min(goal, reached)) for seed in SEEDS]
            counts = [len(o.chosen) if o.state().share >= min(goal, reached) else None for o in others]
            done = [c for c in counts if c is not None]
            equal = [_random(ground, rules, seed, count=len(placer.chosen)) for seed in SEEDS]
            ours, theirs = _weakest(placer, possible), float(np.median([_weakest(o, possible) for o in equal]))
            ratio = f"{len(placer.chosen) / np.median(done):.2f}" if done else "-"
            missed = f"{len(SEEDS) - len(done)} of {len(SEEDS)} never get there"
            yield f"{name} at {100 * reached:.0f} % of the area seen well: {len(placer.chosen)} targets, by chance {_median(done)} ({missed}), ratio {ratio}"
            yield f"{name}, worst tenth of the poses at equal number: {ours:.2f} well-placed targets in view, by chance {theirs:.2f}"


def _median(counts: list[int]) -> str:
    return f"{np.median(counts):.0f}" if counts else "-"


def _possible(ground: Ground, rules: PlacementRules) -> np.ndarray:  # type: ignore[type-arg]
    """Poses that could track if every candidate carried a target."""
    _, choice = ground.choice(rules)
    return np.asarray(track(ground.moments(choice.seen, choice.spots), ground.needs).holds)


def _weakest(placer: Placer, possible: np.ndarray) -> float:  # type: ignore[type-arg]
    """Mean of well-placed targets over the worst tenth of the poses that could track."""
    counts = np.sort(placer.tracking().well_placed[possible])
    return float(counts[: max(len(counts) // 10, 1)].mean())


def _random(ground: Ground, rules: PlacementRules, seed: int, goal: float = 2.0, count: int = 400) -> Placer:
    """Targets in random order, each as far from the others as the rules ask, until the goal or the number is reached."""
    _, choice = ground.choice(rules)
    placer = Placer(ground, choice, rules)
    for row in np.random.default_rng(seed).permutation(len(choice.points)):
        if len(placer.chosen) >= count or placer.state().share >= goal:
            break
        if not placer.is_crowded(int(row)):
            placer.take(int(row))
    return placer


def rays() -> Iterator[str]:
    """Lines of sight a second against both demo parts."""
    rng = np.random.default_rng(0)
    for name, planner in planners():
        mesh = planner.nominal.mesh
        caster = RayCaster(mesh)
        low, high = mesh.bounds
        starts, ends = (rng.uniform(low - 200, high + 200, (1_000_000, 3)) for _ in range(2))
        way = ends - starts
        reach = np.linalg.norm(way, axis=1)
        begun = time.perf_counter()
        blocked = caster.blocked(starts, way / reach[:, None], reach)
        seconds = time.perf_counter() - begun
        yield f"{name}: {1 / seconds:.2f} M rays/s, {100 * blocked.mean():.0f} % blocked"


def bundle() -> Iterator[str]:
    """150 targets and 120 photos: adjusted with covariance."""
    network = trial_network(150, 120)
    rng = np.random.default_rng(1)
    noisy = simulate(network, rng)
    noisy = replace(noisy, points=noisy.points + rng.normal(0, 1, noisy.points.shape))
    begun = time.perf_counter()
    found = adjust(noisy)
    seconds = time.perf_counter() - begun
    yield f"150 targets, 120 photos, {len(network.rays.photos)} rays: {seconds:.2f} s in {found.steps} steps, RMS {found.rms:.3f}"
    small = trial_network(22, 14)
    told = predict(small)
    pairs = [(4, 5), (0, 7), (10, 20), (3, 21), (8, 15), (2, 19)]
    runs = [adjust(simulate(small, rng), 3) for _ in range(300)]
    ratios = [np.std([r.length(*p) for r in runs]) / told.length_uncertainty(*p) for p in pairs]
    yield f"spread of 300 simulated adjustments over the predicted one, {len(pairs)} lengths: {min(ratios):.3f} to {max(ratios):.3f}"
