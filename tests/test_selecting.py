"""Selections, pieces and stray points, against what was put there."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from matplotlib.path import Path as Outline
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QComboBox, QLabel

from hand import Hand
from helpers import box_mesh, turned
from juxtum.assemble import Prism, grown, inside_prism, keep_pieces, on_visible_side
from juxtum.assemble.strays import strays
from juxtum.desk.joining.scan_list import ScanList
from juxtum.errors import InputError
from juxtum.exchange.meshes import write_ply
from juxtum.geometry import PointCloud, RigidTransform, TriangleMesh
from juxtum.guide.findings import Key
from juxtum.job.steps import Selection
from surfaces import ball, noisy

TOP = np.array([[1.0, 0, 0, 0], [0, 1, 0, 0], [0, 0, -1, 0], [0, 0, 0, 1]]) / 40.0
TOP[3, 3] = 1.0
"""Seen from above: 40 mm to each edge of the screen."""


@pytest.mark.quick
@settings(max_examples=40, deadline=None)
@given(st.integers(0, 2**31), st.integers(3, 60))
def test_an_outline_holds_what_another_library_says(seed: int, corners: int) -> None:
    rng = np.random.default_rng(seed)
    outline, points = rng.uniform(-1.2, 1.2, (corners, 2)), rng.uniform(-1.3, 1.3, (2000, 3))
    odd = np.zeros(len(points), dtype=int)
    for first in range(1, corners - 1):
        # The even-odd rule by triangles of a fan: each turns what it holds.
        fan = Outline(outline[[0, first, first + 1]])
        odd += fan.contains_points(points[:, :2])
    assert np.array_equal(inside_prism(points, Prism(np.eye(4), outline)), odd % 2 == 1)


@pytest.mark.quick
def test_a_stroke_holds_what_lies_within_its_width() -> None:
    rng = np.random.default_rng(2)
    points, path = rng.uniform(-1, 1, (5000, 3)), np.array([[-0.5, 0.0], [0.4, 0.1], [0.4, 0.8]])
    radius = np.array([0.1, 0.2])
    apart = np.full(len(points), np.inf)
    for a, b in zip(path[:-1] / radius, path[1:] / radius, strict=True):
        along = np.clip(((points[:, :2] / radius - a) @ (b - a)) / ((b - a) @ (b - a)), 0, 1)
        apart = np.minimum(apart, np.linalg.norm(points[:, :2] / radius - a - along[:, None] * (b - a), axis=1))
    assert np.array_equal(inside_prism(points, Prism(np.eye(4), path, radius)), apart <= 1)
    dot = inside_prism(points, Prism(np.eye(4), path[:1], radius))
    assert np.array_equal(dot, np.linalg.norm((points[:, :2] - path[0]) / radius, axis=1) <= 1)


@pytest.mark.quick
@pytest.mark.parametrize("as_cloud", [False, True])
def test_only_what_is_in_sight_is_selected(as_cloud: bool) -> None:
    ball_ = ball(5)
    scan = PointCloud(ball_.points) if as_cloud else ball_
    square = ((-0.5, -0.5), (0.5, -0.5), (0.5, 0.5), (-0.5, 0.5))
    view = tuple(float(v) for v in TOP.ravel())
    through = Selection(view=view, outline=square).chosen(scan)
    seen = Selection(view=view, outline=square, side="visible").chosen(scan)
    below, above = ball_.points[:, 2] < -1, ball_.points[:, 2] > 1
    assert seen[above & through].all() and not seen[below].any() and through[below].any()
    rows = np.arange(len(scan.points))
    assert not on_visible_side(scan, rows, np.array([0.0, 0, 1]))[ball_.points[:, 2] < -3].any()


@pytest.mark.quick
def test_a_selection_grows_and_shrinks_by_millimetres() -> None:
    points = np.column_stack([np.arange(100) * 0.5, np.zeros((100, 2))])
    chosen = (points[:, 0] >= 10) & (points[:, 0] <= 20)
    assert points[grown(points, chosen, 3.2)][:, 0].tolist() == np.arange(7.0, 23.1, 0.5).tolist()
    assert points[grown(points, chosen, -3.2)][:, 0].tolist() == np.arange(13.0, 17.1, 0.5).tolist()
    assert np.array_equal(grown(points, chosen, 0.0), chosen) and not grown(points, ~chosen & chosen, 5.0).any()
    assert not grown(points, chosen, -50).any()


@pytest.mark.quick
@pytest.mark.parametrize("as_cloud", [False, True])
def test_pieces_are_kept_by_number_and_by_distance(as_cloud: bool) -> None:
    large, middle, small = box_mesh((40, 40, 40), 5), box_mesh((10, 10, 10), 4), box_mesh((4, 4, 4), 3)
    # The small one hangs close, the middle one far away.
    pieces = [large, middle.moved(turned((0, 0, 0), (120, 0, 0))), small.moved(turned((0, 0, 0), (0, 0, 45)))]
    offsets = np.cumsum([0] + [len(p.points) for p in pieces[:-1]])
    points = np.concatenate([p.points for p in pieces])
    mesh = TriangleMesh(points, np.concatenate([p.triangles + k for p, k in zip(pieces, offsets, strict=True)]))
    scan = PointCloud(points) if as_cloud else mesh
    assert len(keep_pieces(scan, count=2).points) == len(large.points) + len(middle.points)
    near = keep_pieces(scan, apart=40.0)
    assert len(near.points) == len(large.points) + len(small.points)
    assert len(keep_pieces(scan, count=1, apart=1.0).points) == len(large.points)


@pytest.mark.quick
@pytest.mark.parametrize("as_cloud", [False, True])
def test_stray_points_are_found_and_edges_are_not(as_cloud: bool) -> None:
    """A ball and a box with noise: no point of them goes; what was pulled out of them does."""
    for good in (noisy(ball(6)), noisy(box_mesh((40, 30, 20), 5))):
        rng = np.random.default_rng(5)
        pulled = rng.choice(len(good.points), 40, replace=False)
        points = np.array(good.points)
        points[pulled] += 6 * good.spacing * good.normals[pulled]
        scan = PointCloud(points) if as_cloud else TriangleMesh(points, good.triangles)
        found = strays(scan)
        assert found[pulled].mean() > 0.94
        clean = strays(PointCloud(good.points) if as_cloud else good)
        assert clean.mean() < 2e-3 if as_cloud else not clean.any()


@pytest.mark.quick
def test_nothing_left_gets_a_sentence() -> None:
    from juxtum.assemble.strays import without_strays

    rng = np.random.default_rng(0)
    lone = PointCloud(rng.uniform(0, 1, (12, 3)) * np.logspace(0, 6, 12)[:, None])
    try:
        without_strays(lone)
    except InputError as problem:
        assert "all points lie apart" in problem.what


def drawn(hand: Hand, tool: str, corners: list[tuple[float, float]]) -> int:
    """Draw on the stage with a tool, and read how many points are selected."""
    box = hand.named("Select with", QComboBox)
    assert isinstance(box, QComboBox)
    box.setCurrentIndex(box.findData(tool))
    box.activated.emit(box.currentIndex())
    hand.click({"outline": "Draw outline", "box": "Draw box", "brush": "Draw stroke"}[tool])
    view = hand.window.view
    places = [QPoint(round(x), round(y)) for x, y in corners]
    QTest.mousePress(view, Qt.MouseButton.LeftButton, pos=places[0])
    for place in places[1:]:
        QTest.mouseMove(view, place)
    QTest.mouseRelease(view, Qt.MouseButton.LeftButton, pos=places[-1])
    hand.wait()
    said = hand.named("Selection", QLabel)
    assert isinstance(said, QLabel)
    hand.click({"outline": "Draw outline", "box": "Draw box", "brush": "Draw stroke"}[tool])
    return int("".join(c for c in said.text() if c.isdigit()) or 0)


def test_box_and_brush_select_in_the_window(small_desk: Hand) -> None:
    d = small_desk
    d.go(Key.ASSEMBLE)
    d.press(Qt.Key.Key_1)
    d.wait()
    view = d.window.view
    ends = view.stage.project(view.stage.bounds, view.width(), view.height())
    low, high = ends.min(0) - 30, ends.max(0) + 30
    scan = d.window.session.derived.scan
    assert scan is not None
    assert drawn(d, "box", [tuple(low), tuple(high)]) == len(scan.points)  # type: ignore[list-item]
    place = d.window.session.derived.upright.apply(np.array([[40.0, 20, 5]]))
    middle = view.stage.project(place, view.width(), view.height())[0]
    stroke = [(middle[0] - 30, middle[1]), (middle[0], middle[1]), (middle[0] + 30, middle[1] + 5)]
    through = drawn(d, "brush", stroke)
    side = d.named("How deep", QComboBox)
    assert isinstance(side, QComboBox) and 0 < through < len(scan.points)
    side.setCurrentIndex(side.findData("visible"))
    side.activated.emit(side.currentIndex())
    seen = drawn(d, "brush", stroke)
    assert 0 < seen < through
    d.click("Delete")
    d.wait()
    left = d.window.session.derived.scan
    assert left is not None and len(scan.points) - seen - 200 < len(left.points) <= len(scan.points) - 0.5 * seen


def test_one_outline_goes_through_every_scan_that_is_shown(small_desk: Hand, tmp_path: Path) -> None:
    """Two scans beside each other: a box over both deletes of both in one edit, of a hidden one nothing; undo brings both back."""
    d, session = small_desk, small_desk.window.session
    held = session.derived.scan
    assert isinstance(held, TriangleMesh)
    write_ply(tmp_path / "beside.ply", held.moved(RigidTransform.translation([60.0, 0, 0])))
    ref = session.files.adopt(tmp_path / "beside.ply")
    session.edit("a further scan", lambda job: job.with_further(ref))
    d.wait(lambda: len(session.derived.brought) == 2)
    d.go(Key.ASSEMBLE)
    d.press(Qt.Key.Key_1)
    view = d.window.view
    ends = view.stage.project(view.stage.bounds, view.width(), view.height())
    corners = [tuple(ends.min(0) - 30), tuple(ends.max(0) + 30)]
    sizes = [len(b.scan.points) for b in session.derived.brought]
    assert drawn(d, "box", corners) == sizes[0], "the chosen scan alone"  # type: ignore[arg-type]
    where = d.named("In which scans", QComboBox)
    assert isinstance(where, QComboBox)
    where.setCurrentIndex(1)
    where.activated.emit(1)
    half = [corners[0], (corners[1][0], float(ends.mean(0)[1]))]
    drawn(d, "box", half)  # type: ignore[arg-type]
    said = d.named("Selection", QLabel).text()  # type: ignore[attr-defined]
    assert said.endswith("points selected in 2 of 2 scans"), said
    d.click("Delete")
    d.wait()
    left = [len(b.scan.points) for b in session.derived.brought]
    assert all(0 < after < before for after, before in zip(left, sizes, strict=True))
    assert "points of 2 scans went" in d.window.notice.text
    session.undo()
    d.wait(lambda: [len(b.scan.points) for b in session.derived.brought] == sizes)
    scans = d.window.findChildren(ScanList)[0]
    scans.item(1, 0).setCheckState(Qt.CheckState.Unchecked)  # type: ignore[union-attr]
    d.wait()
    assert not where.isVisible(), "one scan is left to be seen"
