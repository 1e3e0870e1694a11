"""Features of a scan: grown from a click, of faces, through places; against parts whose shape is known."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QListWidget

from hand import Hand
from helpers import PERFECT, box_mesh, hole_at, plate, top_of
from juxtum.align.result import no_alignment
from juxtum.assemble.surfacing import make_surface
from juxtum.cli.main import main
from juxtum.demo.solids import box, cut, cylinder
from juxtum.desk.featuring.panel import FeaturePanel
from juxtum.errors import FitError, InputError
from juxtum.evaluate import measure_deviation
from juxtum.evaluate.features import Question, Recipe, TakenFeature, build_feature, grow, take_feature
from juxtum.evaluate.features import taken as taken_module
from juxtum.exchange.cad import write_step
from juxtum.exchange.mesh_writing import write_mesh
from juxtum.exchange.solid import TessellationRule
from juxtum.geometry import Cylinder, Plane, PointCloud, RigidTransform, TriangleMesh
from juxtum.geometry.features import Cone, Torus
from juxtum.guide.features import card_lines
from juxtum.guide.findings import Key
from juxtum.job.steps import FeatureStep
from juxtum.nominal import Nominal
from juxtum.nominal.model import sample_surface
from juxtum.scene.picking import Hit
from surfaces import RADIUS, ball, noisy, tube

NOISE = 0.01
LAID = no_alignment(), PERFECT


@pytest.fixture(scope="module")
def drawn() -> Nominal:
    return Nominal.from_shape(plate(radius=6.0))


@pytest.fixture(scope="module")
def scan() -> TriangleMesh:
    return as_scanned(plate(radius=6.0))


def as_scanned(shape: Any, noise: float = NOISE) -> TriangleMesh:
    """An even mesh as a scanner makes it, with noise."""
    nominal = Nominal.from_shape(shape, rule=TessellationRule(0.004, 0.1))
    dense = sample_surface(nominal.mesh, nominal.triangle_faces, 0.45).mesh
    return noisy(make_surface(dense.corners.mean(1), dense.triangle_normals, 0.6, overhang=0.7), noise)


def at(mesh: TriangleMesh, place: tuple[float, float, float]) -> int:
    return int(np.argmin(np.linalg.norm(mesh.corners.mean(1) - place, axis=1)))


@pytest.mark.quick
@pytest.mark.parametrize("noise", [0.0, 0.02])
def test_what_the_surface_is_is_told_by_the_surface(noise: float) -> None:
    for mesh, kind, sizes in (
        (ball(5), "sphere", {"radius": RADIUS}),
        (tube(), "cylinder", {"radius": 20.0}),
        (box_mesh((40, 30, 20), 5), "plane", {}),
    ):
        rough = noisy(mesh, noise) if noise else mesh
        made = grow(rough, at(rough, tuple(rough.points[np.argmax(rough.points @ [0.3, 0.5, 0.8])] * [1, 1, 0.8])))
        assert made.feature.name == kind
        for name, value in sizes.items():
            assert made.feature.sizes[name] == pytest.approx(value, abs=0.02)
        whole_face = len(mesh.triangles) if kind != "plane" else len(mesh.triangles) / 6
        assert len(made.triangles) == pytest.approx(whole_face, rel=0.12)
        assert made.noise == pytest.approx(noise, abs=0.008)


def test_a_region_ends_where_the_feature_does(drawn: Nominal, scan: TriangleMesh) -> None:
    """The top of a plate with holes and a boss: no wall, no boss belongs to it; a hole's wall takes nothing of the top."""
    top = grow(scan, at(scan, (10, 32, 10)))
    assert top.feature.name == "plane"
    heights = scan.points[np.unique(scan.triangles[top.triangles])][:, 2]
    assert np.mean(np.abs(heights - 10.0) < top.tolerance) > 0.97
    wall = grow(scan, at(scan, (26, 20, 5)))
    assert wall.feature.name == "cylinder" and wall.feature.sizes["radius"] == pytest.approx(6.0, abs=0.01)
    assert abs(wall.feature.axis[2]) > 0.9999  # type: ignore[attr-defined]
    narrow = grow(scan, at(scan, (26, 20, 5)), tolerance=0.004)
    assert len(narrow.triangles) < len(wall.triangles)


def test_a_triangle_that_noise_has_turned_is_as_good_as_those_beside_it(scan: TriangleMesh) -> None:
    """From it no patch goes on: before, a click on it made no feature at all."""
    seed = at(scan, (26, 20, 5))
    points = scan.points.copy()
    corner, other = scan.triangles[seed][:2]
    points[corner] += 0.7 * (points[other] - points[corner]) + 0.4 * scan.triangle_normals[seed]
    wall = grow(TriangleMesh(points, scan.triangles), seed)
    assert wall.feature.name == "cylinder" and wall.feature.sizes["radius"] == pytest.approx(6.0, abs=0.01)


def net(places: np.ndarray, noise: float) -> TriangleMesh:
    """A net of triangles through places (N, M, 3)."""
    k = np.arange(places.shape[0] * places.shape[1]).reshape(places.shape[:2])
    one, two, three, four = k[:-1, :-1], k[1:, :-1], k[1:, 1:], k[:-1, 1:]
    corners = np.stack([np.stack([one, two, three], -1), np.stack([one, three, four], -1)], 2).reshape(-1, 3)
    points = places.reshape(-1, 3)
    return TriangleMesh(points + np.random.default_rng(2).normal(0, noise, points.shape), corners)


def test_small_triangles_turned_by_noise_still_tell_what_bends() -> None:
    """Triangles of 0.1 mm with 0.008 mm of noise look up to thirty degrees aside; half a bore beside a flat, clicked on either."""
    s, t = np.meshgrid(np.arange(0, 50, 0.1), np.arange(0, 30, 0.1), indexing="ij")
    bend = np.clip(s - 20, 0, None) / 20
    mesh = net(
        np.stack([np.where(s < 20, s, 20 + 20 * np.sin(bend)), t, np.where(s < 20, 0, 20 * (np.cos(bend) - 1))], -1),
        0.008,
    )
    flat, whole = grow(mesh, at(mesh, (8, 15, 0))), len(mesh.triangles)
    assert isinstance(flat.feature, Plane) and len(flat.triangles) > 0.38 * whole
    for turn, along in ((0.4, 8), (0.6, 20), (0.75, 15), (0.9, 10), (1.1, 22)):
        bent = grow(mesh, at(mesh, (20 + 20 * np.sin(turn), along, 20 * (np.cos(turn) - 1))))
        assert isinstance(bent.feature, Cylinder) and bent.feature.radius == pytest.approx(20, abs=0.02)
        assert abs(bent.feature.axis[1]) > 0.99999 and len(bent.triangles) > 0.5 * whole
    s, t = np.meshgrid(np.arange(0, 2.2, 0.1 / 20), np.arange(-1.4, 1.4, 0.1 / 6), indexing="ij")
    reach = 20 + 6 * np.cos(t)
    ring = net(np.stack([reach * np.cos(s), reach * np.sin(s), 6 * np.sin(t)], -1), 0.006)
    s, t = np.meshgrid(np.arange(0, 25, 0.1), np.arange(0, 2.5, 0.1 / 8), indexing="ij")
    reach = 8 + s * np.sin(np.radians(20))
    sink = net(np.stack([reach * np.cos(t), reach * np.sin(t), s * np.cos(np.radians(20))], -1), 0.008)
    for share in (0.3, 0.5, 0.7):
        round_one, tapered = (grow(m, int(share * len(m.triangles)) + 150) for m in (ring, sink))
        assert isinstance(round_one.feature, Torus) and round_one.feature.minor_radius == pytest.approx(6, abs=0.02)
        assert isinstance(tapered.feature, Cone) and np.degrees(tapered.feature.half_angle) == pytest.approx(
            20, abs=0.05
        )


def test_what_cannot_be_grown_gets_a_sentence(scan: TriangleMesh) -> None:
    with pytest.raises(InputError, match="no region of a blob can be grown"):
        grow(scan, 0, "blob")
    for kind, place, said in (
        ("sphere", (10, 32, 10), "makes no sphere"),
        ("cylinder", (10, 32, 10), "makes no cylinder"),
        ("torus", (10, 32, 10), "makes no torus"),
        ("slot", (0, 20, 5), "no wall all round the place, as a slot has"),
        ("rectangle", (10, 32, 10), "no wall all round the place, as a rectangle has"),
        ("rectangle", (26, 20, 5), "makes no rectangle"),
    ):
        with pytest.raises(FitError, match=said):
            grow(scan, at(scan, place), kind)


def test_a_feature_knows_its_partner_and_what_is_known_of_it(drawn: Nominal, scan: TriangleMesh) -> None:
    moved = scan.moved(RigidTransform.translation([0.05, 0.0, 0.02]))
    deviation = measure_deviation(moved, drawn, no_alignment().transform)
    hole = hole_at(drawn, 20, 20)
    for question in (Question(seed=(26.05, 20, 5)), Question(faces=(hole,))):
        made = take_feature(deviation, moved, LAID, question)
        values = {v.name: v for v in made.values}
        assert (made.kind, made.face) == ("cylinder", hole) and made.seen > 0.95
        assert values["diameter"].value == pytest.approx(12.0, abs=0.01) and values["diameter"].drawn == pytest.approx(
            12.0
        )
        assert values["off the drawn one"].value == pytest.approx(0.05, abs=0.006)
        assert values["off the drawn one"].expanded < 0.02 and values["turned by"].value < 0.2
        assert made.zone <= made.form + 1e-9 and made.rms == pytest.approx(NOISE, rel=0.5)
    # A place is told only where it means something: across an axis, along a normal.
    assert values["X at Z 5"].value == pytest.approx(20.05, abs=0.006) and "Z" not in values
    up = take_feature(deviation, moved, LAID, Question(faces=(top_of(drawn),)))
    assert up.values[0].name == "Z in its middle" and up.values[0].value == pytest.approx(10.02, abs=0.004)
    half = moved.kept_triangles(moved.corners.mean(1)[:, 0] > 20.0)
    part = take_feature(measure_deviation(half, drawn, no_alignment().transform), half, LAID, Question(faces=(hole,)))
    assert part.seen == pytest.approx(0.5, abs=0.06) and "of 360 degrees were seen" in part.notes[0]
    # Steps of two spacings clear of the border: the rim, which scanners round, is not used.
    top = take_feature(deviation, moved, LAID, Question(seed=(10, 32, 10.02)))
    rim = np.hypot(deviation.points[top.rows][:, 0] - 20.05, deviation.points[top.rows][:, 1] - 20)
    assert rim.min() > 6.0 + 2 * moved.spacing and top.face == top_of(drawn)


def test_single_places_and_clouds_and_bad_questions(drawn: Nominal, scan: TriangleMesh) -> None:
    deviation = measure_deviation(scan, drawn, no_alignment().transform)
    places = ((0.0, 0.0, 10.0), (80.0, 0.0, 10.01), (0.0, 65.0, 10.01), (80.0, 65.0, 10.0))
    made = take_feature(deviation, scan, LAID, Question(kind="plane", places=places))
    assert made.form == pytest.approx(0.01, abs=1e-3) and "single places" in made.notes[-1]
    cloud = PointCloud(scan.points, scan.normals)
    of_cloud = measure_deviation(cloud, drawn, no_alignment().transform)
    assert take_feature(of_cloud, cloud, LAID, Question(faces=(hole_at(drawn, 20, 20),))).kind == "cylinder"
    bad = [
        (of_cloud, cloud, Question(seed=(26, 20, 5)), "has no surface over which a region could grow"),
        (deviation, scan, Question(seed=(500, 0, 0)), "nothing was scanned within 20 mm"),
        (deviation, scan, Question(faces=(999,)), "face"),
        (deviation, scan, Question(kind="cylinder", places=places[:3]), "3 points do not make a cylinder"),
    ]
    for where, what, question, said in bad:
        with pytest.raises((InputError, FitError), match=said):
            take_feature(where, what, LAID, question)


def countersunk() -> Any:
    from OCP.BRepPrimAPI import BRepPrimAPI_MakeCone
    from OCP.gp import gp_Ax2, gp_Dir, gp_Pnt

    sink = BRepPrimAPI_MakeCone(gp_Ax2(gp_Pnt(30, 30, 12), gp_Dir(0, 0, 1)), 4.0, 12.0, 8.0).Shape()
    return cut(box((0, 0, 0), (60, 60, 20)), [sink, cylinder((30, 30, -1), (0, 0, 1), 4.0, 22)])


def test_a_countersink_is_a_cone_and_its_bore_a_cylinder() -> None:
    mesh = as_scanned(countersunk(), 0.005)
    sink = grow(mesh, at(mesh, (38, 30, 16)))
    assert sink.feature.name == "cone" and abs(sink.feature.half_angle) == pytest.approx(np.pi / 4, abs=0.003)  # type: ignore[attr-defined]
    assert grow(mesh, at(mesh, (34, 30, 6))).feature.sizes["radius"] == pytest.approx(4.0, abs=0.01)


def test_on_the_command_line(
    drawn: Nominal, scan: TriangleMesh, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    write_step(plate(radius=6.0), tmp_path / "plate.step")
    write_mesh(tmp_path / "scan.ply", scan)
    words = ["inspect", str(tmp_path / "plate.step"), str(tmp_path / "scan.ply"), "--align", "none", "--trim", "none",
             "--lower", "-0.1", "--upper", "0.1", "--out", str(tmp_path / "out"), "--json"]  # fmt: skip
    hole = hole_at(drawn, 20, 20)
    assert main([*words, "--feature", str(hole), "--feature", "at 26,20,5", "--feature", "sphere at 10,32,10"]) == 0
    found = json.loads(capsys.readouterr().out)["features"]
    assert [f["label"] for f in found] == ["F1", "F2", "F3"] and found[0]["kind"] == found[1]["kind"] == "cylinder"
    assert found[1]["radius"] == pytest.approx(6.0, abs=0.01) and found[1]["values"][0]["expanded_uncertainty"] is None
    assert "makes no sphere" in found[2]["problem"]
    made = ["cylinder at 26,20,5 across X", str(top_of(drawn)), "meet F1 F2", "between F1 F2", "offset F2 by -4", "meet F2 F9",
            f"cylinder {hole} along F2 radius 6"]  # fmt: skip
    assert main([*words, *(word for text in made for word in ("--feature", text))]) == 0
    held, _, pierced, apart, lower, lost, given = json.loads(capsys.readouterr().out)["features"]
    assert abs(held["direction"][0]) < 1e-12 and "held across X of the part" in held["notes"]
    assert pierced["kind"] == "point" and pierced["point"] == pytest.approx([20, 20, 10], abs=0.01)
    assert pierced["origin"] == "where F1 and F2 meet" and [v["name"] for v in pierced["values"]] == ["X", "Y", "Z"]
    assert apart["values"][1]["name"] == "angle" and apart["values"][1]["value"] == pytest.approx(90, abs=0.2)
    assert lower["point"][2] == pytest.approx(6, abs=0.01) and "there is no feature 'F9' before it" in lost["problem"]
    assert given["radius"] == 6 and abs(given["direction"][2]) > 0.99999
    for text in ("meet F1 F1", "cylinder at 1,2,3 along"):
        assert main([*words, "--feature", text]) == 2
    assert "one feature is named twice" in capsys.readouterr().err
    assert main([*words, "--feature", "ring at 1,2"]) == 2
    assert "names no feature" in capsys.readouterr().err


def test_what_is_made_of_others_scatters_as_it_says(
    drawn: Nominal, scan: TriangleMesh, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Two planes and an axis through a few noisy places: their distance, the point where they meet, and what is made of that."""
    # The narrowest zone takes most of the time and has no part in it.
    monkeypatch.setattr(taken_module, "_zone", lambda *_: np.nan)
    deviation, rng = measure_deviation(scan, drawn, no_alignment().transform), np.random.default_rng(2)
    grid = np.array([(x, y, 0.0) for x in (0, 20, 40) for y in (0, 15, 30)])
    turn = np.linspace(0, 2 * np.pi, 24, endpoint=False)
    round_ = np.column_stack([20 + 6 * np.cos(turn), 20 + 6 * np.sin(turn), np.tile([0.0, 5, 10], 8)])
    found, told = [], []
    for _ in range(80):
        taken = []
        for label, kind, places in (
            ("F1", "plane", grid),
            ("F2", "plane", np.add(grid, [0, 0, 25.0])),
            ("F3", "cylinder", round_),
        ):
            noise = rng.normal(0, NOISE, places.shape)
            rows = tuple((float(x), float(y), float(z)) for x, y, z in places + noise)
            taken.append(TakenFeature(label, take_feature(deviation, scan, LAID, Question(kind=kind, places=rows))))
        one, two, bore = taken
        low, high = (
            TakenFeature(name, build_feature(deviation, LAID, Recipe("meet"), [bore, p]))
            for name, p in (("F4", one), ("F5", two))
        )
        made = [build_feature(deviation, LAID, Recipe("between"), pair) for pair in ([one, two], [low, high])]
        found.append([made[0].values[0].value, made[1].values[0].value, low.measured.values[0].value])  # type: ignore[union-attr]
        told.append([made[0].values[0].expanded, made[1].values[0].expanded, low.measured.values[0].expanded])  # type: ignore[union-attr]
    scatter, said = 2 * np.std(found, axis=0), np.mean(told, axis=0)
    assert np.mean(found, axis=0) == pytest.approx([25, 25, 20], abs=0.003)
    assert scatter / said == pytest.approx(1.0, abs=0.3)


def two_clicked(d: Hand) -> FeaturePanel:
    """Two clicks at once, on two faces: two features with names of their own."""
    d.go(Key.MEASURE)
    panel = d.window.measure.features
    d.click("Click a feature")
    for place in ((40.0, 20.0, 10.0), (60.0, 20.0, 5.0)):
        assert panel.picked(Hit("map", np.array(place), 0))
    d.wait(lambda: len(panel.taken) == 2)
    return panel


def test_features_are_held_and_made_of_others_in_the_window(small_desk: Hand) -> None:
    d, session = small_desk, small_desk.window.session
    panel = two_clicked(d)
    panel.list.selectAll()
    # Clicked twice before the first is there: two features with names of their own.
    QTest.mouseClick(d.named("Make it"), Qt.MouseButton.LeftButton)
    QTest.mouseClick(d.named("Make it"), Qt.MouseButton.LeftButton)
    d.wait(lambda: len(panel.taken) == 4)
    assert [step.label for step in session.job.procedure.features] == ["F1", "F2", "F3", "F4"]
    assert panel.chosen == "F4" and d.window.view.stage.has("made")
    card = dict(card_lines(panel.taken[3]))
    assert card["made"] == "from F1 and F2" and card["angle"].startswith("90.0") and "points used" not in card
    panel.list.setCurrentRow(1)
    panel.card.hold("across F1")
    d.wait(lambda: panel.taken[1].measured is not None and "held across F1" in " ".join(panel.taken[1].measured.notes))
    assert dict(card_lines(panel.taken[3]))["angle"].startswith("90.000")
    # Without the feature that they were made of they say so, and nothing else falls.
    panel.list.setCurrentRow(0)
    d.click("Remove it")
    d.wait(lambda: len(panel.taken) == 3)
    assert "there is no feature 'F1' before it" in panel.taken[1].problem


def test_features_are_clicked_in_the_window(small_desk: Hand) -> None:
    d, session = small_desk, small_desk.window.session
    panel = two_clicked(d)
    assert [step.label for step in session.job.procedure.of(FeatureStep)] == ["F1", "F2"]
    assert all(one.measured is not None and one.measured.kind == "plane" for one in panel.taken)
    listed = d.named("Features", QListWidget)
    assert isinstance(listed, QListWidget) and listed.count() == 2
    listed.setCurrentRow(0)
    d.wait()
    stage = d.window.view.stage
    assert stage.has("feature") and int(dict(card_lines(panel.taken[0]))["points used"]) > 100
    d.click("Wider")
    d.wait()
    assert session.job.procedure.of(FeatureStep)[0].tolerance is not None
    d.click("Show how far off")
    d.wait()
    assert not stage.has("map") and stage.has("feature")
    d.click("Show how far off")
    d.wait()
    assert stage.has("map")
    d.click("Remove it")
    d.wait(lambda: len(panel.taken) == 1)
    d.go(Key.ALIGN)
    assert not stage.has("feature")
