"""Going through the worst places of the map: injected bumps and dents are found, noise is not."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QFileDialog, QLabel

from hand import Hand, close, opened
from helpers import box_mesh
from juxtum.align.result import no_alignment
from juxtum.errors import InputError
from juxtum.evaluate import Deviation, measure_deviation
from juxtum.evaluate.extrema import find_peaks
from juxtum.exchange.mesh_writing import write_mesh
from juxtum.geometry import TriangleMesh
from juxtum.guide.findings import Key
from juxtum.guide.readings import grid_words
from juxtum.job import Job
from juxtum.job.document import Brief, default_procedure
from juxtum.job.roles import inputs_of
from juxtum.job.steps import AsScanned, Decide, GridStep, read_readings
from juxtum.nominal import Nominal

SIZE = (120.0, 80.0, 10.0)


def bumpy(bumps: list[tuple[float, float, float]], noise: float, slope: float = 0.0) -> TriangleMesh:
    """A plate's top with bumps (x, y, height) 5 mm wide on it, on a slope."""
    x, y = np.meshgrid(np.arange(-59.75, 60, 0.5), np.arange(-39.75, 40, 0.5), indexing="ij")
    rng = np.random.default_rng(4)
    z = SIZE[2] / 2 + rng.normal(0, noise, x.shape) + slope * x
    for at_x, at_y, height in bumps:
        z += height * np.exp(-((x - at_x) ** 2 + (y - at_y) ** 2) / (2 * 5.0**2))
    rows = np.arange(x.size).reshape(x.shape)
    a, b, c, d = (
        rows[i, j].ravel()
        for i, j in ((np.s_[:-1], np.s_[:-1]), (np.s_[1:], np.s_[:-1]), (np.s_[1:], np.s_[1:]), (np.s_[:-1], np.s_[1:]))
    )
    return TriangleMesh(
        np.stack([x, y, z], -1).reshape(-1, 3), np.concatenate([np.stack([a, b, c], 1), np.stack([a, c, d], 1)])
    )


def plate_with(bumps: list[tuple[float, float, float]], noise: float, slope: float = 0.0) -> Deviation:
    drawn = Nominal.from_mesh(box_mesh(SIZE))
    return measure_deviation(bumpy(bumps, noise, slope), drawn, no_alignment().transform)


def test_each_bump_is_one_place_and_the_worst_comes_first() -> None:
    bumps = [(-30.0, -20.0, 0.30), (30.0, 20.0, 0.20), (0.0, 0.0, -0.25), (-12.0, -20.0, 0.22)]
    peaks = find_peaks(plate_with(bumps, 0.015), -0.2, 0.2)
    assert len(peaks) == 4
    for peak, (x, y, height) in zip(peaks, sorted(bumps, key=lambda b: -abs(b[2])), strict=True):
        assert np.hypot(*(peak.place[:2] - (x, y))) < 2.5
        assert peak.value == pytest.approx(height, abs=0.05) and abs(peak.normal[2]) == pytest.approx(1)
        assert (peak.excess > 0) == (abs(peak.value) > 0.2)


def test_worst_is_seen_from_the_middle_of_the_limits() -> None:
    """Of stock between 0 and 0.5 a place with 0.05 left is the worst, though it lies on the nominal nearly."""
    lifted = bumpy([(-30.0, -20.0, -0.2), (30.0, 20.0, 0.1)], 0.01)
    drawn = Nominal.from_mesh(box_mesh(SIZE))
    stock = TriangleMesh(np.add(lifted.points, [0.0, 0.0, 0.25]), lifted.triangles)
    peaks = find_peaks(measure_deviation(stock, drawn, no_alignment().transform), 0.0, 0.5)
    assert peaks[0].value == pytest.approx(0.05, abs=0.03) and peaks[0].place[0] < 0


def test_neither_noise_nor_a_slope_makes_places() -> None:
    assert find_peaks(plate_with([], 0.02), -0.1, 0.1) == ()
    assert len(find_peaks(plate_with([], 0.01, slope=0.002), -0.1, 0.1)) == 2, (
        "a slope has a highest and a lowest place"
    )


def test_the_worst_places_are_gone_through_in_the_window(small_desk: Hand) -> None:
    d = small_desk
    d.go(Key.MEASURE)
    panel = d.window.measure.worst
    # The bracket lies on itself: nothing stands out, and that is said; clicked twice without waiting.
    QTest.mouseClick(d.named("Next place"), Qt.MouseButton.LeftButton)
    QTest.mouseClick(d.named("Next place"), Qt.MouseButton.LeftButton)
    words = d.named("Where it is worst", QLabel)
    d.wait(lambda: "No place stands out" in words.text())  # type: ignore[attr-defined]
    assert panel.now is None and not d.named("Keep it").isEnabled()
    d.press(Qt.Key.Key_W)
    d.wait()
    assert panel.now is None


def test_a_place_is_looked_at_and_kept(application: QApplication, tmp_path: Path) -> None:
    window = opened(tmp_path)
    files, d = window.session.files, Hand(window)
    write_mesh(tmp_path / "n.ply", box_mesh(SIZE))
    write_mesh(tmp_path / "s.ply", bumpy([(-30.0, -20.0, 0.3), (30.0, 20.0, -0.25)], 0.01))
    found = inputs_of(files.adopt(tmp_path / "n.ply"), files.adopt(tmp_path / "s.ply"))
    job = Job(brief=Brief(part="A"), inputs=found, procedure=default_procedure())
    window.session.start(job.with_step(AsScanned(name="a")).with_step(Decide(alignment="a")))
    d.wait(lambda: window.session.derived.evaluation is not None)
    d.go(Key.MEASURE)
    before = window.view.stage.eye.focus
    d.press(Qt.Key.Key_W)
    panel = window.measure.worst
    d.wait(lambda: panel.now is not None)
    assert panel.at == 0 and len(panel.peaks) == 2 and panel.peaks[0].value == pytest.approx(0.3, abs=0.03)
    assert np.linalg.norm(window.view.stage.eye.focus - before) > 1 and window.view.pins[-1].text == "1"
    d.press(Qt.Key.Key_W, Qt.KeyboardModifier.ShiftModifier)
    assert panel.at == 1, "round again"
    d.click("Keep it")
    reading = window.session.derived.evaluation.readings[-1]  # type: ignore[union-attr]
    assert reading.deviation == pytest.approx(-0.25, abs=0.03)
    window.measure.set_limits(-0.3, 0.3)
    d.wait()
    assert panel.now is None, "other limits, other places"
    close(window)


READINGS_BAD = [
    ("name,X,Y\nP1,1,2\n", "the list has no column Z"),
    ("P1,1,2,three\n", "line 1 is not a name and three numbers"),
    ("name,X,Y,Z\nP1,1,2,3\nP1,4,5,6\n", "line 3: there are two readings 'P1'"),
    ("".join(f"P{k},1,2,3\n" for k in range(501)), "the list has 501 readings, 500 are the most"),
    ("name,X,Y,Z\n", "the list has no readings"),
]


@pytest.mark.quick
@pytest.mark.parametrize(("text", "said"), READINGS_BAD)
def test_a_list_of_readings_that_cannot_be_read_is_said(tmp_path: Path, text: str, said: str) -> None:
    (tmp_path / "p.csv").write_text(text, "utf-8")
    with pytest.raises(InputError, match=said):
        read_readings(tmp_path / "p.csv")


def test_readings_come_of_a_list_and_a_grid_says_how_much_stock(
    small_desk: Hand, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    d, session = small_desk, small_desk.window.session
    d.go(Key.MEASURE)
    (tmp_path / "p.csv").write_text("name;X;Y;Z;group\n1;45;25;10;pad\n2;30;20;10;\n", "utf-8")
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_: (str(tmp_path / "p.csv"), ""))
    d.click("Readings from a list\u2026")
    d.click("Readings from a list\u2026")
    d.wait(lambda: len(session.derived.evaluation.readings) == 2)  # type: ignore[union-attr]
    assert [r.label for r in session.derived.evaluation.readings] == ["pad 1", "2"], "brought twice they are there once"  # type: ignore[union-attr]
    session.undo()
    session.undo()
    d.wait(lambda: not session.derived.evaluation.readings)  # type: ignore[union-attr]
    session.add(GridStep(label="pad", face=1, spacing=8.0), "grid")
    d.wait(lambda: len(session.derived.evaluation.readings) > 2)  # type: ignore[union-attr]
    first = session.derived.evaluation.readings[0]  # type: ignore[union-attr]
    d.window.measure.look_at_reading(first.label)
    words = d.named("About the grid", QLabel).text()  # type: ignore[attr-defined]
    count = sum(r.is_seen for r in session.derived.evaluation.readings)  # type: ignore[union-attr]
    assert words.startswith("pad: ") and f"over {count * 64} mm\u00b2" in words and "mean" in words
    stock = [replace(first, label="pad.1", deviation=0.5), replace(first, label="pad.2", deviation=1.5)]
    assert grid_words(GridStep(label="pad", face=1, spacing=10.0), tuple(stock)) == (
        "pad: +0.500 to +1.500, mean +1.000 mm; +200 mm\u00b3 over 200 mm\u00b2."
    )
