"""How right: injected errors, pure motion, poses from anywhere."""

from __future__ import annotations

import os
import sys
import time
from collections.abc import Iterator

import numpy as np
from scipy.spatial.transform import Rotation

from juxtum.align import best_fit, rough_align
from juxtum.align.datums import DatumFeature, datum_points
from juxtum.associate import without_outliers
from juxtum.demo.job import CIRCUMSTANCES, FACES
from juxtum.demo.truth import truth
from juxtum.demo.world import nominal_path, scan_path
from juxtum.evaluate import measure_deviation
from juxtum.geometry import Cylinder, PointCloud, RigidTransform
from juxtum.job import FileStore, Job, Runner, inputs_of
from juxtum.job.document import default_procedure

POSES = int(os.environ.get("JUXTUM_POSES", "200"))


def demo() -> tuple[Runner, Job]:
    """The demo with the default procedure."""
    files = FileStore()
    job = Job(
        inputs=inputs_of(files.adopt(nominal_path()), files.adopt(scan_path())),
        procedure=default_procedure(),
        circumstances=CIRCUMSTANCES,
    )
    return Runner(files), job


def truth_table() -> Iterator[str]:
    """Each injected error beside what was found."""
    runner, job = demo()
    known, nominal, scan = truth(), runner.nominal(job), runner.cleaned(job)
    pose = runner.alignment(job, "best fit").transform
    error = pose @ known.pose
    shift = float(np.linalg.norm(error.apply(nominal.centre[None])[0] - nominal.centre))
    yield f"pose against the simulated one: {shift:.4f} mm at the part's centre, {error.angle:.5f} degrees"
    deviation = runner.deviation(job, "best fit")

    def mean(name: str) -> float:
        rows = (deviation.faces == FACES[name] - 1) & deviation.clear
        return float(np.average(deviation.distances[rows], weights=deviation.weights[rows]))

    def wall(name: str) -> Cylinder:
        points = pose.apply(datum_points(scan, nominal, pose, DatumFeature("A", (FACES[name],))))
        start = nominal.face(FACES[name]).feature
        assert isinstance(start, Cylinder)
        return without_outliers(start, points).feature

    yield f"bore: +{known.errors.bore_diameter} on diameter; found {2 * wall('bore').radius - 72:+.4f}"
    yield f"boss 2: -{known.errors.boss_shortfall}; found {mean('boss 2 top'):+.4f}"
    hole, drawn = wall("bolt hole 1"), nominal.face(FACES["bolt hole 1"]).feature
    moved = hole.point + hole.axis * ((drawn.point - hole.point) @ hole.axis) - drawn.point  # type: ignore[union-attr]
    yield f"bolt hole 1: {known.errors.hole_shift}; found ({moved[0]:+.4f}, {moved[1]:+.4f})"
    upper = runner.evaluation(job).ledger[0]
    yield f"shroud: +{known.bump.height}; found {upper.value:+.4f} +- {upper.expanded:.4f}"


def rigid() -> Iterator[str]:
    """Points of the exact faces moved rigidly: what is left after best fit."""
    runner, job = demo()
    nominal = runner.nominal(job)
    found = nominal.projector.project(nominal.samples.centres)
    feet = found.feet[~found.on_border & (nominal.edge_distances(found.feet, 1.0) >= 1.0)]
    pose = RigidTransform.about([0, 0, 50], [0.4, -0.3, 0.5, 0.01, -0.008, 0.006])
    scan = PointCloud(pose.apply(feet))
    fit = best_fit(scan, nominal, RigidTransform.identity())
    d = measure_deviation(scan, nominal, fit.transform).distances
    yield f"RMS {np.sqrt(np.nanmean(d**2)):.2e} mm, largest {np.nanmax(np.abs(d)):.2e} mm over {len(feet)} points on all faces"


def rough() -> Iterator[str]:
    """Random start poses of the demo scan."""
    runner, job = demo()
    nominal, scan, known = runner.nominal(job), runner.cleaned(job), truth()
    rng, good, told, times = np.random.default_rng(1), 0, 0, []
    for k in range(POSES):
        start = RigidTransform.from_parts(Rotation.random(random_state=k).as_matrix(), rng.uniform(-800, 800, 3))
        moved = scan.moved(start)
        begun = time.perf_counter()
        found = rough_align(moved, nominal)
        times.append(time.perf_counter() - begun)
        error = found.transform @ start @ known.pose
        near = np.linalg.norm(error.apply(nominal.centre[None])[0] - nominal.centre) < 1.0 and error.angle < 1.0
        good += near
        told += not near and bool(found.alternatives)
        print(f"\r{k + 1}/{POSES}", end="", file=sys.stderr)
    yield f"{good} of {POSES} random poses within 1 mm and 1 degree, {told} told as ambiguous; median {np.median(times):.1f} s"
