"""Parts that are not the demo, from file to verdict: what a whole scan gives, and what half of one must not."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from benchmarks.starts import made_scan, parts

from helpers import JUDGEMENT, STATED, box_mesh, turned
from juxtum.errors import InputError
from juxtum.evaluate import Verdict, measure_deviation
from juxtum.evaluate.kinds import Given
from juxtum.evaluate.kinds.flatness import Flatness
from juxtum.exchange.cad import write_step
from juxtum.exchange.meshes import read_mesh, write_ply
from juxtum.geometry import PointCloud, RigidTransform, TriangleMesh
from juxtum.job import Evaluation, FileStore, Job, Runner, inputs_of
from juxtum.job.document import default_procedure
from juxtum.nominal import Nominal

POSE = turned((60, 10, -130), (50, 60, 70))


def evaluated(part: str, kind: str, folder: Path, seed: int = 5) -> Evaluation:
    """The usual procedure on a simulated scan of a part, from its files."""
    shape, files = parts()[part], FileStore()
    write_step(shape, folder / "n.step")
    scan = made_scan(Nominal.from_shape(shape), kind, np.random.default_rng(seed)).moved(POSE)
    write_ply(folder / "s.ply", scan)
    inputs = inputs_of(files.adopt(folder / "n.step"), files.adopt(folder / "s.ply"))
    job = Job(inputs=inputs, procedure=default_procedure(-0.2, 0.2), circumstances=STATED)
    return Runner(files).evaluation(job)


@pytest.mark.parametrize(
    ("part", "kind", "note"),
    [
        pytest.param("turned shaft", "full cloud", "turn about", marks=pytest.mark.long),
        ("part of 5 mm", "full mesh", ""),
    ],
)
def test_a_whole_scan_of_a_good_part_conforms(part: str, kind: str, note: str, tmp_path: Path) -> None:
    found = evaluated(part, kind, tmp_path)
    (line,) = found.ledger
    assert line.verdict is Verdict.CONFORMS, (line.reason, found.warnings)
    assert found.statistics.area_seen > 0.9 and found.statistics.rms < 0.03
    assert not found.doubts.objections and not found.deviation.foreign and not found.deviation.passed
    assert note in " ".join(found.warnings + found.alignment.notes)


@pytest.mark.parametrize(("part", "kind"), [("sheet bracket", "full mesh on table"), ("casting", "part mesh")])
def test_what_was_not_seen_decides_nothing_and_is_told(part: str, kind: str, tmp_path: Path) -> None:
    """The table takes its sheet's underside along, and nothing else; a third of a casting is a third."""
    found = evaluated(part, kind, tmp_path)
    (line,) = found.ledger
    assert line.verdict is Verdict.NOT_DECIDED and "seen" in line.reason
    assert 0.2 < found.statistics.area_seen < 0.8 and found.statistics.rms < 0.03
    assert not found.deviation.foreign and not found.deviation.passed


def test_faces_of_a_part_of_five_millimetres_have_room_for_tiles() -> None:
    """Averaged over 2 mm, none of them had a form."""
    drawn, mesh = Nominal.from_mesh(box_mesh((5.0, 3.0, 2.0))), box_mesh((5.0, 3.0, 2.0), cuts=6)
    off = np.random.default_rng(3).normal(0, 0.002, len(mesh.points))[:, None] * mesh.normals
    deviation = measure_deviation(TriangleMesh(mesh.points + off, mesh.triangles), drawn, RigidTransform.identity())
    for number in range(1, 7):
        line = Flatness(id="1", title="f", faces=(number,), limit=0.05).result(Given(deviation, JUDGEMENT))
        assert line.verdict is Verdict.CONFORMS and line.value <= line.expanded < 0.01, (number, line.reason)


def test_a_coarse_cloud_is_as_noisy_as_its_points() -> None:
    """A point in each tile: its flatness came out as 0.1 with an uncertainty of nothing."""
    drawn = Nominal.from_mesh(box_mesh((400.0, 300.0, 20.0)))
    x, y = np.meshgrid(np.arange(-190.0, 191, 10), np.arange(-140.0, 141, 10))
    top = np.column_stack([x.ravel(), y.ravel(), np.full(x.size, 10.0)])
    top[:, 2] += np.random.default_rng(2).normal(0, 0.02, x.size)
    heaps = np.concatenate([top, top + 1e-4, top - 1e-4])
    for points in (top, heaps):
        deviation = measure_deviation(PointCloud(points), drawn, RigidTransform.identity())
        face = int(deviation.faces[deviation.found][0]) + 1
        line = Flatness(id="1", title="f", faces=(face,), limit=0.1, least_seen=0).result(Given(deviation, JUDGEMENT))
        assert line.value <= line.expanded and line.expanded > 0.01


def test_points_that_lie_twice_count_once_and_are_told(tmp_path: Path) -> None:
    places = np.random.default_rng(1).uniform(0, 50, (400, 3)).round(1)
    np.savetxt(tmp_path / "c.xyz", np.concatenate([places, places[:37]]))
    file = read_mesh(tmp_path / "c.xyz")
    assert len(file.scan.points) == len(np.unique(places, axis=0))
    assert "lay in the place of another and went" in file.problems[0]
    np.savetxt(tmp_path / "one.xyz", np.repeat(places[:4], 9, axis=0))
    with pytest.raises(InputError, match="4 different points are too few to be a scan"):
        read_mesh(tmp_path / "one.xyz")
