"""Alignments against known poses."""

from __future__ import annotations

import numpy as np
import pytest
from benchmarks.starts import made_scan, parts
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.optimize import least_squares
from scipy.spatial.transform import Rotation

from helpers import apart, bracket, turned
from juxtum.align import align_pairs, best_fit, compare, datum_alignment, rough_align
from juxtum.align.best_fit import BestFitOptions
from juxtum.align.datums import DatumFeature
from juxtum.associate import fit_cylinder, fit_plane
from juxtum.demo import solids
from juxtum.demo.job import FACES
from juxtum.demo.truth import Truth
from juxtum.errors import AlignmentError, FitError, InputError
from juxtum.geometry import Plane, PointCloud, RigidTransform, TriangleMesh
from juxtum.geometry.mesh import Scan
from juxtum.nominal import Nominal
from juxtum.nominal.model import sample_surface

ABC = tuple(
    DatumFeature(letter, (FACES[name],)) for letter, name in (("A", "plate top"), ("B", "bore"), ("C", "seat end"))
)


def test_best_fit_finds_the_pose_of_what_is_not_distorted(clean_scan: Scan, nominal: Nominal, known: Truth) -> None:
    """Within 0.01 mm and 0.005 degrees, judged against the pose with which the demo scan was simulated."""
    start = turned((0.4, -0.3, 0.5), (0.8, -0.6, 0.5)) @ known.pose.inverse
    found = best_fit(clean_scan, nominal, start)
    shift, angle = apart(found.transform, known.pose, nominal)
    assert shift < 0.01 and angle < 0.005
    assert found.rms < 0.03
    assert np.sqrt(np.diag(found.covariance)[:3]).max() < 0.01


def test_best_fit_does_not_depend_on_the_start(clean_scan: Scan, nominal: Nominal, known: Truth) -> None:
    starts = [turned(v, t) @ known.pose.inverse for v, t in (((0, 0, 0), (0, 0, 0)), ((0.5, 0.5, -0.5), (1, -1, 1)))]
    a, b = (best_fit(clean_scan, nominal, s, BestFitOptions(count=20_000)).transform for s in starts)
    assert compare(a, b, nominal).largest < 1e-4


def test_free_motion_is_named() -> None:
    from OCP.BRepPrimAPI import BRepPrimAPI_MakeCylinder

    nominal = Nominal.from_shape(BRepPrimAPI_MakeCylinder(20.0, 60.0).Shape())
    scan = PointCloud(nominal.samples.centres)
    found = best_fit(scan, nominal, turned((0, 0, 12), (0.1, 0.2, 0.1)))
    assert (
        "free to turn about Z" in found.notes[0] and found.locked["Rz"] == "free" and found.locked["Tz"] == "best fit"
    )
    assert found.transform.angle == pytest.approx(12, abs=0.05), "the free turn stays as the start had it"


def test_datum_system_locks_in_order(clean_scan: Scan, nominal: Nominal, known: Truth) -> None:
    start = turned((0.1, -0.1, 0.1), (0.2, 0.2, -0.2)) @ known.pose.inverse
    found = datum_alignment(clean_scan, nominal, start, ABC)
    assert found.locked == {"Tx": "B", "Ty": "C", "Tz": "A", "Rx": "A", "Ry": "A", "Rz": "B"}
    shift, angle = apart(found.transform, known.pose, nominal)
    assert shift < 0.01 and angle < 0.005
    assert np.linalg.matrix_rank(found.covariance) == 6


def test_what_datums_leave_free_stays_and_is_noted(clean_scan: Scan, nominal: Nominal, known: Truth) -> None:
    start = turned((0.1, -0.1, 0.1), (0.2, 0.2, -0.2)) @ known.pose.inverse
    found = datum_alignment(clean_scan, nominal, start, ABC[:2])
    assert found.locked["Ty"] == "free" and found.locked["Tx"] == "B"
    assert any(
        "the datums A|B leave the part free to slide along Y; that stays as the start had it" in note
        for note in found.notes
    )
    shift = found.transform.apply(start.inverse.apply(nominal.centre[None]))[0] - nominal.centre
    assert abs(shift[1]) < 0.35, "it was not moved along Y but for the turns that the datums bind"
    assert len(datum_alignment(clean_scan, nominal, start, ABC[:1]).notes) == 3


@pytest.mark.parametrize(
    ("datums", "kind", "words"),
    [
        ((DatumFeature("A", (FACES["shroud"],)),), InputError, "is no feature by itself"),
        ((DatumFeature("A", (FACES["underside"],)),), AlignmentError, "points of the scan lie on it"),
        ((DatumFeature("A", (999,)),), InputError, "the nominal has no face 999"),
        ((), InputError, "has no datums"),
    ],
)
def test_datums_that_do_not_do(
    datums: tuple[DatumFeature, ...],
    kind: type[Exception],
    words: str,
    clean_scan: Scan,
    nominal: Nominal,
    known: Truth,
) -> None:
    with pytest.raises(kind, match=words):
        datum_alignment(clean_scan, nominal, known.pose.inverse, datums)


@given(st.integers(0, 10_000))
@settings(max_examples=40, deadline=None)
def test_pairs_bring_back_any_motion(seed: int) -> None:
    rng = np.random.default_rng(seed)
    pose = RigidTransform.from_parts(Rotation.random(random_state=seed).as_matrix(), rng.uniform(-500, 500, 3))
    points = rng.uniform(-100, 100, (4, 3))
    found = align_pairs(pose.apply(points), points)
    assert np.allclose((found.transform @ pose).matrix, np.eye(4), atol=1e-8)


@pytest.mark.parametrize("count", [2, 3])
def test_pairs_on_a_line_are_refused(count: int) -> None:
    points = np.arange(count)[:, None] * np.array([[1.0, 2.0, 3.0]])
    with pytest.raises(AlignmentError, match="do not fix the part" if count == 2 else "lie on one line"):
        align_pairs(points, points)


@pytest.mark.parametrize("far", [0.0, 10_000.0])
def test_cylinder_fit_equals_a_reference(far: float) -> None:
    """A 60-degree arc with noise, wherever it lies: parameters as a general-purpose solver finds them."""
    rng = np.random.default_rng(5)
    angle, height = rng.uniform(0, np.pi / 3, 400), rng.uniform(-20, 20, 400)
    radius = 12 + rng.normal(0, 0.02, 400)
    turn = Rotation.from_rotvec([0.4, -0.7, 0.2]).as_matrix()
    points = np.column_stack([radius * np.cos(angle), radius * np.sin(angle), height]) @ turn.T + far
    found = fit_cylinder(points)
    local = points - points.mean(0)

    def residuals(p: np.ndarray) -> np.ndarray:
        axis = p[3:6] / np.linalg.norm(p[3:6])
        across = local - p[:3]
        return np.linalg.norm(across - np.outer(across @ axis, axis), axis=1) - p[6]

    guess = np.r_[found.feature.point - points.mean(0) + 0.01, found.feature.axis + 0.001, found.feature.radius + 0.01]
    best = least_squares(residuals, guess, xtol=1e-15, ftol=1e-15, gtol=1e-15)
    assert found.feature.radius == pytest.approx(best.x[6], abs=1e-6)
    assert np.sqrt(np.mean(best.fun**2)) == pytest.approx(found.rms, rel=1e-7)


def test_plane_fit_and_its_refusals() -> None:
    rng = np.random.default_rng(3)
    flat = np.column_stack([rng.uniform(-50, 50, (500, 2)), rng.normal(0, 0.01, 500)])
    pose = turned((20, 30, 40), (1, 2, 3))
    found = fit_plane(pose.apply(flat))
    assert abs(found.feature.normal @ pose.rotation[:, 2]) == pytest.approx(1, abs=1e-8)
    assert found.rms == pytest.approx(0.01, rel=0.1)
    with pytest.raises(FitError, match="on one line"):
        fit_plane(np.arange(5)[:, None] * np.ones((1, 3)))
    with pytest.raises(InputError, match="lie on one line"):
        Plane.through([[0, 0, 0], [1, 1, 1], [2, 2, 2]])


def test_an_inside_out_scan_is_called_that() -> None:
    mesh = bracket()
    flipped = TriangleMesh(mesh.points, mesh.triangles[:, ::-1])
    with pytest.raises(AlignmentError, match="the scan is inside out"):
        rough_align(flipped.moved(turned((20, 30, 100), (4, 5, 6))), Nominal.from_mesh(mesh))


def test_what_takes_no_part_in_the_best_fit_is_told() -> None:
    """A beam that sags by 10 mm at one end leaves much of itself out of reach."""
    drawn = Nominal.from_shape(parts()["beam of 3 m"])
    scan = made_scan(drawn, "full mesh", np.random.default_rng(2))
    sag = np.array(scan.points)
    sag[:, 2] -= 10 * np.clip(sag[:, 0] / 3000, 0, 1) ** 2 * 2
    found = best_fit(TriangleMesh(sag, scan.triangles), drawn, RigidTransform.identity())
    assert any("took no part in the best fit" in note for note in found.notes)


@pytest.mark.parametrize("coated", ["all", "top"])
def test_a_coat_does_not_move_the_part(coated: str) -> None:
    """A block scanned from above, 0.1 mm of coat on it: where the part lies is found as if it were bare."""
    nominal = Nominal.from_shape(solids.box((0, 0, 0), (80, 50, 20)))
    faces = [f for f in nominal.faces if f.centre[2] > 1e-6]
    top = next(f for f in faces if f.centre[2] > 19.9)
    coat = np.zeros(len(nominal.faces))
    coat[[f.number - 1 for f in faces] if coated == "all" else [top.number - 1]] = 0.1
    fine = sample_surface(nominal.mesh, nominal.triangle_faces, 1.5)
    kept = fine.mesh.triangle_normals[:, 2] > -0.5
    corners = fine.mesh.corners[kept] + (coat[fine.faces[kept], None] * fine.mesh.triangle_normals[kept])[:, None]
    scan = TriangleMesh(corners.reshape(-1, 3), np.arange(corners.shape[0] * 3, dtype=np.int32).reshape(-1, 3))
    known = best_fit(scan, nominal, RigidTransform.identity(), BestFitOptions(trim=0.0, coat=coat))
    assert np.abs(known.transform.apply(scan.points) - scan.points).max() < 1e-6
    unknown = best_fit(scan, nominal, RigidTransform.identity(), BestFitOptions(trim=0.0))
    assert unknown.transform.offset[2] == pytest.approx(-0.1, abs=0.02), "or the coat sinks into the part"
    side, end = (next(f.number for f in faces if f.centre[axis] < 1e-6) for axis in (1, 0))
    letters = (DatumFeature("A", (top.number,)), DatumFeature("B", (side,)), DatumFeature("C", (end,)))
    for told, depth in ((coat, 0.0), (None, -0.1)):
        locked = datum_alignment(scan, nominal, RigidTransform.identity(), letters, told)
        assert locked.transform.offset[2] == pytest.approx(depth, abs=1e-6)


def facing(nominal: Nominal, *direction: float) -> tuple[int, ...]:
    """The plane face that looks that way."""
    planes = [f for f in nominal.faces if isinstance(f.feature, Plane)]
    return (max(planes, key=lambda f: float(f.feature.normal @ np.array(direction))).number,)  # type: ignore[union-attr]


def scanned(nominal: Nominal, size: float, seed: int = 1) -> tuple[TriangleMesh, RigidTransform]:
    """All of a part with noise, a little out of place, and by how much."""
    mesh = sample_surface(nominal.mesh, nominal.triangle_faces, size).mesh
    pose = RigidTransform.from_parts(Rotation.from_rotvec([2e-5, -1e-5, 3e-5]).as_matrix(), [0.3, -0.2, 0.4])
    points = mesh.points + np.random.default_rng(seed).normal(0, 0.02, mesh.points.shape)
    return TriangleMesh(pose.apply(points), mesh.triangles), pose


def test_a_part_of_25_m_is_held_by_its_datums() -> None:
    nominal = Nominal.from_shape(solids.box((0, 0, 0), (25_000, 3000, 400)))
    scan, pose = scanned(nominal, 300)
    letters = [DatumFeature(a, facing(nominal, *d)) for a, d in (("A", (0, 0, 1)), ("B", (0, 1, 0)), ("C", (1, 0, 0)))]
    found = datum_alignment(scan, nominal, RigidTransform.identity(), tuple(letters))
    left = (found.transform @ pose).apply(nominal.mesh.bounds) - nominal.mesh.bounds
    assert np.abs(left).max() < 0.005 and not found.notes and "free" not in found.locked.values()


@pytest.mark.parametrize("degrees", [1.0, 0.1])
def test_nearly_parallel_planes_hold_as_well_as_their_uncertainty_says(degrees: float) -> None:
    """The sides of a wedge lock the slide along it, the worse the slimmer it is, and the covariance tells how much."""
    from OCP.BRepPrimAPI import BRepPrimAPI_MakeWedge

    nominal = Nominal.from_shape(
        BRepPrimAPI_MakeWedge(300, 200, 100, 200 * np.tan(np.radians(degrees)), 0, 300, 100).Shape()
    )
    letters = [DatumFeature(a, facing(nominal, *d)) for a, d in (("A", (1, 0, 0)), ("B", (-1, 0, 0)))]
    off, told = [], []
    for seed in range(6):
        scan, pose = scanned(nominal, 4, seed)
        found = datum_alignment(scan, nominal, RigidTransform.identity(), tuple(letters))
        assert found.locked["Ty"] in "AB" and any("slide along Z" in note for note in found.notes)
        off.append((found.transform @ pose).apply(found.centre[None])[0, 1] - found.centre[1])
        told.append(np.sqrt(found.covariance[1, 1]))
    ratio = np.sqrt(np.mean(np.square(off))) / np.mean(told)
    assert 0.3 < ratio < 2.5, (off, told)


def test_a_half_seen_datum_is_told() -> None:
    nominal = Nominal.from_shape(solids.box((0, 0, 0), (200, 120, 30)))
    scan, _ = scanned(nominal, 3)
    letters = [DatumFeature(a, facing(nominal, *d)) for a, d in (("A", (0, 0, 1)), ("B", (0, 1, 0)), ("C", (1, 0, 0)))]
    whole = datum_alignment(scan, nominal, RigidTransform.identity(), tuple(letters))
    half = datum_alignment(scan.kept(scan.points[:, 0] > 120), nominal, RigidTransform.identity(), tuple(letters))
    assert not whole.notes
    assert [note.split(" was")[0].split("of ")[-1] for note in half.notes] == ["datum A", "datum B"] and half.notes[
        0
    ].startswith("only 4")
