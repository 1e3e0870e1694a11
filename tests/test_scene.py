"""The stage without a window: views, picking, sections, levels of detail, colours."""

from __future__ import annotations

import itertools
from collections.abc import Iterator

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from helpers import box_mesh, turned
from juxtum.evaluate import Histogram, measure_deviation
from juxtum.geometry import Plane, PointCloud, RigidTransform, TriangleMesh
from juxtum.look import DARK, LIGHT, rgb
from juxtum.nominal import Nominal
from juxtum.scene.actors import Shown
from juxtum.scene.camera import View, view_direction
from juxtum.scene.drawables import (
    face_surface,
    limit_field,
    limit_lines,
    map_surface,
    nominal_edges,
    nominal_surface,
    scan_surface,
    surface,
    unseen_surface,
)
from juxtum.scene.palette import MapScale, colours
from juxtum.scene.proxy import clustered
from juxtum.scene.sections import section
from juxtum.scene.stage import Detail, Stage

WIDTH, HEIGHT = 320, 240


@pytest.fixture
def stage() -> Iterator[Stage]:
    made = Stage()
    yield made
    made.close()


@pytest.fixture(scope="module")
def box() -> Nominal:
    return Nominal.from_mesh(box_mesh(cuts=3))


def colour_of(picture: np.ndarray, spot: np.ndarray) -> np.ndarray:
    return picture[round(float(spot[1])), round(float(spot[0])), :3].astype(float) / 255


@pytest.mark.parametrize("view", list(View))
def test_views_show_the_side_they_name(stage: Stage, box: Nominal, view: View) -> None:
    stage.put("nominal", nominal_surface(box))
    stage.look_from(view, WIDTH / HEIGHT)
    assert stage.eye.towards == pytest.approx(view_direction(view))
    corners = stage.project(box.mesh.points, WIDTH, HEIGHT)
    assert corners.min() >= 0 and (corners.max(0) <= [WIDTH, HEIGHT]).all(), "all of it is seen"
    assert max(np.ptp(corners, axis=0) / [WIDTH, HEIGHT]) > 0.8, "and it fills the stage"


@given(st.floats(-1, 1), st.floats(-1, 1), st.floats(0.3, 5))
@settings(max_examples=25, deadline=None)
def test_what_is_picked_is_what_is_there(right: float, up: float, zoom: float) -> None:
    stage = Stage()
    nominal = Nominal.from_mesh(box_mesh(cuts=2))
    stage.put("nominal", nominal_surface(nominal))
    stage.look_from(View.CORNER, WIDTH / HEIGHT)
    stage.eye.orbit(right, up / 4)
    stage.eye.zoom(zoom, 0.1, -0.1, WIDTH / HEIGHT)
    places = np.array([[20.0, 5.3, 3.1], [3.3, 15.0, 2.2], [4.1, 4.7, 10.0]])
    for place, (x, y), seen in zip(
        places, stage.project(places, WIDTH, HEIGHT), stage.visible(places, ("nominal",), 0.01), strict=True
    ):
        hit = stage.pick(float(x), float(y), WIDTH, HEIGHT, ("nominal",))
        if seen:
            assert hit is not None and hit.place == pytest.approx(place, abs=1e-3)
        else:
            assert hit is None or np.linalg.norm(hit.place - place) > 1e-3
    stage.close()


def test_layers_can_be_placed_without_moving_their_points(stage: Stage) -> None:
    there = turned((0, 0, 90), (200, 0, 0))
    stage.put("scan", scan_surface(box_mesh(cuts=2)), there)
    assert stage.bounds.mean(0) == pytest.approx([200, 0, 0], abs=1e-6)
    stage.look_from(View.TOP, WIDTH / HEIGHT)
    x, y = stage.project(there.apply([[5, 5, 10]]), WIDTH, HEIGHT)[0]
    hit = stage.pick(float(x), float(y), WIDTH, HEIGHT, ("scan",))
    assert hit is not None and hit.place == pytest.approx(there.apply([[5, 5, 10]])[0], abs=1e-3)


def test_hidden_and_cut_layers_are_not_picked(stage: Stage, box: Nominal) -> None:
    stage.put("nominal", nominal_surface(box))
    stage.look_from(View.TOP, WIDTH / HEIGHT)
    middle = WIDTH / 2 + 11, HEIGHT / 2 - 7, WIDTH, HEIGHT
    stage.cut(Plane(np.zeros(3), np.array([0.0, 0, 1])))
    hit = stage.pick(*middle, ("nominal",))
    assert hit is not None and hit.place[2] == pytest.approx(-10, abs=1e-3), "the upper half is cut away"
    stage.cut(None)
    assert stage.pick(*middle, ("nominal",)).place[2] == pytest.approx(10, abs=1e-3)  # type: ignore[union-attr]
    stage.show("nominal", Shown.HIDDEN)
    assert stage.pick(*middle, ("nominal",)) is None
    stage.put("nominal", None)
    assert not stage.has("nominal")


def offset_map(box: Nominal, offsets: tuple[float, float]) -> tuple[TriangleMesh, object]:
    """A box whose top stands proud by one offset on the left and by another on the right."""
    scan = box_mesh(cuts=6)
    points = np.array(scan.points)
    top = points[:, 2] > 9.99
    points[top, 2] += np.where(points[top, 0] < 0, offsets[0], offsets[1])
    made = TriangleMesh(points, scan.triangles)
    return made, measure_deviation(made, box, RigidTransform.identity())


def test_the_map_has_the_palettes_colours(stage: Stage, box: Nominal) -> None:
    scan, deviation = offset_map(box, (0.5, -0.5))
    scale = MapScale(-0.2, 0.2)
    stage.set_scale(scale)
    stage.put("map", map_surface(deviation, scan.triangles, scan.normals))  # type: ignore[arg-type]
    stage.look_from(View.TOP, WIDTH / HEIGHT)
    picture = stage.render(WIDTH, HEIGHT, Detail.FULL)
    spots = stage.project(np.array([[-10.0, 0, 10.5], [10, 0, 9.5]]), WIDTH, HEIGHT)
    for spot, value in zip(spots, (0.5, -0.5), strict=True):
        wanted, found = colours([value], scale)[0], colour_of(picture, spot)
        shade = float(found @ wanted / (wanted @ wanted))
        assert np.abs(found - shade * wanted).max() < 0.06, "the hue of the palette, as light as the light allows"


def test_limits_are_drawn_where_the_map_crosses_them(box: Nominal) -> None:
    scan = box_mesh(cuts=6)
    points = np.array(scan.points)
    top = points[:, 2] > 9.99
    points[top, 2] += 0.4 * points[top, 0] / 20
    deviation = measure_deviation(TriangleMesh(points, scan.triangles), box, RigidTransform.identity())
    from vtkmodules.util.numpy_support import vtk_to_numpy

    lines = limit_lines(limit_field(deviation, scan.triangles), (-0.2, 0.2))
    places = vtk_to_numpy(lines.data.GetPoints().GetData())
    on_top = places[places[:, 2] > 9]
    inner = on_top[(np.abs(on_top[:, 1]) < 10) & (np.abs(on_top[:, 0]) < 18)]
    assert len(inner) > 10
    assert np.abs(np.abs(inner[:, 0]) - 10).max() < 1.0


def test_what_was_not_seen_is_hatched(box: Nominal) -> None:
    scan = box_mesh(cuts=5)
    half = scan.kept_triangles(scan.triangle_normals[:, 2] > -0.9)
    deviation = measure_deviation(half, box, RigidTransform.identity())
    hidden = unseen_surface(deviation)
    assert hidden is not None and hidden.full[0].GetPointData().GetTCoords() is not None
    assert hidden.points[:, 2].max() < -9
    everything = measure_deviation(scan, box, RigidTransform.identity())
    assert unseen_surface(everything) is None


def test_section_has_the_length_of_the_outline(box: Nominal) -> None:
    from vtkmodules.util.numpy_support import vtk_to_numpy

    lines = section(nominal_surface(box), Plane(np.array([0.0, 0, 2]), np.array([0.0, 0, 1])))
    assert lines is not None
    data = lines.data
    places = vtk_to_numpy(data.GetPoints().GetData()).astype(float)
    ends = vtk_to_numpy(data.GetLines().GetConnectivityArray()).reshape(-1, 2)
    length = np.linalg.norm(places[ends[:, 0]] - places[ends[:, 1]], axis=1).sum()
    assert length == pytest.approx(140, abs=1e-3)
    assert section(nominal_surface(box), Plane(np.array([0.0, 0, 99]), np.array([0.0, 0, 1]))) is None


def test_clusters_keep_the_shape() -> None:
    mesh = box_mesh(cuts=6)
    points, triangles, normals, scalars = clustered(mesh.points, mesh.triangles, mesh.normals, mesh.points[:, 0], 30)
    thin = TriangleMesh(points, triangles)
    assert len(triangles) < len(mesh.triangles) / 3
    assert thin.area == pytest.approx(mesh.area, rel=0.06) and abs(thin.volume) == pytest.approx(24000, rel=0.06)
    assert scalars == pytest.approx(points[:, 0], abs=1e-9)
    assert np.linalg.norm(normals, axis=1) == pytest.approx(1)


def test_large_surfaces_have_levels(stage: Stage) -> None:
    side = 420
    u, v = np.meshgrid(np.linspace(0, 100, side), np.linspace(0, 100, side), indexing="ij")
    points = np.stack([u, v, np.sin(u / 9)], -1).reshape(-1, 3)
    corner = (np.arange(side - 1)[:, None] * side + np.arange(side - 1)).ravel()
    triangles = np.concatenate(
        [np.stack([corner, corner + side, corner + 1], 1), np.stack([corner + 1, corner + side, corner + side + 1], 1)]
    )
    mesh = TriangleMesh(points, triangles)
    made = surface(mesh.points, mesh.triangles, mesh.normals)
    counts = [sum(d.GetNumberOfCells() for d in pieces) for pieces in (made.full, made.middle, made.light)]
    assert counts[0] == len(triangles) and counts[0] > counts[1] > counts[2] > 5000
    stage.put("scan", made)
    stage.look_from(View.TOP, WIDTH / HEIGHT)
    full, light = (stage.render(WIDTH, HEIGHT, d)[:, :, :3].astype(float) for d in (Detail.FULL, Detail.LIGHT))
    assert np.abs(full - light).mean() < 6, "the stand-in looks like the real thing"
    *strokes, drawn = stage.strokes(WIDTH, HEIGHT)
    assert len(strokes) == len(made.middle) - 1 > 0 and all(s is None for s in strokes)
    once = stage.render(WIDTH, HEIGHT)
    assert np.array_equal(drawn, once), "in strokes it is the same picture"


def test_clouds_are_drawn_too(stage: Stage) -> None:
    cloud = PointCloud(np.random.default_rng(0).uniform(-20, 20, (4000, 3)))
    stage.put("scan", scan_surface(cloud))
    stage.look_from(View.FRONT, WIDTH / HEIGHT)
    picture = stage.render(WIDTH, HEIGHT)
    data = np.array(rgb(LIGHT.data))
    assert (np.abs(picture[:, :, :3] / 255 - data).max(axis=2) < 0.25).mean() > 0.02
    assert stage.pick(WIDTH / 2, HEIGHT / 2, WIDTH, HEIGHT, ("scan",)) is None


def test_dark_look_darkens_the_stage(stage: Stage, box: Nominal) -> None:
    stage.put("nominal", nominal_surface(box))
    stage.put("edges", nominal_edges(box))
    stage.put("marked", face_surface(box, (1,)))
    stage.look_from(View.CORNER, WIDTH / HEIGHT)
    light = stage.render(WIDTH, HEIGHT)[2, 2, :3].mean()
    stage.set_look(DARK)
    assert stage.render(WIDTH, HEIGHT)[2, 2, :3].mean() < light - 100


@given(st.floats(-2, 0), st.floats(0.01, 2))
def test_the_scale_is_a_rising_ladder(lower: float, width: float) -> None:
    scale = MapScale(lower, lower + width)
    steps = (scale.ends[0], *scale.steps, scale.ends[1])
    assert all(a < b for a, b in itertools.pairwise(steps))
    assert scale.lower in scale.steps and scale.upper in scale.steps


@given(st.sampled_from(["lower", "upper"]), st.floats(-100, 900))
@settings(deadline=None)
def test_dragged_limits_never_cross(which: str, y: float) -> None:
    from juxtum.desk.legend import Legend

    legend = Legend(MapScale(-0.2, 0.2), Histogram(np.linspace(-0.6, 0.6, 11), np.full(10, 0.1)), "")
    legend.place(900, 600, 12)
    scale = legend.dragged(which, y)
    assert scale.lower < scale.upper
    kept = scale.lower if which == "upper" else scale.upper
    assert kept == (-0.2 if which == "upper" else 0.2)
