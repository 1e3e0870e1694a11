"""Deviations on the exact surface, against analytic cases and injected truth."""

from __future__ import annotations

import numpy as np
import pytest

from helpers import box_mesh, turned
from juxtum.align import best_fit
from juxtum.align.result import no_alignment
from juxtum.demo.world import nominal_path
from juxtum.evaluate import Environment, Instrument, SearchRule, measure_deviation, statistics, take_reading
from juxtum.evaluate.statistics import weighted_percentiles
from juxtum.evaluate.uncertainty import Chain
from juxtum.exchange.cad import read_cad
from juxtum.exchange.solid import TessellationRule
from juxtum.geometry import PointCloud, RigidTransform, TriangleMesh
from juxtum.nominal import FaceKind, Nominal

IDENTITY = RigidTransform.identity()


def exact_points(nominal: Nominal, count: int = 60_000) -> tuple[np.ndarray, np.ndarray]:
    """Points on the exact faces, away from edges, and their normals."""
    mesh = nominal.samples.mesh
    chosen = np.random.default_rng(1).choice(len(mesh.triangles), min(count, len(mesh.triangles)), replace=False)
    found = nominal.projector.project(nominal.samples.centres[chosen])
    keep = ~found.on_border & (nominal.edge_distances(found.feet, 1.0) >= 1.0)
    return found.feet[keep], found.normals[keep]


def test_offsets_come_back_on_every_kind_of_face(nominal: Nominal) -> None:
    feet, normals = exact_points(nominal)
    for offset in (0.25, -0.25):
        found = nominal.projector.project(feet + offset * normals)
        off = np.abs(found.distances - offset)
        # In a shallow inner corner the neighbouring face may be nearer than the face the point came from; farther only in
        # the middle of a wedge, by less than the triangles are off that say which face to ask.
        assert np.abs(found.distances).max() < 0.25 + nominal.projector._t.rule.chord
        assert np.mean(np.abs(found.distances) > 0.25 + 1e-6) < 1e-4
        assert np.quantile(off, 0.998) < 1e-6
    kinds = {nominal.faces[f].kind for f in np.unique(found.faces)}
    assert kinds >= {FaceKind.PLANE, FaceKind.CYLINDER, FaceKind.CONE, FaceKind.TORUS, FaceKind.FREE_FORM}


def test_rigid_motion_leaves_no_deviation(nominal: Nominal) -> None:
    """A scan made from the exact faces by pure motion: RMS below 1e-4 mm after best fit, on every face."""
    feet, _ = exact_points(nominal)
    pose = turned((11, -7, 3), (0.4, -0.3, 0.5))
    scan = PointCloud(pose.apply(feet))
    fit = best_fit(scan, nominal, turned((0.2, 0.1, -0.1), (0.2, 0.1, 0.1)) @ pose.inverse)
    deviation = measure_deviation(scan, nominal, fit.transform)
    for face in np.unique(deviation.faces):
        mine = deviation.distances[deviation.faces == face]
        assert np.sqrt(np.mean(mine**2)) < 1e-4, nominal.faces[face].title
    assert deviation.found.all()


def test_tessellation_does_not_matter(nominal: Nominal, clean_scan: TriangleMesh, known) -> None:  # type: ignore[no-untyped-def]
    """Half the chord error changes no deviation by more than 1e-4 mm."""
    shape = read_cad(nominal_path()).shape
    coarse = Nominal.from_shape(shape, rule=TessellationRule(0.06, 0.3))
    fine = Nominal.from_shape(shape, rule=TessellationRule(0.03, 0.3))
    points = known.pose.inverse.apply(clean_scan.points[::8])
    a, b = (n.projector.project(points, limit=3.0) for n in (coarse, fine))
    assert np.array_equal(np.isfinite(a.distances), np.isfinite(b.distances))
    assert np.nanmax(np.abs(a.distances - b.distances)) < 1e-4


def test_sign_at_edges_and_corners_of_a_box() -> None:
    nominal = Nominal.from_mesh(box_mesh())
    outside = np.array([[21.0, 16, 0], [21, 16, 11], [0, 0, 10.5]])
    inside = np.array([[19.0, 14.5, 0], [0, 0, 9.5]])
    found = nominal.projector.project(np.concatenate([outside, inside]))
    assert found.distances == pytest.approx([np.sqrt(2), np.sqrt(3), 0.5, -0.5, -0.5])


def test_far_side_of_a_thin_wall_is_not_taken() -> None:
    nominal = Nominal.from_mesh(box_mesh((60, 60, 1.0), cuts=3))
    top = box_mesh((60, 60, 1.0), cuts=3)
    keep = top.triangle_normals[:, 2] > 0.9
    # The scanned upper side lies 0.8 mm low, nearer to the nominal's underside than to its own.
    scan = top.kept_triangles(keep).moved(RigidTransform.translation([0, 0, -0.8]))
    deviation = measure_deviation(scan, nominal, IDENTITY)
    assert np.median(deviation.distances[deviation.found]) == pytest.approx(-0.8)


def test_what_is_not_there_is_not_seen() -> None:
    mesh = box_mesh(cuts=5)
    nominal = Nominal.from_mesh(mesh)
    half = mesh.kept_triangles(mesh.corners[:, :, 2].mean(1) > -9.99)
    deviation = measure_deviation(half, nominal, IDENTITY)
    bottom = 40 * 30 / mesh.area
    assert deviation.area_seen == pytest.approx(1 - bottom, abs=0.02)
    moved = measure_deviation(
        mesh.moved(RigidTransform.translation([9, 0, 0])), nominal, IDENTITY, SearchRule(limit=2.0)
    )
    s = statistics(moved, -0.1, 0.1)
    assert s.beyond_search > 0 and s.points + s.outliers + s.beyond_search == len(mesh.points)


def test_a_thinned_scan_is_seen_by_its_surface() -> None:
    """Two triangles a side are all of the box, and half of them are half of it."""
    nominal = Nominal.from_mesh(box_mesh(cuts=3))
    few = box_mesh()
    assert measure_deviation(few, nominal, IDENTITY).area_seen > 0.99
    half = few.kept_triangles(few.corners[:, :, 2].mean(1) > -9.99)
    assert measure_deviation(half, nominal, IDENTITY).area_seen == pytest.approx(1 - 40 * 30 / few.area, abs=0.01)


def test_strays_count_in_no_statistic() -> None:
    """A few points 1 to 3 mm off are counted and left out; a bump of the same height is not."""
    mesh = box_mesh(cuts=6)
    nominal = Nominal.from_mesh(box_mesh())
    points = mesh.points + np.random.default_rng(1).normal(0, 0.01, mesh.points.shape)
    clean = statistics(measure_deviation(TriangleMesh(points, mesh.triangles), nominal, IDENTITY), -0.2, 0.2)
    top = np.flatnonzero((points[:, 2] > 9.9) & (np.abs(points[:, :2]) < [16, 11]).all(1))
    stray = np.array(points)
    stray[top[::40], 2] += np.linspace(1, 2.5, len(top[::40]))
    found = measure_deviation(TriangleMesh(stray, mesh.triangles), nominal, IDENTITY)
    s = statistics(found, -0.2, 0.2)
    assert s.outliers == pytest.approx(len(top[::40]), abs=2) and s.rms == pytest.approx(clean.rms, rel=0.05)
    bump = np.array(points)
    bump[np.hypot(points[:, 0], points[:, 1]) < 5, 2] += np.where(
        points[np.hypot(points[:, 0], points[:, 1]) < 5, 2] > 5, 1.0, 0.0
    )
    assert statistics(measure_deviation(TriangleMesh(bump, mesh.triangles), nominal, IDENTITY), -0.2, 0.2).max > 0.95


def test_statistics_are_weighted_by_area() -> None:
    values, weights = np.array([0.0, 0.0, 0.0, 1.0]), np.array([1.0, 1, 1, 3])
    assert weighted_percentiles(values, weights, (50.0,))[0] == pytest.approx(0.25)
    coarse, fine = box_mesh(cuts=2), box_mesh(cuts=5)
    nominal = Nominal.from_mesh(box_mesh((40.2, 30.2, 20.2)))
    a, b = (statistics(measure_deviation(m, nominal, IDENTITY), -0.2, 0.2).mean for m in (coarse, fine))
    assert a == pytest.approx(b, abs=0.01) and b == pytest.approx(-0.1, abs=0.01)


def test_reading_has_value_and_budget(nominal: Nominal) -> None:
    feet, normals = exact_points(nominal)
    cloud = PointCloud(feet + 0.1 * normals)
    deviation = measure_deviation(cloud, nominal, IDENTITY)
    place = feet[len(feet) // 2]
    chain = Chain(Instrument(a=0.02, b=0.0), Environment(temperature_u=0.0))
    reading = take_reading(deviation, no_alignment(), chain, place, "R1")
    assert reading.deviation == pytest.approx(0.1, abs=1e-6)
    assert reading.expanded == pytest.approx(2 * 0.02 / np.sqrt(3), rel=1e-3)


@pytest.mark.parametrize("kind", ["grid", "scattered", "lines"])
def test_a_whole_cloud_is_seen_whole_however_its_points_lie(kind: str) -> None:
    """In rows, without any order, or close along the lines of a scanner: what was scanned is seen, what was not is not."""
    nominal = Nominal.from_mesh(box_mesh((60, 40, 10), cuts=5))
    rng = np.random.default_rng(8)
    if kind == "scattered":
        points = np.column_stack([rng.uniform(0, 60, 9600), rng.uniform(0, 40, 9600)])
    else:
        along, across = (0.5, 0.5) if kind == "grid" else (0.06, 0.6)
        u, v = np.meshgrid(np.arange(0, 60.01, along), np.arange(0, 40.01, across), indexing="ij")
        points = np.column_stack([u.ravel(), v.ravel()])
    top = np.column_stack([points - [30, 20], np.full(len(points), 5.0)])
    hole = (np.abs(top[:, 0]) < 5) & (np.abs(top[:, 1]) < 5)
    centres = nominal.samples.centres
    above = centres[:, 2] > 4.99
    whole = measure_deviation(PointCloud(top), nominal, IDENTITY).seen
    assert whole[above].mean() > 0.985 and not whole[centres[:, 2] < -4.99].any()
    open_ = measure_deviation(PointCloud(top[~hole]), nominal, IDENTITY).seen
    inside = above & (np.abs(centres[:, :2]).max(1) < 3.5)
    assert not open_[inside].any() and open_[above & ~(np.abs(centres[:, :2]).max(1) < 6)].mean() > 0.985


def test_a_gap_among_dense_points_is_seen_beside_sparse_ones() -> None:
    """A sixth of a face has a point every 0.25 mm, the rest every 0.9 mm: a gap of 3 mm in the dense part is one."""
    nominal = Nominal.from_mesh(box_mesh((60, 40, 10), cuts=5))
    rng = np.random.default_rng(3)
    dense = np.column_stack([rng.uniform(-30, -20, 6400), rng.uniform(-20, 20, 6400)])
    sparse = np.column_stack([rng.uniform(-20, 30, 2500), rng.uniform(-20, 20, 2500)])
    middle = np.array([25.0, 0.0])
    flat = np.concatenate([dense[np.abs(dense + middle).max(1) > 1.5], sparse])
    cloud = PointCloud(np.column_stack([flat, np.full(len(flat), 5.0)]))
    seen = measure_deviation(cloud, nominal, IDENTITY).seen
    centres = nominal.samples.centres
    above = centres[:, 2] > 4.99
    gap = above & (np.abs(centres[:, :2] + middle).max(1) < 0.8)
    assert gap.any() and cloud.reach > 1.0 and not seen[gap].any(), "what is sparse elsewhere does not fill it"
    assert seen[above & (centres[:, 0] > -18)].mean() > 0.95
    assert seen[above & (centres[:, 0] < -28) & (np.abs(centres[:, 1]) < 19)].mean() > 0.98
