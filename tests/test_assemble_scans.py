"""Several scans become one surface: joined as they lie, by picked pairs and by targets, against where they truly lie."""

from __future__ import annotations

import json
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from benchmarks.joins import DIRECTIONS, joined_parts, ring, view_of, whole, worst_corner

from juxtum.align.pairs import align_pairs
from juxtum.align.scans.hand import mirrored
from juxtum.align.scans.join import Joined, join
from juxtum.align.scans.overlap import Overlap, overlap_of
from juxtum.align.scans.sheet import Sheet, make_sheet
from juxtum.align.scans.ties import Tie
from juxtum.align.scans.together import spread_of
from juxtum.assemble.assembling import Brought, Trim, Wanted, assemble, tie, ties_from_pairs, ties_from_targets
from juxtum.assemble.finishing import Filling, closed, fill
from juxtum.assemble.holes import holes_of
from juxtum.assemble.trim import find_flat
from juxtum.cli.main import main
from juxtum.errors import AlignmentError, InputError
from juxtum.exchange.mesh_writing import write_mesh
from juxtum.exchange.meshes import read_mesh
from juxtum.geometry import PointCloud, RigidTransform, TriangleMesh
from juxtum.geometry.rays import RayCaster
from juxtum.geometry.topology import closure
from juxtum.nominal import Nominal
from surfaces import RADIUS, ball

NOISE = 0.02


@pytest.fixture(scope="module")
def part(nominal: Nominal) -> Nominal:
    """A part with round faces, which upper and lower views have in common."""
    return nominal


@pytest.fixture(scope="module")
def mesh(part: Nominal) -> TriangleMesh:
    return whole(part, 50_000)


@pytest.fixture(scope="module")
def drifted(mesh: TriangleMesh) -> tuple[list[TriangleMesh], list[RigidTransform]]:
    """Eight views, each some tenths of a millimetre and hundredths of a degree off, and their true ways back."""
    rng, caster = np.random.default_rng(4), RayCaster(mesh)
    scans, truths = [], []
    for towards in DIRECTIONS:
        move = np.concatenate([rng.normal(0, 0.3, 3), np.radians(0.05) * rng.normal(size=3)])
        off = RigidTransform.about(mesh.bounds.mean(0), move)
        scans.append(view_of(mesh, caster, towards, rng).moved(off))
        truths.append(off.inverse)
    return scans, truths


@pytest.fixture(scope="module")
def sheets(drifted: tuple[list[TriangleMesh], list[RigidTransform]]) -> list[Sheet]:
    return [make_sheet(scan, f"view {k}") for k, scan in enumerate(drifted[0])]


@pytest.fixture(scope="module")
def joined(sheets: list[Sheet]) -> Joined:
    return join(sheets)


def test_what_lies_about_right_is_joined_and_its_loops_close(
    joined: Joined, drifted: tuple[list[TriangleMesh], list[RigidTransform]], part: Nominal
) -> None:
    assert joined.is_whole and len(joined.ties) > 8 and not any(joined.reasons)
    poses = [pose for pose in joined.poses if pose is not None]
    apart = worst_corner([RigidTransform.identity()] * 8, drifted[1], part)
    assert worst_corner(poses, drifted[1], part) < 0.05 + part.diagonal / 4000 < apart, "and before it was not"
    assert joined.noise == pytest.approx(NOISE, rel=0.3)
    # What is left is how unsure a pair with little in common is by itself.
    left = [loop.after_mm for loop in joined.loops]
    assert left and np.median(left) < 0.15 and max(left) < 0.25, left
    assert joined.poses[joined.anchor] is not None
    assert np.allclose(joined.poses[joined.anchor].matrix, np.eye(4)), "the scan in the middle stays"


def test_a_ring_of_patches_that_drifts_is_closed(part: Nominal) -> None:
    """Threads bind neighbours to each other: those to the room left 0.27 mm of such a ring, with words of free motions."""
    scans, truths = ring(part, 8, (0.06, 0.012), 3, (80_000, 1.6))
    sheets = [make_sheet(scan, str(k)) for k, scan in enumerate(scans)]
    made = join(sheets)
    poses = [pose for pose in made.poses if pose is not None]
    # What it says of where places lie is as large as how far they are off.
    there = [sheet.points[::20] for sheet in sheets]
    laid = np.concatenate([pose.apply(points) for pose, points in zip(poses, there, strict=True)])
    true = np.concatenate([truth.apply(points) for truth, points in zip(truths, there, strict=True)])
    off = align_pairs(laid, true).transform.apply(laid) - true
    said = spread_of(sheets, poses, made.covariance)
    assert 0.5 < float(np.sqrt((off**2).mean())) / said < 1.6 and said < 0.01
    assert worst_corner([RigidTransform.identity()] * 8, truths, part) > 0.25
    assert not any(made.reasons) and worst_corner([p for p in made.poses if p is not None], truths, part) < 0.06


@pytest.mark.parametrize("slide", [pytest.param((30.0, 0.0, 0.0), marks=pytest.mark.long), (0.0, 0.0, 1.2)])
def test_a_false_tie_is_found_and_left_out(
    sheets: list[Sheet], joined: Joined, slide: tuple[float, float, float]
) -> None:
    """Given where nothing overlaps, or where the surfaces lie beside each other: the others lie as without it."""
    wrong = Tie(0, 3, RigidTransform.translation(list(slide)), Overlap(0.0, 0.0, 0.0, 3), reason="picked pairs")
    made = join(sheets, [wrong])
    left = [tie for tie in made.ties if not tie.is_used and (tie.first, tie.second) == (0, 3)]
    assert made.poses[0] is not None and joined.poses[0] is not None
    assert made.is_whole and len(left) == 1 and left[0].reason.startswith("picked pairs; "), left
    for one, two in zip(made.poses, joined.poses, strict=True):
        assert one is not None and two is not None
        there = sheets[0].points[:200]
        moved = (made.poses[0].inverse @ one).apply(there) - (joined.poses[0].inverse @ two).apply(there)
        assert np.linalg.norm(moved, axis=1).max() < 0.05


def test_what_the_overlaps_leave_free_is_told_and_stays() -> None:
    """A block with upright walls from above and from below: nothing says how high one lies on the other."""
    block = whole(Nominal.from_shape(joined_parts()["casting"]), 30_000)
    rng, caster = np.random.default_rng(2), RayCaster(block)
    views = [view_of(block, caster, towards, rng) for towards in DIRECTIONS[:4]]
    loose = join([make_sheet(view, str(k)) for k, view in enumerate(views)])
    assert any("free to slide along Z against the others" in reason for reason in loose.reasons), loose.reasons
    for pose in loose.poses:
        assert pose is not None and abs(pose.offset[2]) < 0.05


def test_the_order_in_which_they_come_changes_nothing(sheets: list[Sheet], joined: Joined) -> None:
    other = join(sheets[::-1])
    for first, second in ((0, 1), (2, 3)):
        one, two, a, b = joined.poses[first], joined.poses[second], other.poses[7 - first], other.poses[7 - second]
        assert one is not None and two is not None and a is not None and b is not None
        there = sheets[second].points[:500]
        assert np.linalg.norm((one.inverse @ two).apply(there) - (a.inverse @ b).apply(there), axis=1).max() < 0.08


def test_a_right_place_agrees_and_a_wrong_one_is_contradicted(
    sheets: list[Sheet], drifted: tuple[list[TriangleMesh], list[RigidTransform]]
) -> None:
    true = drifted[1][1].inverse @ drifted[1][0]
    right = overlap_of(sheets[0], sheets[1], true)
    assert right.share > 0.08 and right.against < 0.05 and right.rms < 0.04
    wrong = overlap_of(sheets[0], sheets[1], RigidTransform.translation([0.4, 0.4, 0.6]) @ true, NOISE)
    assert wrong.against > 5 * right.against + 0.1


def test_picked_pairs_and_targets_tie_what_lies_anywhere(
    mesh: TriangleMesh, drifted: tuple[list[TriangleMesh], list[RigidTransform]]
) -> None:
    rng = np.random.default_rng(8)
    away = RigidTransform.from_parts(np.array([[0.0, -1, 0], [0, 0, -1], [1, 0, 0]]), np.array([900.0, -300, 50]))
    first, second = drifted[0][0].moved(away), drifted[0][1]
    sheets = [make_sheet(first, "a"), make_sheet(second, "b")]
    true = drifted[1][1].inverse @ drifted[1][0] @ away.inverse
    with pytest.raises(AlignmentError, match="no two of the scans overlap as they lie"):
        join(sheets)
    places = mesh.points[rng.choice(len(mesh.points), 4, replace=False)]
    ends = [(away @ drifted[1][0].inverse).apply(places), drifted[1][1].inverse.apply(places)]
    ends[0] = ends[0] + rng.normal(0, 0.8, ends[0].shape)
    ties = {
        "pairs": [ties_from_pairs(0, 1, np.stack(ends, axis=1))],
        "targets": ties_from_targets([e + rng.normal(0, 0.01, (6, 3)) for e in _seen_twice(mesh, drifted, away)], 0.3),
    }
    for name, given in ties.items():
        made = join(sheets, given)
        assert made.is_whole and made.poses[0] is not None and made.poses[1] is not None, name
        found = made.poses[1].inverse @ made.poses[0]
        assert np.linalg.norm(found.apply(first.points) - true.apply(first.points), axis=1).max() < 0.15, name
    with pytest.raises(InputError, match="lie on one line"):
        ties_from_pairs(0, 1, np.repeat(np.arange(3.0)[:, None, None] * [1.0, 0, 0], 2, axis=1))


def _seen_twice(
    mesh: TriangleMesh, drifted: tuple[list[TriangleMesh], list[RigidTransform]], away: RigidTransform
) -> list[np.ndarray]:
    """Six targets as two scans see them."""
    places = mesh.points[np.random.default_rng(2).choice(len(mesh.points), 6, replace=False)]
    return [(away @ drifted[1][0].inverse).apply(places), drifted[1][1].inverse.apply(places)]


@pytest.mark.parametrize("trim", [pytest.param(Trim.TABLE, marks=pytest.mark.long), Trim.AUTO])
def test_the_underside_of_a_part_is_no_table(mesh: TriangleMesh, part: Nominal, trim: Trim) -> None:
    """A base plate with all else on it, seen from below: its flat looks away from the part, a table's looks at it."""
    caster, rng = RayCaster(mesh), np.random.default_rng(1)
    below = view_of(mesh, caster, np.array([0.3, 0.2, -0.93]), rng)
    assert find_flat(below) is None
    side = np.linspace(-150.0, 250.0, 120)
    x, y = np.meshgrid(side, side, indexing="ij")
    rows = (np.arange(119)[:, None] * 120 + np.arange(119)).ravel()
    table = np.column_stack([x.ravel(), y.ravel(), np.full(x.size, -0.05)]) + rng.normal(0, NOISE, (x.size, 3))
    faces = np.concatenate([np.stack([rows, rows + 120, rows + 121], 1), np.stack([rows, rows + 121, rows + 1], 1)])
    above = view_of(mesh, caster, np.array([0.3, 0.2, 0.93]), rng)
    both = TriangleMesh(
        np.concatenate([above.points, table]), np.concatenate([above.triangles, faces + len(above.points)])
    )
    flat = find_flat(both)
    assert flat is not None and abs(flat.plane.distances(np.array([0.0, 0, 0]))) < 0.2
    left = assemble([Brought("a", both), Brought("b", above)], Wanted())
    assert "may be its table or a face of the part, and was left" in left.notes[0], (
        "nothing but a person or a nominal can tell"
    )
    assert left.surface.bounds[1][0] > 200
    cleaned = assemble(
        [Brought("a", both), Brought("b", above)], Wanted(trim=trim, nominal=part if trim is Trim.AUTO else None)
    )
    assert "points of the table it stands on were cut off" in cleaned.notes[0] and cleaned.surface.bounds[1][0] < 140


def test_a_scan_brought_twice_is_told(drifted: tuple[list[TriangleMesh], list[RigidTransform]]) -> None:
    """Under two names, and even when one was moved; two scans of one side are two."""
    scans = [Brought(name, drifted[0][k]) for name, k in (("a", 0), ("b", 1), ("c", 0))]
    made = tie([*scans[:2], Brought("c", scans[2].scan.moved(RigidTransform.translation([0.1, 0, 0])))])
    assert [note for note in made.notes if "twice" in note] == ["a and c are the same scan twice: it counts double"]
    image = TriangleMesh(scans[0].scan.points * [1, 1, -1], scans[0].scan.triangles[:, ::-1])
    noted = tie([*scans[:2], Brought("c", image)]).notes
    assert "c is a mirrored: one of them is the opposite hand, take it out" in noted and "twice" not in str(noted)


def test_a_mirrored_scan_is_told(sheets: list[Sheet]) -> None:
    """Among others that hang together, and of two alone; a good scan that lies elsewhere is not called mirrored."""
    far = np.array([900.0, 0.0, 0.0])
    there = replace(sheets[2], points=sheets[2].points + far, rim=sheets[2].rim + far)
    with pytest.raises(AlignmentError, match="no two of the scans overlap as they lie, but the mirror image of"):
        join([sheets[0], mirrored(there)])
    with pytest.raises(AlignmentError) as problem:
        join([sheets[0], there])
    assert "mirror" not in str(problem.value)
    made = join([sheets[0], sheets[4], mirrored(there)])
    assert made.poses[2] is None and "opposite hand" in made.reasons[2]


def test_a_cloud_gets_its_directions_outwards(mesh: TriangleMesh) -> None:
    view = view_of(mesh, RayCaster(mesh), DIRECTIONS[7], np.random.default_rng(3))
    sheet = make_sheet(PointCloud(view.points), "cloud")
    normals = view.normals[np.linalg.norm(view.points[:, None] - sheet.points[None, ::300], axis=2).argmin(0)]
    agree = np.einsum("ij,ij->i", normals, sheet.normals[::300])[~sheet.border[::300]]
    # Beside edges neighbours of both faces tell the direction; away from them it is the face's own.
    assert (agree[np.abs(agree) > 0.7] > 0).mean() > 0.97 and (np.abs(agree) > 0.7).mean() > 0.6


def test_holes_are_listed_and_closed_with_marked_faces() -> None:
    import trimesh

    sheet = trimesh.creation.annulus(r_min=5, r_max=40, height=2, sections=96)
    top = TriangleMesh(np.array(sheet.vertices), np.array(sheet.faces)[np.array(sheet.face_normals)[:, 2] > 0.9])
    edge, hole = holes_of(top)
    assert (edge.kind, hole.kind) == ("edge", "target") and hole.perimeter == pytest.approx(10 * np.pi, rel=2e-3)
    assert hole.area == pytest.approx(25 * np.pi, rel=5e-3)
    filled = closed(top)
    assert closure(filled).is_watertight and filled.invented is not None
    assert filled.invented_area == pytest.approx(np.pi * (40**2 + 5**2), rel=5e-3)
    crossed = TriangleMesh(
        np.array([[0.0, 0, 0], [1, 0, 0], [0, 1, 0], [0, -1, 0], [0, 0, 1]]),
        np.array([[0, 1, 2], [1, 0, 3], [0, 1, 4]]),
    )
    with pytest.raises(InputError, match="does not become watertight"):
        closed(crossed)


@pytest.mark.parametrize("suffix", ["ply", "stl", "obj", "3mf"])
def test_a_written_surface_is_read_back_alike(mesh: TriangleMesh, tmp_path: Path, suffix: str) -> None:
    path = tmp_path / f"surface.{suffix}"
    write_mesh(path, mesh)
    back = read_mesh(path).scan
    assert len(back.triangles) == len(mesh.triangles) and np.abs(back.bounds - mesh.bounds).max() < 1e-4
    assert isinstance(back, TriangleMesh) and back.area == pytest.approx(mesh.area, rel=1e-5)


def test_the_command_line_joins_and_says_what_it_did(
    drifted: tuple[list[TriangleMesh], list[RigidTransform]], tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    paths = [tmp_path / f"v{k}.ply" for k in range(3)]
    for path, scan in zip(paths, drifted[0], strict=False):
        write_mesh(path, scan)
    words = [str(path) for path in paths]
    out = tmp_path / "surface.stl"
    assert main(["assemble", *words, "--out", str(out), "--json", "--strict", "--spacing", "2"]) == 0
    made = json.loads(capsys.readouterr().out)
    assert made["schema"] == "juxtum-assembly-1" and [s["tied"] for s in made["scans"]] == [True] * 3
    assert {"first", "second", "overlap", "rms", "used", "reason"} == set(made["ties"][0]) and made["holes"][0][
        "kind"
    ] == "edge"
    assert made["surface"]["volume"] is None and not made["surface"]["watertight"] and out.stat().st_size > 10_000
    words, lonely = words[:2], tmp_path / "lonely.ply"
    write_mesh(lonely, drifted[0][5].moved(RigidTransform.translation([0.0, 0, 5000])))
    assert main(["assemble", *words, str(lonely), "--out", str(out), "--strict", "--no-by-shape"]) == 1
    assert "lonely.ply: nothing ties it to the others" in capsys.readouterr().out
    small = tmp_path / "small.ply"
    write_mesh(small, drifted[0][1].scaled(0.001))
    (tmp_path / "cut.ply").write_bytes(paths[0].read_bytes()[:5000])
    (tmp_path / "targets.csv").write_text("scan,X,Y,Z\nv0.ply,1,2\n")
    (tmp_path / "pairs.json").write_text(
        json.dumps({"pairs": [{"first": "v0.ply", "second": "v9.ply", "points": [[[0, 0, 0], [0, 0, 0]]] * 3}]})
    )
    for extra, sentence in (
        ([words[0]], "one file is given twice"),
        ([str(small)], "times as large as small.ply"),
        ([str(tmp_path / "cut.ply")], "cut.ply"),
        (["--targets", str(tmp_path / "targets.csv")], "line 2 does not hold three numbers"),
        (["--pairs", str(tmp_path / "pairs.json")], "there is no scan 'v9.ply'"),
        (["--spacing", "0.001"], "too fine for so large an assembly"),
    ):
        assert main(["assemble", *words, *extra, "--out", str(out)]) == 2 and sentence in capsys.readouterr().err, extra
    assert main(["assemble", *words, "--out", str(tmp_path / "surface.txt")]) == 2
    assert "is no format for a surface" in capsys.readouterr().err
    assert main(["assemble", words[0], "--out", str(out)]) == 2 and "joined to nothing" in capsys.readouterr().err


def test_what_a_file_marks_as_invented_is_not_joined(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    """Made up once, it must not come back as measured in a surface that does not know."""
    ball_ = ball(5)
    halves = [ball_.kept_triangles(ball_.corners.mean(1)[:, axis] > -18.0) for axis in (0, 2)]
    for number, half in enumerate(halves):
        whole_ = fill(half, holes_of(half), Filling.FLAT).mesh
        assert whole_.invented is not None
        write_mesh(tmp_path / f"{number}.ply", whole_)
    words = [
        "assemble",
        *(str(tmp_path / f"{k}.ply") for k in (0, 1)),
        "--trim",
        "none",
        "--out",
        str(tmp_path / "o.ply"),
        "--json",
    ]
    assert main(words) == 0
    said = json.loads(capsys.readouterr().out)
    assert sum("marked as invented are not joined" in note for note in said["notes"]) == 2
    made = read_mesh(tmp_path / "o.ply").scan
    assert isinstance(made, TriangleMesh)
    # Nothing of the flat lids, which cut off 12 mm of the ball, is on the surface.
    assert np.linalg.norm(made.points, axis=1).min() > RADIUS - 0.5
