"""Every error that was injected into the demo scan is recovered within 0.02 mm."""

from __future__ import annotations

import numpy as np
import pytest

from juxtum.align.datums import DatumFeature, datum_points
from juxtum.associate import fit_plane, without_outliers
from juxtum.demo.job import FACES
from juxtum.demo.truth import Truth
from juxtum.evaluate import Deviation
from juxtum.geometry import Cylinder, RigidTransform
from juxtum.geometry.mesh import Scan
from juxtum.job import FileStore, Job, Runner
from juxtum.nominal import Nominal

LIMIT = 0.02


@pytest.fixture(scope="module")
def pose(demo_runner: Runner, demo_files: tuple[FileStore, Job]) -> RigidTransform:
    """The best fit, as `inspect` finds it."""
    return demo_runner.alignment(demo_files[1], "best fit").transform


@pytest.fixture(scope="module")
def deviation(demo_runner: Runner, demo_files: tuple[FileStore, Job]) -> Deviation:
    """The map in that frame."""
    return demo_runner.deviation(demo_files[1], "best fit")


def mean_of(deviation: Deviation, name: str) -> float:
    rows = (deviation.faces == FACES[name] - 1) & deviation.clear
    return float(np.average(deviation.distances[rows], weights=deviation.weights[rows]))


def cylinder_at(scan: Scan, nominal: Nominal, pose: RigidTransform, name: str) -> Cylinder:
    points = pose.apply(datum_points(scan, nominal, pose, DatumFeature("A", (FACES[name],))))
    start = nominal.face(FACES[name]).feature
    assert isinstance(start, Cylinder)
    return without_outliers(start, points).feature


def test_bore_is_large(
    clean_scan: Scan, nominal: Nominal, pose: RigidTransform, known: Truth, deviation: Deviation
) -> None:
    found = cylinder_at(clean_scan, nominal, pose, "bore")
    assert 2 * found.radius - 72.0 == pytest.approx(known.errors.bore_diameter, abs=LIMIT)
    assert mean_of(deviation, "bore") == pytest.approx(-known.errors.bore_diameter / 2, abs=LIMIT)


def test_seat_top_is_tilted(clean_scan: Scan, nominal: Nominal, pose: RigidTransform, known: Truth) -> None:
    points = pose.apply(datum_points(clean_scan, nominal, pose, DatumFeature("A", (FACES["seat top"],))))
    normal = fit_plane(points, np.array([0.0, 0, 1])).feature.normal
    length = float(np.ptp(nominal.face_mesh((FACES["seat top"],)).points[:, 1]))
    assert abs(normal[1] / normal[2]) * length == pytest.approx(known.errors.seat_tilt, abs=LIMIT)


def test_boss_is_short(deviation: Deviation, known: Truth) -> None:
    assert mean_of(deviation, "boss 2 top") == pytest.approx(-known.errors.boss_shortfall, abs=LIMIT)
    assert mean_of(deviation, "boss 1 top") == pytest.approx(0, abs=LIMIT)


def test_bolt_hole_is_displaced(clean_scan: Scan, nominal: Nominal, pose: RigidTransform, known: Truth) -> None:
    found = cylinder_at(clean_scan, nominal, pose, "bolt hole 1")
    drawn = nominal.face(FACES["bolt hole 1"]).feature
    assert isinstance(drawn, Cylinder)
    shift = found.point + found.axis * ((drawn.point - found.point) @ found.axis) - drawn.point
    assert shift[:2] == pytest.approx(known.errors.hole_shift, abs=LIMIT)


def test_shroud_is_proud_at_one_place(demo_runner: Runner, demo_files: tuple[FileStore, Job], known: Truth) -> None:
    upper = demo_runner.evaluation(demo_files[1]).ledger[0]
    assert upper.value == pytest.approx(known.bump.height, abs=LIMIT)
    assert upper.place is not None and upper.place[1] == pytest.approx(known.bump.y, abs=6)


def test_what_was_not_scanned_is_not_seen(deviation: Deviation) -> None:
    assert deviation.area_seen_of((FACES["underside"],)) < 0.02
    assert deviation.area_seen_of((FACES["seat top"],)) > 0.99
