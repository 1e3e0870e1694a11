"""Work on a surface held against shapes that are known: filling, repair, smoothing, thinning, targets; and that nothing invented is measured."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.spatial import Delaunay

from helpers import box_mesh, turned
from juxtum.assemble.finishing import Filling, Worked, closed, fill, repair, smooth, thin, without_targets
from juxtum.assemble.finishing.crossed import to_go
from juxtum.assemble.holes import holes_of
from juxtum.cli.main import main
from juxtum.errors import InputError
from juxtum.evaluate.kinds import Profile
from juxtum.exchange.mesh_writing import write_mesh
from juxtum.exchange.meshes import read_mesh
from juxtum.geometry import TriangleMesh
from juxtum.geometry.topology import closure
from juxtum.job import FileStore, Job, Runner, inputs_of
from juxtum.job.document import Brief
from juxtum.job.steps import AsScanned, Decide, Fill, Smooth
from surfaces import NOISE, RADIUS, ball, bored, noisy, tube

TORN = box_mesh((40, 30, 20), 3)

# -- filling ----------------------------------------------------------------------------------------------------------


@pytest.mark.quick
@pytest.mark.parametrize(
    ("mesh", "place", "exact"),
    [
        (ball(), (0, 0, RADIUS), lambda p: np.linalg.norm(p, axis=1) - RADIUS),
        (tube(), (20, 0, 20), lambda p: np.hypot(p[:, 0], p[:, 1]) - 20),
    ],
)
def test_a_hole_filled_by_curvature_lies_where_the_shape_goes_on(mesh, place, exact) -> None:  # type: ignore[no-untyped-def]
    open_ = bored(mesh, [place], 9.0)
    hole = min(holes_of(open_), key=lambda h: float(np.linalg.norm(h.place - place)))
    assert hole.kind == "target" and hole.across == pytest.approx(9.0, abs=1.0)
    off = {}
    for how in Filling:
        made = fill(open_, [hole], how).mesh
        assert closure(made).border_edges == closure(open_).border_edges - len(hole.ring)
        assert closure(made).reversed_edges == closure(made).crowded_edges == 0
        new = np.arange(len(open_.points), len(made.points))
        off[how] = float(np.abs(exact(made.points[new])).max())
        assert made.invented is not None and made.invented.sum() == len(made.triangles) - len(open_.triangles)
    assert off[Filling.CURVED] < 0.02 and off[Filling.FLAT] > 0.15
    rough = fill(noisy(open_), [hole], Filling.CURVED).mesh
    assert np.abs(exact(rough.points[len(open_.points) :])).max() < 3 * NOISE


@pytest.mark.quick
def test_what_is_closed_encloses_its_volume_and_measures_only_what_was_there() -> None:
    part = bored(box_mesh((40, 30, 20), 5), [(0, 0, 10), (20, 15, 10)], 12.0)
    kinds = [hole.kind for hole in holes_of(part)]
    made = closed(part)
    assert closure(made).is_watertight and len(kinds) == 2 and "edge" not in kinds
    assert made.measured.area == pytest.approx(part.area) and made.measured.invented is None
    # The flat hole gives the box back, the one at its corner a chamfer.
    assert 40 * 30 * 20 - 12**3 / 6 < made.volume < 40 * 30 * 20
    with pytest.raises(InputError, match="three or more faces meet"):
        fin = TriangleMesh(
            np.concatenate([part.points, [[0.0, 0, 40]]]),
            np.concatenate([part.triangles, [[*part.triangles[0, :2], len(part.points)]]]),
        )
        closed(fin)


@pytest.mark.quick
@given(seed=st.integers(0, 10**6), share=st.floats(0.02, 0.9))
@settings(max_examples=12, deadline=None)
def test_a_surface_full_of_holes_that_meet_becomes_watertight(seed: int, share: float) -> None:
    """Holes that touch in a point, or whose borders come so near each other that a patch would use an edge of the surface."""
    kept = np.random.default_rng(seed).random(len(TORN.triangles)) > share
    made = closed(TORN.kept_triangles(kept))
    assert closure(made).is_watertight and made.measured.area == pytest.approx(TORN.kept_triangles(kept).area)


@pytest.mark.quick
@pytest.mark.parametrize("ending", ["ply", "stl", "obj", "3mf"])
def test_what_is_invented_stays_marked_in_files(tmp_path: Path, ending: str) -> None:
    open_ = bored(ball(4), [(0, 0, RADIUS), (RADIUS, 0, 0)], 12.0)
    made = fill(open_, holes_of(open_), Filling.FLAT).mesh
    write_mesh(tmp_path / f"a.{ending}", made)
    back = read_mesh(tmp_path / f"a.{ending}")
    assert isinstance(back.scan, TriangleMesh) and back.scan.invented is not None
    assert back.scan.invented_area == pytest.approx(made.invented_area, rel=1e-4)
    assert back.scan.measured.area == pytest.approx(open_.area, rel=1e-4)
    assert "marked as invented: it is shown and not measured" in back.problems[-1]
    write_mesh(tmp_path / f"b.{ending}", open_)
    plain = read_mesh(tmp_path / f"b.{ending}")
    assert isinstance(plain.scan, TriangleMesh) and plain.scan.invented is None and not plain.problems


def test_nothing_invented_is_measured(tmp_path: Path) -> None:
    whole = box_mesh((40, 30, 20), 6)
    write_mesh(tmp_path / "nominal.stl", box_mesh((40, 30, 20)))
    # A hole beside a corner, filled flat across it: what is invented lies up to 2 mm inside the part.
    write_mesh(tmp_path / "scan.ply", bored(whole, [(20, 15, 10), (-20, 0, 10)], 9.0))
    files = FileStore(tmp_path / "files")
    inputs = inputs_of(files.adopt(tmp_path / "nominal.stl"), files.adopt(tmp_path / "scan.ply"))
    job = Job(brief=Brief(part="A"), inputs=inputs).with_step(AsScanned(name="a")).with_step(Decide(alignment="a"))
    filled = job.with_step(Fill(how="flat", of=("hole", "target")))
    runner = Runner(files)
    before, after = runner.evaluation(job), runner.evaluation(filled)
    assert len(runner.cleaned(filled).triangles) > len(runner.cleaned(job).triangles)
    assert len(after.deviation.points) == len(before.deviation.points)
    assert after.statistics.rms == pytest.approx(before.statistics.rms, abs=1e-9)
    assert np.abs(after.deviation.distances).max() < 1e-6
    assert after.deviation.seen.mean() == pytest.approx(before.deviation.seen.mean())
    assert any("of invented surface, which is shown and never measured" in note for note in after.warnings)
    write_mesh(tmp_path / "filled.stl", runner.cleaned(filled))
    assert main(["inspect", str(tmp_path / "nominal.stl"), str(tmp_path / "filled.stl"), "--align", "none",
                 "--lower", "-0.1", "--upper", "0.1", "--out", str(tmp_path / "out")]) == 0  # fmt: skip
    said = json.loads((tmp_path / "out" / "result.json").read_text("utf-8"))
    assert said["deviation"]["rms"] < 1e-3 and "marked as invented" in json.dumps(said)


# -- repair -----------------------------------------------------------------------------------------------------------


def doubled(mesh: TriangleMesh) -> TriangleMesh:
    return TriangleMesh(mesh.corners.reshape(-1, 3), np.arange(3 * len(mesh.triangles)).reshape(-1, 3))


def with_more(mesh: TriangleMesh, points: list[list[float]], triangles: list[list[int]]) -> TriangleMesh:
    return TriangleMesh(
        np.concatenate([mesh.points, np.array(points).reshape(-1, 3)]),
        np.concatenate([mesh.triangles, np.array(triangles)]),
    )


def side_by_side(first: TriangleMesh, second: TriangleMesh) -> TriangleMesh:
    return with_more(first, second.points.tolist(), (second.triangles + len(first.points)).tolist())


BOX = box_mesh((20, 20, 20), 4)
TURNED = BOX.triangles.copy()
TURNED[7:40] = TURNED[7:40, ::-1]
a, b = (int(k) for k in BOX.triangles[0, :2])
BROKEN = {
    "loose triangles": (doubled(BOX), "points lay in the place of others"),
    "turned triangles": (TriangleMesh(BOX.points, TURNED), "33 triangles were wound the other way and turned"),
    "inside out": (TriangleMesh(BOX.points, BOX.triangles[:, ::-1]), "all of it was inside out and was turned"),
    "twice the same": (with_more(BOX, [], BOX.triangles[:5].tolist()), "5 triangles were there twice and went once"),
    "a fin": (with_more(BOX, [[40, 0, 15], [50, 0, 15]], [[a, b, len(BOX.points)]]), "more than two triangles met along 1 edge"),
    "a speck": (with_more(BOX, [[40, 0, 0], [41, 0, 0], [40, 1, 0]], [[len(BOX.points) + k for k in range(3)]]), "1 speck of less than 4 triangles went"),
    "pinched": (repair(side_by_side(BOX, BOX.moved(turned((0, 0, 0), (20, 20, 20))))).mesh, "nothing had to be repaired"),
}  # fmt: skip


@pytest.mark.quick
@pytest.mark.parametrize("name", BROKEN)
def test_repair_mends_and_tells(name: str) -> None:
    broken, said = BROKEN[name]
    made = repair(broken)
    assert any(said in note for note in made.notes), made.notes
    assert closure(made.mesh).is_watertight
    assert made.mesh.volume == pytest.approx(8000 * (2 if name == "pinched" else 1))
    assert repair(made.mesh).notes == ("nothing had to be repaired",)


@pytest.mark.quick
def test_what_is_much_finer_than_the_rest_is_left_as_it_is() -> None:
    """A beam of 3 m, a hundred times finer about a hole than elsewhere, and a narrow chamfer along it: neither is a needle."""
    x, y = np.concatenate([np.arange(0, 3001.0, 60), np.arange(1500.5, 1530, 0.5)]), np.array([0.0, 0.05, 20, 40])
    places = np.array([(a, b) for a in np.sort(x) for b in y])
    flat = TriangleMesh(np.column_stack([places, np.zeros(len(places))]), Delaunay(places).simplices)
    made = repair(flat)
    assert made.notes == ("nothing had to be repaired",) and made.mesh is flat


@pytest.mark.quick
def test_what_crosses_goes_and_is_told() -> None:
    other = BOX.moved(turned((10, 20, 30), (9.3, 7.1, 5.7)))
    made = repair(side_by_side(BOX, other))
    assert any("crossed others and went" in note for note in made.notes)
    kept = made.mesh.points[made.mesh.triangles].mean(1)
    assert len(holes_of(made.mesh)) >= 2 and len(kept) > 0.5 * (len(BOX.triangles) + len(other.triangles))
    assert repair(made.mesh).notes == ("nothing had to be repaired",)


@pytest.mark.quick
def test_of_what_crosses_only_the_one_goes_that_passes_through_the_others() -> None:
    x, y = np.meshgrid(np.arange(12.0), np.arange(12.0), indexing="ij")
    sheet = Delaunay(np.column_stack([x.ravel(), y.ravel()])).simplices
    flat = np.column_stack([x.ravel(), y.ravel(), np.zeros(x.size)])
    blade = np.array([[2.1, 5.3, -1.0], [8.4, 5.6, -1.0], [5.2, 5.4, 2.0]])
    mesh = TriangleMesh(np.concatenate([flat, blade]), np.concatenate([sheet, [[144, 145, 146]]]))
    crossed = to_go(mesh.points, mesh.triangles)
    assert np.flatnonzero(crossed).tolist() == [len(sheet)], "the sheet stays whole"


@pytest.mark.quick
def test_a_needle_is_drawn_together_and_a_band_with_one_side_is_told() -> None:
    mesh, edge = BOX, BOX.triangles[0]
    middle = mesh.points[edge].mean(0)
    near = (mesh.points[edge[0]] + 1e-6 * (middle - mesh.points[edge[0]])).tolist()
    more = len(mesh.points)
    split = with_more(
        TriangleMesh(mesh.points, mesh.triangles[1:]), [near],
        [[edge[0], edge[1], more], [edge[1], edge[2], more], [edge[2], edge[0], more]],
    )  # fmt: skip
    made = repair(split)
    assert "2 slivers without any width went" in made.notes[0] and made.largest < 1e-4
    assert closure(made.mesh).is_watertight and made.mesh.volume == pytest.approx(8000, rel=1e-6)
    count, across = 60, np.linspace(-3, 3, 5)
    turn = np.linspace(0, 2 * np.pi, count, endpoint=False)
    points = [
        [(20 + w * np.cos(t / 2)) * np.cos(t), (20 + w * np.cos(t / 2)) * np.sin(t), w * np.sin(t / 2)]
        for t in turn
        for w in across
    ]

    def at(i: int, j: int) -> int:
        return 5 * i + j if i < count else 4 - j

    band = [[at(i, j), at(i + 1, j), at(i + 1, j + 1)] for i in range(count) for j in range(4)]
    band += [[at(i, j), at(i + 1, j + 1), at(i, j + 1)] for i in range(count) for j in range(4)]
    notes = repair(TriangleMesh(np.array(points), np.array(band))).notes
    assert any("the surface has only one side there" in note for note in notes)


@pytest.mark.quick
@settings(max_examples=25, deadline=None)
@given(st.integers(0, 2**31), st.integers(1, 400), st.integers(1, 40))
def test_repair_takes_any_heap_of_triangles(seed: int, triangles: int, points: int) -> None:
    rng = np.random.default_rng(seed)
    rows = np.array([rng.choice(points + 3, 3, replace=False) for _ in range(triangles)])
    heap = TriangleMesh(rng.integers(0, 4, (points + 3, 3)).astype(float) + rng.normal(0, 1e-3, (points + 3, 3)), rows)
    try:
        made = repair(heap).mesh
    except InputError:
        return
    assert closure(made).crowded_edges == 0 and closure(made).reversed_edges == 0


# -- smoothing and thinning -------------------------------------------------------------------------------------------


@pytest.mark.quick
def test_smoothing_takes_noise_off_and_leaves_size_and_edges() -> None:
    rough = noisy(ball(6))
    made = smooth(rough, 0.1)
    off = np.linalg.norm(made.mesh.points, axis=1) - RADIUS
    assert off.std() < 0.007 and abs(off.mean()) < 0.001
    assert made.largest == pytest.approx(np.linalg.norm(made.mesh.points - rough.points, axis=1).max())
    assert made.moved is not None and np.abs(made.moved).max() <= made.largest + 1e-12
    cube = box_mesh((20, 20, 20), 5)
    flat = smooth(noisy(cube), 0.1).mesh
    on_edge = np.sort(np.abs(cube.points), axis=1)[:, 1] > 9.999
    assert on_edge.sum() > 300
    moved = np.linalg.norm(flat.points - cube.points, axis=1)
    # Not rounded by more than a tenth of its spacing.
    assert moved[on_edge].max() < 0.15 * cube.spacing
    tight = smooth(rough, 0.01)
    assert tight.largest <= 0.01 + 1e-12 and "held at the bound of 0.01 mm" in tight.notes[1]
    with pytest.raises(InputError, match="a bound over 0"):
        smooth(rough, 0.0)


@pytest.mark.quick
def test_borders_and_what_is_invented_stay_where_they_are() -> None:
    open_ = noisy(bored(ball(), [(0, 0, RADIUS)], 12.0))
    made = fill(open_, holes_of(open_), Filling.CURVED).mesh
    calm = smooth(made, 0.1).mesh
    fixed = np.unique(made.triangles[made.invented])
    assert np.array_equal(calm.points[fixed], made.points[fixed]) and np.array_equal(calm.invented, made.invented)


def two_sided(first: TriangleMesh, second: TriangleMesh) -> float:
    """The largest distance between two surfaces by an independent library."""
    from vtkmodules.vtkFiltersCore import vtkImplicitPolyDataDistance

    from juxtum.scene.drawables import polydata

    largest = 0.0
    for one, two in ((first, second), (second, first)):
        distance = vtkImplicitPolyDataDistance()
        distance.SetInput(polydata(one.points, one.triangles, None, None))
        largest = max(largest, *(abs(distance.FunctionValue(*place)) for place in two.points))
    return largest


def test_thinning_keeps_its_bound_and_refuses_beyond_it() -> None:
    fine = ball(5)
    made = thin(fine, 0.05)
    assert len(made.mesh.triangles) < 0.25 * len(fine.triangles)
    assert made.largest == pytest.approx(two_sided(fine, made.mesh), abs=1e-4) and made.largest <= 0.05
    assert f"no place of it moved by more than {made.largest:.4f} mm" in made.notes[0]
    to = thin(fine, 0.5, 2000)
    assert len(to.mesh.triangles) == pytest.approx(2000, rel=0.01)
    with pytest.raises(InputError, match="200 triangles would move the surface by up to"):
        thin(fine, 0.05, 200)
    with pytest.raises(InputError, match="too few"):
        thin(fine, 0.05, 3)
    assert "nothing was thinned" in thin(noisy(fine), 0.001).notes[0]
    flat = thin(box_mesh((40, 30, 20), 5), 0.001)
    assert flat.mesh.volume == pytest.approx(40 * 30 * 20, rel=1e-6) and len(flat.mesh.triangles) < 100


# -- targets ----------------------------------------------------------------------------------------------------------


@pytest.mark.quick
def test_targets_go_and_leave_round_holes_and_one_at_an_edge_is_told() -> None:
    cube = box_mesh((40, 40, 40), 6)
    made = without_targets(cube, np.array([[0, 0, 20.1], [0, 20, 0], [19, 0, 20]]), 8.0)
    assert "3 of 3 targets went" in made.notes[0] and made.notes[1].startswith("1 target sat at an edge")
    kinds = sorted(hole.kind for hole in holes_of(made.mesh))
    assert kinds.count("target") >= 2
    # The other side of a thin wall stays.
    thin_wall = box_mesh((40, 40, 1), 6)
    left = without_targets(thin_wall, np.array([[0, 0, 0.5]]), 8.0).mesh
    assert (left.corners.mean(1)[:, 2] < -0.49).sum() == (thin_wall.corners.mean(1)[:, 2] < -0.49).sum()
    assert "none of the 1 targets" in without_targets(cube, np.array([[500.0, 0, 0]]), 8.0).notes[0]
    with pytest.raises(InputError, match="is none"):
        without_targets(cube, np.zeros((1, 3)), 0.0)


@pytest.mark.quick
@pytest.mark.parametrize(("systematic", "noise", "told"), [(0.02, 0.0, 0.02), (0.02, 0.03, 0.02), (0.0, 0.03, 0.0)])
def test_what_areas_moved_by_is_told_apart_from_noise_that_went(systematic: float, noise: float, told: float) -> None:
    """A surface that was smoothed is calmer, which is no error; one that moved as a whole is."""
    mesh = ball()
    moved = systematic + np.random.default_rng(1).normal(0, noise, len(mesh.points))
    assert Worked(mesh, moved=moved).shift == pytest.approx(told, abs=0.003)


def test_smoothing_counts_in_every_budget(tmp_path: Path) -> None:
    """A ball that smoothing shrinks: the budget says so, and what a value moved by lies within its U."""
    files = FileStore()
    write_mesh(tmp_path / "nominal.ply", ball())
    write_mesh(tmp_path / "scan.ply", noisy(ball(), NOISE))
    inputs = inputs_of(files.adopt(tmp_path / "nominal.ply"), files.adopt(tmp_path / "scan.ply"))
    job = Job(brief=Brief(part="A"), inputs=inputs).with_step(AsScanned(name="a")).with_step(Decide(alignment="a"))
    job = job.with_step(Profile(id="1", title="all", lower=-0.2, upper=0.2))
    smoothed = job.with_step(Smooth(bound=0.5, rounds=40))
    runner = Runner(files)
    before, after = (runner.evaluation(one).ledger[0] for one in (job, smoothed))
    lines = {line.source: line.standard for line in after.budget.contributions}
    mean = abs(runner.evaluation(smoothed).statistics.mean - runner.evaluation(job).statistics.mean)
    assert lines["smoothing and thinning"] >= 0.8 * mean > 0
    assert "smoothing and thinning" not in {line.source for line in before.budget.contributions}
