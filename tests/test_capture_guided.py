"""What guides a person who captures, and what is read back, without a whole capture."""

from __future__ import annotations

import itertools
from pathlib import Path

import numpy as np
import pytest

from juxtum.align.targets import match_targets
from juxtum.capture.live.dial import Word, read_dial, tone_of, wave_of
from juxtum.capture.live.points import read_points, write_points
from juxtum.capture.ways.photowalk import PhotoWalk, walk_along
from juxtum.demo.bodies import made_body
from juxtum.devices.camera import PhotoCamera, PhotoTargets
from juxtum.devices.link import DirectLink
from juxtum.devices.protocol import Message
from juxtum.errors import JuxtumError
from juxtum.geometry import RigidTransform
from juxtum.geometry.transform import rotation_from_vector
from juxtum.instruments.models import Kind, shipped
from juxtum.job import FileStore
from juxtum.job.planning import task_of
from juxtum.nominal import Nominal
from juxtum.plan.grounds import Grounds
from juxtum.plan.planner import Planner


def test_planned_targets_are_recognised_among_others() -> None:
    rng = np.random.default_rng(8)
    known = rng.uniform(-130, 130, (30, 3))
    pose = RigidTransform.from_parts(rotation_from_vector([1.0, 0.3, -0.7]), [300, 20, -90])
    stuck = known[rng.permutation(30)[:12]] + rng.normal(0, 0.4, (12, 3))
    extra = rng.uniform(-130, 130, (3, 3))
    match = match_targets(pose.apply(np.concatenate([stuck, extra])), known, 2.0)
    assert match is not None and len(match.pairs) == 12 and match.rms < 1.2
    assert np.linalg.norm(match.transform.apply(pose.apply(known)) - known, axis=1).max() < 1.5
    beam = rng.uniform([-1800, -90, 0], [1800, 90, 250], (290, 3))
    found = match_targets(pose.apply(beam[::3]), beam, 2.0)
    assert (
        found is not None and len(found.pairs) == len(beam[::3]) and (found.pairs[:, 1] == 3 * found.pairs[:, 0]).all()
    )
    square = np.array([[0, 0, 0], [80, 0, 0], [80, 80, 0], [0, 80, 0.0]])
    assert match_targets(square, square, 1.0) is None, "a pattern that fits in more than one way is none"


@pytest.mark.parametrize(
    "spoil",
    [
        lambda b: b[:-5],
        lambda b: b[:40],
        lambda b: b.replace(b"element vertex", b"element vortex"),
        lambda b: b"ply\n" * 300,
        lambda b: b + b"x",
    ],
)
def test_a_damaged_patch_is_told(spoil: object, tmp_path: Path) -> None:
    points = Message("frame", {}, bytes(16 * 50)).points()
    path = tmp_path / "patch-1.ply"
    write_points(path, points)
    assert len(read_points(path)) == 50
    path.write_bytes(spoil(path.read_bytes()))  # type: ignore[operator]
    with pytest.raises(JuxtumError, match=r"is not a patch of a capture, or it is damaged\. Discard it"):
        read_points(path)


def test_the_dial_says_one_word_and_the_tone_follows() -> None:
    mode = shipped(Kind.HANDHELD).modes[0]
    near, best, far = mode.stand_off
    assert [read_dial(mode, d).word for d in (near, best, far, float("nan"), None)] == [
        Word.BACK,
        Word.HOLD,
        Word.CLOSER,
        Word.NOTHING,
        Word.NOTHING,
    ]
    tones = [tone_of(read_dial(mode, d)) for d in np.linspace(near, far, 15)]
    assert all(a.frequency > b.frequency for a, b in itertools.pairwise(tones)), "the nearer the higher"
    assert tone_of(read_dial(mode, best)).frequency == 440.0 and tone_of(read_dial(mode, best)).beats == 0
    assert tones[0].beats > 0 and tones[-1].beats > 0 and tone_of(read_dial(mode, None)).loudness == 0
    wave = wave_of(tones[7], 0.2)
    spectrum = np.abs(np.fft.rfft(wave.astype(float)))
    assert (
        np.argmax(spectrum) / 0.2 == pytest.approx(tones[7].frequency, abs=6)
        and abs(int(wave[0])) < 400
        and wave.dtype == np.int16
    )


def test_photo_walk_judges_and_adjusts_to_what_was_predicted(beam: Nominal) -> None:
    from juxtum.demo.beam_job import beam_job

    job = beam_job(FileStore())
    assert job.plan is not None
    planner = Planner(beam, task_of(job), job.plan, Grounds())
    plan, body = planner.photos(), made_body(beam, job.plan)
    first = len(plan.points) - 2 * len(plan.bars)
    pairs = np.random.default_rng(2).choice(first, (80, 2), replace=True)
    pairs = pairs[pairs[:, 0] != pairs[:, 1]]
    predicted = np.array([plan.prediction.length_uncertainty(a, b) for a, b in pairs])
    errors = []
    for seed in range(12):
        targets = PhotoTargets.of(plan, seed)
        walk = PhotoWalk(plan, targets.bars)
        walk_along(walk, DirectLink(PhotoCamera(body, shipped(Kind.PHOTO), targets, seed)))
        adjusted, usable = walk.adjust()
        assert usable.all()
        errors.append([adjusted.length(a, b) - np.linalg.norm(targets.places[a] - targets.places[b]) for a, b in pairs])
    assert np.sqrt(np.mean(np.square(errors / predicted))) == pytest.approx(1.0, abs=0.2)
    assert sum(v.is_enough for v in walk.verdicts) > 0.8 * len(walk.verdicts) and adjusted.rms == pytest.approx(
        1, abs=0.2
    )
    walk.photos = walk.photos[:2]
    with pytest.raises(JuxtumError, match=r"too few to adjust\. Take more photos"):
        walk.adjust()
