"""The colours of the map, and the map as shares of each face's own tolerance."""

from __future__ import annotations

from dataclasses import replace
from functools import partial

import numpy as np
import pytest
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QLabel
from scipy.spatial import Delaunay
from vtkmodules.util.numpy_support import vtk_to_numpy

from hand import Hand
from helpers import box_mesh
from juxtum.align.result import no_alignment
from juxtum.desk.widgets import LengthField
from juxtum.evaluate import measure_deviation
from juxtum.geometry import RigidTransform, TriangleMesh
from juxtum.guide.findings import Key
from juxtum.job import Job
from juxtum.job.shares import as_shares, limits_of
from juxtum.job.sources import evaluation
from juxtum.job.steps import BestFit, Decide, Measure
from juxtum.look import LIGHT, rgb
from juxtum.nominal import Nominal
from juxtum.scene.map_layers import MapGiven, draw_map
from juxtum.scene.palette import STYLES, MapScale, colours

pytestmark = pytest.mark.filterwarnings("error")
PAPER = np.array(rgb(LIGHT.in_tolerance))


@pytest.mark.parametrize("style", STYLES)
def test_what_conforms_is_paper_and_colours_do_not_jump_within(style: str) -> None:
    scale = MapScale(-0.1, 0.3, style)
    low, middle, high, lowest, highest = colours([-0.1, 0.1, 0.3, -0.7, 0.9], scale)
    assert np.allclose(middle, PAPER)
    assert np.allclose(low, PAPER) and np.allclose(high, PAPER) if style != "graded" else not np.allclose(low, PAPER)
    assert np.allclose(lowest, PAPER) == (style == "above") and np.allclose(highest, PAPER) == (style == "below")
    values = np.linspace(-0.7, 0.9, 1601)
    jumps = np.abs(np.diff(colours(values, scale), axis=0)).max(1)
    assert (jumps.max() < 0.02) == (style == "graded")
    if style == "verdict":
        assert len(np.unique(colours(values, scale), axis=0)) == 3


def test_shares_are_of_the_tolerance_of_the_face(small_desk: Hand) -> None:
    d, session = small_desk, small_desk.window.session
    d.go(Key.MEASURE)
    limits = d.window.measure.limits
    # Two choices at once: neither is lost.
    limits._change("colours", colours="graded")
    limits._change("what it shows", shown="share")
    d.wait(lambda: session.derived.map_unit == "share")
    measure = session.job.procedure.measure
    assert (measure.colours, measure.shown) == ("graded", "share")
    assert session.derived.scale == MapScale(-1.0, 1.0, "graded") and d.window.view.legend.unit == "share"  # type: ignore[union-attr]
    evaluation = session.derived.evaluation
    assert evaluation is not None
    deviation = evaluation.deviation
    shares = as_shares(session.job, deviation)
    row = int(np.flatnonzero(deviation.found)[0])
    low, high = limits_of(session.job, int(deviation.faces[row]) + 1) or (np.nan, np.nan)
    assert shares.distances[row] == pytest.approx((deviation.distances[row] - (low + high) / 2) / ((high - low) / 2))
    # The map's own limits, its statistics and all verdicts stay in mm.
    assert (measure.lower, measure.upper) == (-0.2, 0.2) and abs(evaluation.statistics.rms) < 1e-3
    assert not d.window.measure.limits._nothing.isVisible()
    d.window.measure.limits._change("lines", lines=0.1)
    for step in session.job.procedure.characteristics:
        session.edit("bare", partial(Job.without, step=step))
    d.wait(lambda: not session.job.procedure.characteristics)
    assert d.window.measure.limits._nothing.isVisible(), "a share of nothing, said and drawn without an error"
    assert not d.window.view.stage.has("isolines") and not d.window.notice.isVisible()
    bare = session.job
    for step in bare.procedure.characteristics:
        bare = bare.without(step)
    assert np.isnan(as_shares(bare, deviation).distances).all(), "no tolerance, no share"


def test_lines_of_the_same_value_lie_where_it_is(small_desk: Hand) -> None:
    """On a slope of 0.01 a millimetre lines at each 0.1 lie 10 mm apart; in the window none are drawn until they are asked for."""
    x, y = (v.ravel() for v in np.meshgrid(np.arange(-30.5, 31), np.arange(0.0, 20)))
    points = np.stack([x, y, 0.01 * x], axis=1)
    mesh = TriangleMesh(points, Delaunay(points[:, :2]).simplices)
    drawn = Nominal.from_mesh(box_mesh((80.0, 60.0, 2.0)).moved(RigidTransform.translation([0, 0, -1])))
    deviation = measure_deviation(mesh, drawn, no_alignment().transform)
    given = MapGiven(deviation, mesh.triangles, mesh.normals, (-0.2, 0.2), lambda _, __, make: make(), every=0.1)
    lines = draw_map(given)["isolines"]
    assert lines is not None and draw_map(replace(given, every=None))["isolines"] is None
    found = vtk_to_numpy(lines.data.GetPoints().GetData())[:, 0]
    assert np.abs(found / 10 - np.round(found / 10)).max() < 0.15 and set(np.round(found / 10)) >= {-2, -1, 0, 1, 2}
    small_desk.go(Key.MEASURE)
    stage = small_desk.window.view.stage
    assert not stage.has("isolines")
    small_desk.window.measure.limits._change("lines", lines=0.05)
    small_desk.wait(lambda: small_desk.window.session.job.procedure.measure.lines == 0.05)
    assert small_desk.named("Lines every", LengthField).value == 0.05  # type: ignore[attr-defined]


def test_two_alignments_stand_side_by_side_under_one_camera(small_desk: Hand) -> None:
    d, window = small_desk, small_desk.window
    window.session.add(BestFit(name="one", start="a"), "one")
    window.session.add(BestFit(name="two", start="a", trim=0.2), "two")
    window.session.add(Decide(alignment="two"), "in force")
    d.wait(lambda: window.session.derived.comparison is not None)
    d.go(Key.ALIGN)
    beside = window.align.beside
    # Opened, shut and opened again without waiting.
    for _ in range(3):
        QTest.mouseClick(d.named("Side by side"), Qt.MouseButton.LeftButton)
    d.wait(lambda: beside.is_open and all(stage.stage.has("map") for stage in beside.stages))
    left, right = beside.stages
    QTest.mousePress(right, Qt.MouseButton.LeftButton, pos=right.rect().center())
    QTest.mouseMove(right, pos=right.rect().center() + QPoint(60, 25))
    QTest.mouseRelease(right, Qt.MouseButton.LeftButton, pos=right.rect().center() + QPoint(60, 25))
    d.wait()
    assert np.allclose(left.stage.eye.towards, right.stage.eye.towards)
    assert not np.allclose(left.stage.eye.towards, window.view.stage.eye.towards), "turned with the pointer"
    assert d.named("Left alignment").currentText() == "one" and d.named("Right alignment").currentText() == "two"  # type: ignore[attr-defined]
    beside._choose(0, "a")
    d.wait()
    assert beside._names == ["a", "two"]
    d.press(Qt.Key.Key_Escape)
    assert not beside.is_open
    d.click("Side by side")
    d.go(Key.MEASURE)
    assert not beside.is_open


def test_what_is_not_in_force_is_worked_out_while_nobody_waits(small_desk: Hand) -> None:
    d, session = small_desk, small_desk.window.session
    d.go(Key.ALIGN)
    fits = [BestFit(name=name, start="a", trim=trim) for name, trim in (("p", 0.11), ("q", 0.12), ("r", 0.13))]

    def change(job: Job) -> Job:
        for step in (*fits, Decide(alignment="r")):
            job = job.with_step(step)
        return job

    session.edit("three fits", change)
    d.wait(lambda: session.derived.in_force == "r")
    read = [w.text() for w in d.window.align.findChildren(QLabel) if "is told here" in w.text()]
    assert read == ["What changes from 'q' is told here once its map is made"]
    assert not session.runner.is_kept(session.job, evaluation("p")), "nobody waits for it"
    # An edit stops it, and it goes on afterwards.
    session.edit("limits", lambda job: job.with_step(Measure(lower=-0.3, upper=0.3)))
    d.wait(lambda: all(session.runner.is_kept(session.job, evaluation(name)) for name in "pqr"))
    d.wait(lambda: session.derived.comparison is not None)
    assert not [w for w in d.window.align.findChildren(QLabel) if "is told here" in w.text()]
    frames = d.window.strip.alignment
    frames.setCurrentIndex(frames.findData("p"))
    frames.activated.emit(frames.currentIndex())
    d.wait(lambda: session.derived.in_force == "p")


def test_what_cannot_be_compared_is_said_and_stops_nothing(small_desk: Hand) -> None:
    d, session = small_desk, small_desk.window.session
    d.go(Key.ALIGN)

    def change(job: Job) -> Job:
        for step in (BestFit(name="good", start="a"), BestFit(name="bad", start="gone"), Decide(alignment="good")):
            job = job.with_step(step)
        return job

    session.edit("one that starts from what is no more", change)
    d.wait(lambda: session.derived.in_force == "good")
    d.wait(lambda: "cannot be compared" in session.derived.uncompared)
    read = [w.text() for w in d.window.align.findChildren(QLabel) if "cannot be compared" in w.text()]
    assert len(read) == 1 and read[0].startswith("'bad' cannot be compared") and "no alignment called 'gone'" in read[0]
