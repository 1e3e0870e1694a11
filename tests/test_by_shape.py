"""Scans from anywhere are laid onto each other by their shape alone, and say so where it does not tell."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest
from benchmarks.joins import anywhere, joined_parts, smooth_lump, view_of, views, whole, worst_corner

from juxtum.align.scans import _shape_kernels as kernels
from juxtum.align.scans.body import PLENTY, Body, body_of, fit_of, fits_by_shape, looks_of
from juxtum.align.scans.edges import SILENT
from juxtum.align.scans.join import join
from juxtum.align.scans.proposing import BY_SHAPE, PROPOSED, Choice
from juxtum.align.scans.sheet import Sheet, make_sheet
from juxtum.align.scans.sight import least_missed, sights_of
from juxtum.align.scans.together import settle_together, spread_of
from juxtum.align.scans.work import Joining
from juxtum.cli.main import main
from juxtum.demo import solids
from juxtum.exchange.mesh_writing import write_mesh
from juxtum.geometry import PointCloud, RigidTransform, TriangleMesh
from juxtum.geometry.rays import RayCaster
from juxtum.nominal import Nominal


@pytest.fixture(scope="module")
def casting() -> Nominal:
    return Nominal.from_shape(joined_parts()["casting"])


@pytest.fixture(scope="module")
def brought(casting: Nominal) -> tuple[list[TriangleMesh], list[RigidTransform]]:
    """Eight views of it, each wherever it was put down, and their true ways back."""
    return views(casting, 5)


@pytest.fixture(scope="module")
def sheets(brought: tuple[list[TriangleMesh], list[RigidTransform]]) -> list[Sheet]:
    return [make_sheet(scan, str(k)) for k, scan in enumerate(brought[0])]


def seen(shape: object, directions: list[tuple[float, float, float]], seed: int) -> tuple[list[TriangleMesh], Nominal]:
    """Views of a part from some sides, each put down anywhere."""
    nominal, rng = Nominal.from_shape(shape), np.random.default_rng(seed)
    mesh = whole(nominal, 40_000)
    caster = RayCaster(mesh)
    made = [
        view_of(mesh, caster, np.array(d) / np.linalg.norm(d), rng).moved(anywhere(rng, nominal.diagonal))
        for d in directions
    ]
    return made, nominal


def test_views_from_anywhere_find_each_other(
    casting: Nominal, brought: tuple[list[TriangleMesh], list[RigidTransform]], sheets: list[Sheet]
) -> None:
    """Three from above, one from below: the edges decide what the faces leave open."""
    chosen = (1, 3, 0, 4)
    made = join([sheets[k] for k in chosen], (), Joining(by_shape=True))
    poses = [pose for pose in made.poses if pose is not None]
    assert len(poses) == len(chosen), made.reasons
    assert worst_corner(poses, [brought[1][k] for k in chosen], casting) < 0.05 + casting.diagonal / 4000
    assert not any(PROPOSED in reason for reason in made.reasons), made.reasons
    assert sum(reason.startswith(BY_SHAPE) for reason in made.reasons) == len(chosen) - 1


def test_edges_lie_on_edges_at_the_right_pose_only(
    brought: tuple[list[TriangleMesh], list[RigidTransform]], sheets: list[Sheet]
) -> None:
    looks = [looks_of(sheet) for sheet in sheets[:2]]
    one, two = (body_of(looks, {k: RigidTransform.identity()}) for k in (0, 1))
    true = brought[1][1].inverse @ brought[1][0]
    right = fit_of(one, two, true)
    assert right.edges.astray <= 0.005 * right.edges.matched and right.edges.agreement > 0.7
    assert right.missed < 0.1 and right.hidden < 0.005 and not right.objection
    # Turned a little about the normal of the face that both see: the faces agree as well as before.
    about = RigidTransform.about(two.sheet.centre, np.concatenate([np.zeros(3), 0.1 * two.sheet.normals.mean(0)]))
    wrong = fit_of(one, two, about @ true)
    assert wrong.edges.astray > 20 and wrong.worth < 0.3 * right.worth


def test_edges_are_found_where_they_are() -> None:
    """Of a box seen at a corner: a tenth of a spacing from its edges, and none on its faces, whatever slivers it is made of."""
    mesh = whole(Nominal.from_shape(solids.box((0, 0, 0), (60, 40, 20))), 30_000)
    view = view_of(mesh, RayCaster(mesh), np.ones(3) / np.sqrt(3), np.random.default_rng(3))
    sheet = make_sheet(view, "box")
    edges = sheet.edges
    sharp = edges.points[: edges.sharp]
    far = np.sort(np.abs(sharp - [60, 40, 20]), axis=1)[:, :2]
    assert edges.sharp > 100 and far.max() < 1.6 * sheet.spacing
    assert np.median(far) < 0.1 * sheet.spacing
    assert np.abs(edges.along[: edges.sharp]).max(1).min() > 0.9


def test_edges_hold_what_faces_leave_open() -> None:
    """Two views of a box have its top in common: its outline lays them, and what it may deceive by counts."""
    mesh, rng = whole(Nominal.from_shape(solids.box((0, 0, 0), (60, 40, 20))), 30_000), np.random.default_rng(3)
    caster = RayCaster(mesh)
    seen = [view_of(mesh, caster, np.array(d) / np.sqrt(3), rng) for d in ((1, 1, 1), (-1, -1, 1))]
    sheets = [make_sheet(scan, str(k)) for k, scan in enumerate(seen)]
    begun = [RigidTransform.identity(), RigidTransform.translation(np.array([0.3, -0.2, 0.0]))]
    for mine, off in ((sheets, 0.3), ([sheet.edged for sheet in sheets], 0.02)):
        poses = begun
        for _ in range(4):
            settled = settle_together(mine, poses, [(0, 1)], 0, 2.0)
            poses = list(settled.poses)
        assert settled.free[1] is not None
        there = poses[1].apply(seen[1].points) - seen[1].points
        assert off - 0.02 < np.abs(there).max() < off + 0.05
    assert spread_of(mine, poses, settled.covariance) > 0.05 * sheets[0].spacing


def test_a_cloud_whose_points_lie_in_lines_knows_how_dense_it_is() -> None:
    """Five times closer along lines than across them: a scanner's lines are no gaps."""
    x, y = np.meshgrid(np.arange(0, 60, 0.2), np.arange(0, 40, 1.0))
    sheet = make_sheet(PointCloud(np.stack([x, y, 0 * x], -1).reshape(-1, 3)), "lines")
    assert 0.3 < sheet.spacing < 1.0


def test_compiled_loops_count_as_the_rest_does() -> None:
    """Their numbers are their own, since what was compiled knows its own file only."""
    assert (kernels.SILENT, kernels.ENOUGH) == (SILENT, PLENTY)


def test_what_a_scan_should_have_seen(casting: Nominal) -> None:
    mesh = whole(casting, 30_000)
    towards = np.array([1.0, 1, 1]) / np.sqrt(3)
    sheet = make_sheet(view_of(mesh, RayCaster(mesh), towards, np.random.default_rng(1)), "view")
    sights = sights_of(sheet)
    assert max(float(sight.frame[2] @ towards) for sight in sights) > 0.9
    missed, able = least_missed(sheet.points, sheet.normals, sights)
    assert missed < 0.03 * able
    beside, able = least_missed(sheet.points + np.array([15.0, -15, 0]), sheet.normals, sights)
    assert beside > 0.1 * able


def test_what_the_shape_does_not_tell_is_said() -> None:
    """A plain plate fits turned over just as well."""
    scans, _ = seen(solids.box((0, 0, 0), (60, 40, 6)), [(1, 1, 1), (-1, 1, 1), (1, -1, 1)], 2)
    made = join([make_sheet(scan, str(k)) for k, scan in enumerate(scans)], (), Joining(by_shape=True))
    placed = [reason for pose, reason in zip(made.poses, made.reasons, strict=True) if pose is not None]
    assert sum(PROPOSED in reason for reason in placed) >= len(placed) - 1, made.reasons


def test_what_repeats_is_not_taken_for_sure() -> None:
    """Two views of a flange of six holes alike but for a small one: where that is not seen by both, a sixth of a turn fits as well."""
    scans, truths = views(Nominal.from_shape(joined_parts()["bolted flange"]), 5)
    looks = [looks_of(make_sheet(scans[k], str(k))) for k in (4, 7)]
    other, one = (Body({k: RigidTransform.identity()}, {k: looks[k]}, looks[k].sheet) for k in (0, 1))
    fits = fits_by_shape(one, other)
    choice = Choice((one, other), tuple(fit for fit in fits if not fit.objection))
    true, ends = truths[4].inverse @ truths[7], one.sheet.points[::100]
    assert any(np.linalg.norm(fit.move.apply(ends) - true.apply(ends), axis=1).max() < 0.5 for fit in choice.fits)
    assert not choice.is_sure and "fits nearly as well turned by" in choice.doubt


def test_a_part_without_edges_is_joined_by_its_faces() -> None:
    """Four views of a smooth lump: where each ends is no edge of the part."""
    lump = smooth_lump()
    scans, truths = views(lump, 5, 4)
    made = join([make_sheet(scan, str(k)) for k, scan in enumerate(scans)], (), Joining(by_shape=True))
    poses = [pose for pose in made.poses if pose is not None]
    assert len(poses) == 4 and not any(PROPOSED in reason for reason in made.reasons), made.reasons
    assert worst_corner(poses, truths, lump) < 0.05


def test_from_the_command_line(
    tmp_path: Path, brought: tuple[list[TriangleMesh], list[RigidTransform]], capsys: pytest.CaptureFixture[str]
) -> None:
    """Without a word more than the files; left alone on request."""
    files = []
    for k in (1, 3):
        files.append(str(tmp_path / f"view{k}.ply"))
        write_mesh(Path(files[-1]), brought[0][k])
    out = ["--out", str(tmp_path / "both.ply"), "--json", "--spacing", "1.5"]
    assert main(["assemble", *files, *out, "--strict"]) == 0
    document = json.loads(capsys.readouterr().out)
    assert [scan["tied"] for scan in document["scans"]] == [True, True]
    assert any("on one other scan only" in scan["reason"] for scan in document["scans"])
    poses = [RigidTransform(np.array(scan["pose"])) for scan in document["scans"]]
    relative, true = poses[1].inverse @ poses[0], brought[1][3].inverse @ brought[1][1]
    there = brought[0][1].points[::50]
    assert np.linalg.norm(relative.apply(there) - true.apply(there), axis=1).max() < 0.2
    assert main(["assemble", *files, *out, "--no-by-shape"]) == 2
    assert "no two of the scans overlap as they lie" in capsys.readouterr().err
