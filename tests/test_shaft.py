"""The turned demo part: what was made wrong on purpose is found, from the axis of both journals; and a keyway's symmetry to it."""

from __future__ import annotations

import numpy as np
import pytest
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QCheckBox

from hand import Hand
from helpers import JUDGEMENT
from juxtum.align.result import no_alignment
from juxtum.demo import shaft_job as made
from juxtum.demo.shaft import CONE, JOURNAL, KEY, SEAT, build_shaft
from juxtum.evaluate import Verdict, measure_deviation
from juxtum.evaluate.drawn.references import Datum
from juxtum.evaluate.kinds import Given
from juxtum.evaluate.kinds.location import Symmetry
from juxtum.geometry import Cylinder, TriangleMesh
from juxtum.guide.findings import Key
from juxtum.job import FileStore, Runner
from juxtum.job.outcomes import Evaluation
from juxtum.job.sources import evaluation
from juxtum.nominal import Nominal


@pytest.fixture(scope="module")
def found() -> Evaluation:
    files = FileStore()
    answer = Runner(files).outcome(made.shaft_job(files), evaluation("best fit"))
    assert isinstance(answer, Evaluation)
    return answer


def axis_at(height: float) -> np.ndarray:
    """Where the common axis of the journals is, from the axis of the first, mm."""
    first, second = 15.5, (CONE[2] + 161.0) / 2
    return np.array(made.SWAY) * (height - first) / (second - first)


def test_what_was_made_wrong_is_found(found: Evaluation) -> None:
    lines = {line.line.id: line for line in found.ledger}
    seat = [2 * np.linalg.norm(np.array(made.OFF) - axis_at(z)) for z in (46.0, CONE[0])]
    # The flat walls of the keyway end half its width before its round ends.
    skew = made.ASKEW * (KEY[2] - KEY[1] - KEY[0]) / (KEY[2] - KEY[1])
    truths = {
        "1": 2 * (JOURNAL - made.THINNER["drive"]), "2": 2 * (JOURNAL - made.THINNER["paddle"]),
        "4": 2 * (SEAT + made.WIDER), "5": 2 * made.LOBES, "7": max(seat), "11": 2 * 22 * made.TILT, "12": 12.0,
        "13": 82 + made.LONGER, "17": 8.0, "18": 2 * skew,
        "14": 2 * np.degrees(np.arctan2(CONE[1] - CONE[3] - made.CONED, CONE[2] - CONE[0])),
    }  # fmt: skip
    for number, true in truths.items():
        line = lines[number]
        assert abs(line.value - true) <= line.expanded + 1e-9, (
            number,
            line.line.title,
            line.value,
            true,
            line.expanded,
        )
    assert not [line.reason for line in found.ledger if not np.isfinite(line.value)], "every line has a value"


def test_half_of_it_is_in_trouble_of_some_kind(found: Evaluation) -> None:
    verdicts = [line.verdict for line in found.ledger]
    assert len(verdicts) == 21 and verdicts.count(Verdict.DOES_NOT_CONFORM) >= 2
    assert verdicts.count(Verdict.NOT_DECIDED) >= 2 and verdicts.count(Verdict.CONFORMS) >= 12
    kinds = {line.line.kind for line in found.ledger}
    assert {"circular run-out", "total run-out", "coaxiality", "symmetry", "cylindricity"} <= kinds


@pytest.mark.parametrize(("offset", "skew"), [(0.08, 0.0), (0.0, 0.0), (0.05, 0.06)])
def test_a_keyway_off_the_axis_turns_away_what_can_be_turned(offset: float, skew: float) -> None:
    """Of a parallel offset only what the depth of the keyway shows of it is left; a skew along the axis stays."""
    drawn = Nominal.from_shape(build_shaft())
    points = np.array(drawn.samples.mesh.points)
    walls = (
        (np.abs(np.abs(points[:, 1]) - KEY[0] / 2) < 0.01)
        & (points[:, 0] > KEY[3] - 0.01)
        & (points[:, 2] > KEY[1])
        & (points[:, 2] < KEY[2])
    )
    points[walls, 1] += offset + skew * (points[walls, 2] - 75) / 11
    scan = TriangleMesh(points, drawn.samples.mesh.triangles)
    given = Given(measure_deviation(scan, drawn, no_alignment().transform), JUDGEMENT)
    common = Datum(letter="A-B", of=((3,), (17,)), association="gauss", is_common=True)
    asked = {"id": "1", "title": "Keyway", "limit": 0.1, "features": (((11,), (14,)),), "datums": (common,)}
    line = Symmetry.model_validate(asked).result(given)
    # Over the depth from 11.5 to 15.5 mm the turned plane misses an offset by so much at both ends.
    least, most = KEY[3], np.sqrt(SEAT**2 - KEY[0] ** 2 / 4)
    left = offset * (most - least) / (most + least)
    assert line.value == pytest.approx(2 * (left + skew), abs=0.015)
    assert "turned about it to where it lies best" in line.measured.meaning


def test_it_opens_from_the_menu(small_desk: Hand) -> None:
    d = small_desk
    d.window.menus.actions["open demo shaft"].trigger()
    d.wait(
        lambda: (
            d.window.session.derived.evaluation is not None
            and len(d.window.session.job.procedure.characteristics) == 21
        )
    )
    d.go(Key.MEASURE)
    assert d.window.session.job.title == "PS-14 paddle shaft" and "do not conform" in d.finding(Key.MEASURE)
    # Both journals are one datum: the second is clicked as belonging to the first.
    d.go(Key.ALIGN)
    d.press(Qt.Key.Key_1)
    d.click("Pick datums")
    journals = [
        f for f in d.window.session.derived.nominal.faces
        if isinstance(f.feature, Cylinder) and abs(f.feature.radius - JOURNAL) < 1e-6
    ]  # fmt: skip
    assert len(journals) == 2
    for face in journals:
        x, y, z = face.feature.anchored(face.centre).point  # type: ignore[union-attr]
        d.click_at((x, y - JOURNAL, z))
        same = d.named("Next face belongs to the same datum", QCheckBox)
        QTest.mouseClick(same, Qt.MouseButton.LeftButton, pos=QPoint(8, same.height() // 2))
    assert d.window.align.datums.groups == [(journals[0].number, journals[1].number)]
    d.click("Lock to them")
    d.wait()
    assert d.finding(Key.ALIGN).startswith("datums A,") and d.window.session.derived.evaluation.alignment.locked["Tx"]
