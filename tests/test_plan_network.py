"""Bars and photos: the adjustment recovers the truth, its covariance agrees with a simulation, the walk is judged."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from juxtum.demo.beam_job import beam_job
from juxtum.demo.network import LENS
from juxtum.demo.network import trial_network as network
from juxtum.errors import FitError, InputError
from juxtum.evaluate import Environment
from juxtum.instruments.models import Camera, Kind, shipped
from juxtum.job import FileStore
from juxtum.job.planning import task_of
from juxtum.nominal import Nominal
from juxtum.plan.photos._bundle_rows import derivatives
from juxtum.plan.photos.bars import lay_bars
from juxtum.plan.photos.bundle import Lens, Network, Photos, adjust, predict, simulate
from juxtum.plan.photos.choosing import rows_of_photo, with_photo
from juxtum.plan.photos.photos import NetworkWish, PhotoPlan, plan_photos
from juxtum.plan.photos.walk import check_photo, largest_angles, target_table
from juxtum.plan.photos.worth import photo_words
from juxtum.plan.task import whole_part

PHOTO = shipped(Kind.PHOTO)


def test_without_noise_the_truth_comes_back_from_a_bad_start() -> None:
    truth = network(30, 20)
    silent = simulate(replace(truth, rays=replace(truth.rays, noise=1e-12)), np.random.default_rng(0))
    silent = replace(silent, bars=truth.bars, rays=replace(silent.rays, noise=0.00054))
    rng = np.random.default_rng(1)
    start = replace(silent, points=truth.points + rng.normal(0, 3, truth.points.shape), lens=Lens(24.3))
    found = adjust(start)
    pairs = rng.integers(0, 30, (40, 2))
    for a, b in pairs:
        assert found.length(a, b) == pytest.approx(np.linalg.norm(truth.points[a] - truth.points[b]), abs=1e-6)
    assert found.lens.numbers == pytest.approx(LENS.numbers, rel=1e-4, abs=1e-9) and found.rms < 1e-4


@pytest.mark.parametrize(("solved", "bars"), [(True, 2), (False, 0)])
def test_covariance_agrees_with_300_simulated_adjustments(solved: bool, bars: int) -> None:
    truth = network(16, 10, bars=bars, solved=solved)
    told = predict(truth)
    rng = np.random.default_rng(7)
    pairs = [(4, 5), (0, 7), (10, 14), (3, 12), (8, 15), (2, 9)]
    runs = [adjust(simulate(truth, rng), 3) for _ in range(300)]
    # Without bars only the shape is known: lengths are compared against one of them.
    scale = np.array([1.0 if bars else r.length(0, 15) for r in runs])
    lengths = np.array([[r.length(*p) for p in pairs] for r in runs]) / scale[:, None]
    predicted = np.array([told.length_uncertainty(*p) for p in pairs])
    if bars:
        ratio = lengths.std(0) / predicted
        assert np.sqrt(np.mean(ratio**2)) == pytest.approx(1, abs=0.1) and np.abs(ratio - 1).max() < 0.15
    rms = np.array([r.rms for r in runs])
    expected = np.sqrt(told.redundancy / (2 * len(truth.rays.photos)))
    assert rms.mean() == pytest.approx(expected, rel=0.02)


def test_more_photos_and_bars_never_make_a_length_less_certain() -> None:
    full = network(24, 20)
    pair = (6, 20)
    best = predict(full).length_uncertainty(*pair)
    assert predict(replace(full, bars=full.bars[:1])).length_uncertainty(*pair) > best
    assert predict(replace(full, is_self_calibrating=False)).length_uncertainty(*pair) < best
    rows = full.rays.photos < 16
    fewer = replace(
        full.rays, photos=full.rays.photos[rows], targets=full.rays.targets[rows], places=full.rays.places[rows]
    )
    less = replace(full, photos=Photos(full.photos.rotations[:16], full.photos.centres[:16]), rays=fewer)
    assert predict(less).length_uncertainty(*pair) > best


def test_the_free_network_has_the_smallest_trace_and_no_motion_in_it() -> None:
    covariance = predict(network(15, 10)).covariance
    points = network(15, 10).points
    assert np.allclose(covariance, covariance.T) and np.linalg.eigvalsh(covariance).min() > -1e-12
    centred = points - points.mean(0)
    for axis in np.eye(3):
        for motion in (np.tile(axis, 15), np.cross(axis, centred).ravel()):
            assert motion @ covariance @ motion < 1e-9 * (motion @ motion)


def test_networks_that_cannot_be_solved_say_what_is_missing() -> None:
    full = network(12, 8)
    rows = full.rays.targets != 7
    blind = replace(
        full.rays, photos=full.rays.photos[rows], targets=full.rays.targets[rows], places=full.rays.places[rows]
    )
    with pytest.raises(FitError, match="target 8 is seen in 0 photos, two are the least"):
        predict(replace(full, rays=blind))


@pytest.fixture(scope="module")
def plan(beam: Nominal) -> PhotoPlan:
    return plan_photos(beam, task_of(beam_job(FileStore())), PHOTO)


def test_the_beam_gets_a_network_that_holds(plan: PhotoPlan, beam: Nominal) -> None:
    assert plan.rays.min() >= 4 and 0.2 < plan.rolled.mean() < 0.5
    assert (plan.seen.sum(1) >= plan.camera.least_targets).all()
    directions = np.array([b.ends[1] - b.ends[0] for b in plan.bars])
    cosine = abs(directions[0] @ directions[1]) / np.prod(np.linalg.norm(directions, axis=1))
    assert len(plan.bars) == 2 and cosine < np.cos(np.radians(20)), "their directions differ"
    spans = np.ptp(np.concatenate([b.ends for b in plan.bars]), axis=0)
    assert spans[0] > 0.6 * 3600, "together they span the long axis"
    assert plan.rays[-4:].min() >= 4
    titles = {v.title: v.ratio for v in plan.variants}
    assert titles["as planned"] == 1 and all(
        titles[t] > 1.02 for t in ("one bar missing", "no rolled photos", "ten photos fewer")
    )
    assert titles["camera known beforehand"] < 1
    longest = max(plan.forecasts, key=lambda f: f.length)
    assert 0.01 < longest.expanded < 0.15
    weak = [t for t in target_table(plan.points, plan.views.eyes, plan.seen) if not t.is_enough]
    assert len(weak) <= 3


def test_bars_are_corrected_for_temperature(beam: Nominal) -> None:
    cold, hot = (lay_bars(beam, PHOTO, Environment(temperature=t, temperature_u=1.0), 2) for t in (20.0, 35.0))
    bar = PHOTO.bars[0]
    assert cold[0].length == bar.length and hot[0].length == pytest.approx(bar.length * (1 + bar.expansion * 1e-6 * 15))
    heat = bar.length * np.hypot(bar.expansion_u * 1e-6 * 15, bar.expansion * 1e-6)
    assert hot[0].uncertainty == pytest.approx(np.hypot(bar.uncertainty / 2, heat))
    with pytest.raises(InputError, match="has 5 scale bars, 9 are asked for"):
        lay_bars(beam, PHOTO, Environment(), 9)


def test_what_a_further_photo_brings_is_foretold_exactly() -> None:
    """With a known camera the covariance with one photo more is the one that the whole network then has."""
    full = network(18, 16, solved=False)

    def some(count: int) -> Network:
        rows = full.rays.photos < count
        rays = replace(
            full.rays, photos=full.rays.photos[rows], targets=full.rays.targets[rows], places=full.rays.places[rows]
        )
        return replace(full, photos=Photos(full.photos.rotations[:count], full.photos.centres[:count]), rays=rays)

    before, after = predict(some(12)), predict(some(13))
    own = np.flatnonzero(full.rays.photos == 12)
    columns, said = rows_of_photo(full, derivatives(full), own)
    made = replace(before, covariance=with_photo(np.array(before.covariance), columns, said))
    pairs = [(4, 15), (0, 7), (10, 14), (3, 12)]
    for pair in pairs:
        assert made.length_uncertainty(*pair) == pytest.approx(after.length_uncertainty(*pair), rel=1e-6)
        assert after.length_uncertainty(*pair) <= before.length_uncertainty(*pair) * (1 + 1e-12)


def test_photos_stop_when_the_lengths_are_sure_enough(beam: Nominal, nominal: Nominal) -> None:
    task = task_of(beam_job(FileStore()))
    few, many = (plan_photos(beam, task, PHOTO, NetworkWish(expanded=wanted)) for wanted in (0.12, 0.083))
    assert len(few.views) < len(many.views) <= 60 and few.holds and many.holds
    assert few.variants[0].expanded <= 1.05 * 0.12 and many.variants[0].expanded <= 1.05 * 0.083
    assert many.codes <= 60
    hand = shipped(Kind.HANDHELD)
    words = photo_words(many, beam, hand, hand.modes[0])
    assert words.startswith("U 0.0") and "as wanted; with one bar missing 0.0" in words
    hopeless = replace(many, wanted=0.01)
    assert not hopeless.holds and "the network does not reach it" in photo_words(hopeless, beam, hand, hand.modes[0])
    small = plan_photos(nominal, whole_part(-0.2, 0.2), PHOTO, NetworkWish(expanded=0.03))
    assert small.variants[0].expanded <= 0.0315 and max(b.bar.length for b in small.bars) < 500, (
        "bars as long as the part"
    )
    assert photo_words(small, nominal, hand, hand.modes[0]).startswith("not needed: the part fits one field of view")


def test_fewer_photos_are_taken_when_the_user_says_so(nominal: Nominal) -> None:
    wish = NetworkWish(bars=3, self_calibration=False, photos=24)
    some = plan_photos(nominal, whole_part(-0.2, 0.2), PHOTO, wish)
    assert len(some.views) <= 24 and len(some.bars) == 3


def test_each_photo_of_a_walk_is_judged() -> None:
    camera = Camera()
    seen = np.zeros(20, dtype=bool)
    seen[:9] = True
    angles = np.full(20, 30.0)
    first = check_photo(camera, seen, np.zeros((0, 20), dtype=bool), 10, angles)
    assert first.is_enough and first.words == "enough"
    strange = np.zeros((1, 20), dtype=bool)
    strange[0, 8:] = True
    assert check_photo(camera, seen, strange, 10, angles).words == "not enough: only 1 codes shared with earlier photos"
    few = seen & (np.arange(20) < 3)
    words = check_photo(camera, few, strange[:0], 10, np.full(20, 75.0)).words
    assert words == "not enough: 5 targets short, 1 codes short, seen too flat, 75\u00b0"


def test_the_largest_angle_between_rays_is_the_real_one() -> None:
    eyes = np.array([[1000.0, 0, 0], [0, 1000, 0], [700, 700, 0]])
    angles = largest_angles(np.zeros((2, 3)), eyes, np.array([[True, True], [True, False], [True, True]]))
    assert angles == pytest.approx([90, 45])
