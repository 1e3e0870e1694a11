"""Parts that are not the demo, from file to verdict: what a whole scan gives, and what half of one must not."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from benchmarks.starts import made_scan, parts

from helpers import STATED, turned
from juxtum.evaluate import Verdict
from juxtum.exchange.cad import write_step
from juxtum.exchange.meshes import write_ply
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
