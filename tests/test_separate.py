"""Many parts in one scan: each comes out whole, in order, whatever lies between and under them."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest
from benchmarks.joins import whole

from juxtum.assemble.separating import separate
from juxtum.cli.main import main
from juxtum.demo.clip import build_clip
from juxtum.errors import InputError
from juxtum.exchange.cad import write_step
from juxtum.exchange.mesh_writing import write_mesh
from juxtum.exchange.meshes import read_mesh
from juxtum.geometry import PointCloud, RigidTransform, TriangleMesh
from juxtum.nominal import Nominal

PLACES = [(x, y) for y in (0.0, 40.0) for x in (0.0, 60.0, 120.0)]


@pytest.fixture(scope="module")
def clip() -> TriangleMesh:
    return whole(Nominal.from_shape(build_clip()), 7_000)


def together(meshes: list[TriangleMesh]) -> TriangleMesh:
    points, triangles, first = [], [], 0
    for mesh in meshes:
        points.append(mesh.points)
        triangles.append(mesh.triangles + first)
        first += len(mesh.points)
    return TriangleMesh(np.concatenate(points), np.concatenate(triangles))


def tray(clip: TriangleMesh, places: list[tuple[float, float]] = PLACES, seed: int = 3) -> list[TriangleMesh]:
    """Clips turned a little, with noise."""
    rng = np.random.default_rng(seed)
    laid = []
    for x, y in places:
        move = RigidTransform.about(np.zeros(3), np.r_[x, y, 3.0, 0, 0, rng.normal(0, 0.1)])
        points = move.apply(clip.points) + rng.normal(0, 0.005, clip.points.shape)
        laid.append(TriangleMesh(points, clip.triangles))
    return laid


def table(z: float = 0.0) -> TriangleMesh:
    n = 160
    u, v = (k.ravel() for k in np.meshgrid(np.linspace(-60, 190, n), np.linspace(-50, 100, n), indexing="ij"))
    corner = (np.arange(n - 1)[:, None] * n + np.arange(n - 1)).ravel()
    triangles = np.concatenate(
        [np.stack([corner, corner + n, corner + 1], 1), np.stack([corner + 1, corner + n, corner + n + 1], 1)]
    )
    return TriangleMesh(np.stack([u, v, np.full(n * n, z)], 1), triangles)


def scraps(count: int) -> list[TriangleMesh]:
    rng = np.random.default_rng(5)
    corners = np.array([[0.0, 0, 0], [0.4, 0, 0], [0, 0.4, 0]])
    return [
        TriangleMesh(corners + np.array([rng.uniform(-50, 180), rng.uniform(-45, -35), 20.0]), np.array([[0, 1, 2]]))
        for _ in range(count)
    ]


@pytest.mark.parametrize("count", [None, 6])
def test_each_part_comes_out_whole_and_in_rows(clip: TriangleMesh, count: int | None) -> None:
    laid = tray(clip)
    made = separate(together([*laid, *scraps(30)]), count)
    assert len(made.parts) == 6 and made.notes == () and made.spare == pytest.approx(30 * 0.08, rel=0.01)
    for part, true in zip(made.parts, laid, strict=True):
        assert len(part.points) == len(true.points) and np.abs(part.bounds - true.bounds).max() < 1e-9
    cloud = separate(PointCloud(together(laid).points), count)
    assert sorted(len(p.points) for p in cloud.parts) == sorted(len(t.points) for t in laid)


def test_a_piece_that_came_off_goes_with_its_part(clip: TriangleMesh) -> None:
    """The hook seen past the ring, a millimetre from the rest: one part, not two."""
    split = clip.corners.mean(1)[:, 2] > 20
    lower, upper = (
        clip.kept_triangles(~split),
        clip.kept_triangles(split).moved(RigidTransform.translation([0, 0, 1.0])),
    )
    whole_clip = together([lower, upper])
    made = separate(together([whole_clip.moved(RigidTransform.translation([60.0 * k, 0, 0])) for k in range(3)]), 3)
    assert [len(part.points) for part in made.parts] == [len(whole_clip.points)] * 3


def test_parts_that_touch_are_told(clip: TriangleMesh) -> None:
    laid = tray(clip)
    points = np.array(laid[1].points)
    bridge = TriangleMesh(np.array([points[0], points[1], laid[0].points[0]]), np.array([[0, 1, 2]]))
    joined = together([laid[0], laid[1], bridge])
    keys = np.round(joined.points, 9)
    _, first, inverse = np.unique(keys, axis=0, return_index=True, return_inverse=True)
    welded = TriangleMesh(joined.points[first], inverse.reshape(-1)[joined.triangles])
    made = separate(together([welded, *laid[2:]]))
    assert len(made.parts) == 5 and "2.0 times the area of the usual one: it may be parts that touch" in made.notes[0]


@pytest.mark.parametrize(
    ("count", "sentence"), [(9, "there are 6 pieces of some size, not 9 parts"), (1, "only one piece")]
)
def test_what_cannot_be_told_apart_says_so(clip: TriangleMesh, count: int, sentence: str) -> None:
    with pytest.raises(InputError, match=sentence):
        separate(together(tray(clip)), count)
    with pytest.raises(InputError, match="only one piece"):
        separate(clip)


@pytest.mark.long
def test_a_lot_goes_through_one_procedure(
    clip: TriangleMesh, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    """From a tray on its table to a verdict for each clip, one of which is bent."""
    laid = tray(clip)
    bent = np.array(laid[4].points)
    middle = bent.mean(0)
    bent[:, 2] += 0.004 * np.maximum(bent[:, 0] - middle[0], 0) ** 2
    laid[4] = TriangleMesh(bent, laid[4].triangles)
    write_mesh(tmp_path / "tray.stl", together([*laid, table()]))
    assert (
        main(["separate", str(tmp_path / "tray.stl"), "--scan-unit", "mm", "--out", str(tmp_path / "lot"), "--json"])
        == 0
    )
    made = json.loads(capsys.readouterr().out)
    assert made["schema"] == "juxtum-parts-1" and [p["file"] for p in made["parts"]] == [
        f"part {k}.ply" for k in range(1, 7)
    ]
    assert len(read_mesh(tmp_path / "lot" / "part 2.ply").scan.points) == made["parts"][1]["points"]
    write_step(build_clip(), tmp_path / "clip.step")
    how = [
        "--scan-unit",
        "mm",
        "--trim",
        "none",
        "--upper",
        "0.2",
        "--lower",
        "-0.2",
        "--instrument",
        "handheld",
        "--json",
    ]
    verdicts = []
    for number in (2, 5):
        given = ["inspect", str(tmp_path / "clip.step"), str(tmp_path / "lot" / f"part {number}.ply"), *how]
        assert main([*given, "--out", str(tmp_path / f"out {number}")]) == 0
        verdicts.append(json.loads(capsys.readouterr().out)["characteristics"][0]["verdict"])
    assert verdicts == ["conforms", "does not conform"]
    assert (
        main(["separate", str(tmp_path / "lot" / "part 2.ply"), "--scan-unit", "mm", "--out", str(tmp_path / "no")])
        == 2
    )
    assert "there is only one piece in it" in capsys.readouterr().err
