"""Sections: analytic cuts, known errors of a made plate, files that others read, and the drawer in the window."""

from __future__ import annotations

import csv
import json
from pathlib import Path
from xml.etree import ElementTree

import ezdxf
import numpy as np
import pytest
from benchmarks.joins import whole
from benchmarks.starts import parts
from hypothesis import given, settings
from hypothesis import strategies as st
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QFileDialog, QLabel, QListWidget

from hand import Hand
from helpers import HOLES, PERFECT, box_mesh, hole_at, plate, turned
from juxtum.align.result import no_alignment
from juxtum.cli.main import main
from juxtum.demo.solids import box, cut, cylinder, extruded, fused
from juxtum.errors import InputError
from juxtum.evaluate import measure_deviation
from juxtum.evaluate.sections import Section, SectionPlane, SectionRule, between, take_section
from juxtum.evaluate.sections import cut as cut_triangles
from juxtum.evaluate.sections.drawn import drawn_curves
from juxtum.exchange.mesh_writing import write_mesh
from juxtum.exchange.solid import TessellationRule
from juxtum.geometry import PointCloud, RigidTransform, TriangleMesh
from juxtum.geometry.mesh import Scan
from juxtum.guide.findings import Key
from juxtum.guide.sections import feature_words
from juxtum.job.steps import SectionStep
from juxtum.nominal import Nominal
from juxtum.report.sections import svg, write_sections
from juxtum.scene.palette import MapScale

Z = np.array([0.0, 0.0, 1.0])
SHIFT, GROWTH = 0.05, 0.03


def plane(point: tuple[float, float, float], normal: tuple[float, float, float] = (0, 0, 1)) -> SectionPlane:
    return SectionPlane("cut", np.array(point, dtype=float), np.array(normal, dtype=float))


def made_plate() -> TriangleMesh:
    """The plate with its first hole 0.05 mm to the right and 0.03 mm too large in radius."""
    (x, y), *others = HOLES
    block = fused(box((0, 0, 0), (80, 65, 10)), [cylinder((40, 32, 10), (0, 0, 1), 8, 6)])
    holes = [cylinder((x + SHIFT, y, -1), (0, 0, 1), 4.0 + GROWTH, 12)]
    holes += [cylinder((a, b, -1), (0, 0, 1), 4.0, 12) for a, b in others]
    return whole(Nominal.from_shape(cut(block, holes)), 250_000)


@pytest.fixture(scope="module")
def drawn_plate() -> Nominal:
    return Nominal.from_shape(plate())


@pytest.fixture(scope="module")
def scan() -> TriangleMesh:
    return made_plate()


def taken(nominal: Nominal, scan: Scan, where: SectionPlane, rule: SectionRule | None = None) -> Section:
    found = measure_deviation(scan, nominal, RigidTransform.identity())
    return take_section(found, scan, (no_alignment(), PERFECT), where, rule)


# -- against what can be worked out by hand ---------------------------------------------------------------


@settings(max_examples=30, deadline=None)
@given(st.tuples(*[st.floats(-1, 1)] * 3).filter(lambda n: np.linalg.norm(n) > 0.1), st.floats(-8, 8))
def test_any_plane_through_a_box_cuts_one_convex_loop(normal: tuple[float, float, float], offset: float) -> None:
    mesh = box_mesh((40, 30, 20), 2)
    where = plane(tuple(offset * np.array(normal)), normal)  # type: ignore[arg-type]
    curves = cut_triangles(mesh.points, mesh.triangles, where)
    assert len(curves) == 1 and curves[0].is_closed and curves[0].area > 0, "material lies inside"
    space = where.space(curves[0].points)
    assert np.abs(where.heights(space)).max() < 1e-9
    assert np.abs(np.abs(space) / [20, 15, 10]).max(axis=1) == pytest.approx(1.0), "all of it lies on the box"
    turn = turned((30, 40, 50), (5, 6, 7))
    other = SectionPlane("cut", turn.apply(where.point), turn.turn(where.normal))
    again = cut_triangles(turn.apply(mesh.points), mesh.triangles, other)
    assert (again[0].area, again[0].length) == pytest.approx((curves[0].area, curves[0].length), rel=1e-6)


@pytest.mark.parametrize("tilt", [0.0, 30.0, 55.0])
def test_a_cylinder_gives_its_ellipse_whatever_the_tessellation(tilt: float) -> None:
    """Area pi r^2 / cos; the triangles only seed it."""
    nominal = Nominal.from_shape(cylinder((3, 4, -60), (0, 0, 1), 12, 120))
    found = drawn_curves(nominal, plane((3, 4, 1), (np.sin(np.radians(tilt)), 0, np.cos(np.radians(tilt)))))
    assert found.area == pytest.approx(np.pi * 144 / np.cos(np.radians(tilt)), rel=2e-5)
    rough = cut_triangles(nominal.mesh.points, nominal.mesh.triangles, plane((3, 4, 1)))
    assert abs(rough[0].area / (np.pi * 144) - 1) > 1e-4, "which the triangles alone miss"


def test_a_section_finds_what_is_wrong_with_a_hole(drawn_plate: Nominal, scan: TriangleMesh) -> None:
    found = taken(drawn_plate, scan, plane((0, 0, 5)))
    assert found.drawn.area == pytest.approx(80 * 65 - 4 * np.pi * 16, rel=1e-6) and found.seen > 0.99
    assert found.measured_area == pytest.approx(80 * 65 - 3 * np.pi * 16 - np.pi * (4 + GROWTH) ** 2, abs=0.4)
    circles = {f.face: f for f in found.features if f.shape == "circle"}
    wrong = circles[hole_at(drawn_plate, *HOLES[0])]
    assert len(circles) == 4 and wrong.drawn.radius == pytest.approx(-4.0) and wrong.measured is not None
    assert wrong.deviation == pytest.approx(-GROWTH, abs=0.004), "less material"
    assert wrong.measured.point == pytest.approx([HOLES[0][0] + SHIFT, HOLES[0][1]], abs=0.002)
    for other in set(circles) - {wrong.face}:
        assert circles[other].deviation == pytest.approx(0, abs=0.003), "but for its facets"
    beside = circles[hole_at(drawn_plate, *HOLES[1])]
    apart = between(wrong, beside)
    assert (apart.kind, apart.nominal) == ("distance", pytest.approx(40.0, abs=1e-6))
    assert apart.measured == pytest.approx(40.0 - SHIFT, abs=0.003)
    lines = [f for f in found.features if f.shape == "line"]
    assert len(lines) == 4 and all(abs(f.deviation) < 1e-4 and abs(f.turn) < 1e-3 for f in lines)
    corner = between(lines[0], lines[1])
    assert (corner.kind, corner.nominal) == ("angle", pytest.approx(90.0))
    at_hole = found.faces == wrong.face - 1
    assert found.deviations[at_hole].min() == pytest.approx(-GROWTH - SHIFT, abs=0.003)


def slotted(length: float, width: float, place: tuple[float, float], degrees: float) -> Nominal:
    """A plate of 90 x 60 x 12 with a slot through it."""
    turn, half = np.radians(degrees), (length - width) / 2
    along, across = np.array([np.cos(turn), np.sin(turn)]), np.array([-np.sin(turn), np.cos(turn)])
    ends = [cylinder((*(np.array(place) + s * half * along), -1.0), (0, 0, 1), width / 2, 14) for s in (-1, 1)]
    corners = [
        np.array(place) + s * half * along + t * width / 2 * across for s, t in ((-1, -1), (1, -1), (1, 1), (-1, 1))
    ]
    return Nominal.from_shape(
        cut(box((0, 0, 0), (90, 60, 12)), [fused(extruded([(*c, -1.0) for c in corners], (0, 0, 14)), ends)]),
        rule=TessellationRule(0.002, 0.1),
    )


def test_slots_and_corners_and_what_lies_between_them() -> None:
    """A slot 0.1 too long, 0.06 too wide, off its place by 0.05 and 0.04 and turned by a tenth of a degree; noise of 0.01, eight scans."""
    drawn = slotted(40, 14, (45, 30), 0)
    made = whole(slotted(40.1, 14.06, (45.05, 29.96), 0.1), 60_000)
    held: dict[str, list[bool]] = {}
    for seed in range(8):
        points = made.points + np.random.default_rng(seed).normal(0, 0.01, made.points.shape)
        section = taken(drawn, TriangleMesh(points, made.triangles), plane((0, 0, 6)))
        slot, corners = ([f for f in section.features if f.shape == shape] for shape in ("slot", "point"))
        assert len(slot) == 1 and len(corners) == 4 and slot[0].seen > 0.95
        found, edge = (
            slot[0].measured,
            next(f for f in section.features if f.shape == "line" and abs(f.drawn.point[1]) < 1e-9),
        )
        assert found is not None and slot[0].budget is not None and slot[0].place is not None
        sure = 2 * np.sqrt(np.diag(slot[0].place))
        length, edge_to_slot = between(corners[0], corners[1]), between(edge, slot[0])
        for name, off, wide in (
            ("length", found.length - 40.1, slot[0].length_expanded),
            ("width", 2 * abs(found.radius) - 14.06, 2 * slot[0].budget.expanded),
            ("right", found.point[0] - 45.05, sure[0]), ("up", found.point[1] - 29.96, sure[1]),
            ("corners", length.measured - length.nominal, length.expanded),
            ("edge", edge_to_slot.measured - 29.96, edge_to_slot.expanded),
        ):  # fmt: skip
            held.setdefault(name, []).append(abs(off) <= wide < 0.012)
    assert {name: sum(hits) >= 6 for name, hits in held.items()} == dict.fromkeys(held, True)
    assert feature_words(slot[0]).startswith("slot 9: 40.000 \u00d7 14.000 drawn, 40.")
    assert slot[0].deviation == pytest.approx(-0.03, abs=0.01) and np.degrees(
        np.arctan2(*found.direction[::-1])
    ) % 180 == pytest.approx(0.1, abs=0.05)
    part = TriangleMesh(made.points, made.triangles[made.corners.mean(1)[:, 0] < 45])
    half = next(f for f in taken(drawn, part, plane((0, 0, 6))).features if f.shape == "slot")
    assert half.measured is None and half.reason == "not all of its sides and ends are measured"


def test_one_direction_only(drawn_plate: Nominal, scan: TriangleMesh) -> None:
    """Along X the shifted hole is off by its shift and growth; along Y by growth alone."""
    for along, least in (("right", -GROWTH - SHIFT), ("up", None)):
        found = taken(drawn_plate, scan, plane((0, 0, 5)), SectionRule(along=along))  # type: ignore[arg-type]
        mine = found.faces == hole_at(drawn_plate, *HOLES[0]) - 1
        axis = 0 if along == "right" else 1
        across = np.abs(found.points[mine] - found.feet[mine])[:, 1 - axis]
        assert np.nanmax(across) < 1e-9
        if least is not None:
            flat = np.abs(found.points[mine, 1] - HOLES[0][1]) < 0.5
            assert found.deviations[mine][flat].min() == pytest.approx(least, abs=0.004)


def test_a_cloud_says_the_same(drawn_plate: Nominal, scan: TriangleMesh) -> None:
    found = taken(drawn_plate, PointCloud(scan.points, normals=scan.normals), plane((0, 0, 5)))
    wrong = next(f for f in found.features if f.face == hole_at(drawn_plate, *HOLES[0]))
    assert found.is_cloud and found.measured_area is None
    assert wrong.deviation == pytest.approx(-GROWTH, abs=0.004)


def test_half_a_scan_is_said_to_be_half(drawn_plate: Nominal, scan: TriangleMesh) -> None:
    half = scan.kept_triangles(scan.corners.mean(1)[:, 0] < 40)
    found = taken(drawn_plate, half, plane((0, 0, 5)))
    assert 0.4 < found.seen < 0.6 and found.measured_area is None
    reasons = {f.face: f.reason for f in found.features}
    assert reasons[hole_at(drawn_plate, *HOLES[1])] == "the scan shows too little of it"
    assert any(reason.endswith("of it was seen") for reason in reasons.values()), "a long side is half seen"


def test_a_thin_sheet_keeps_its_two_sides() -> None:
    """0.2 mm: neither side is held against the other."""
    nominal = Nominal.from_shape(box((0, 0, 0), (60, 40, 0.2)))
    made = whole(Nominal.from_shape(box((0, 0, 0), (60, 40, 0.25))), 40_000)
    found = taken(nominal, made, plane((0, 20, 0), (0, 1, 0)))
    upper = [f for f in found.features if f.shape == "line" and f.drawn.point[1] == pytest.approx(0.2)]
    assert upper and upper[0].deviation == pytest.approx(0.05, abs=1e-6)


@pytest.mark.parametrize("kind", ["mesh", "cloud"])
@pytest.mark.parametrize("name", ["keyed ring", "sheet bracket", "turned shaft", "part of 5 mm", "plain plate"])
def test_a_good_part_shows_nothing_wrong_in_an_oblique_plane(name: str, kind: str) -> None:
    """Corners cut at a slant, pieces shorter than the noise, points slid past an edge: each read up to 2.5 mm once."""
    nominal = Nominal.from_shape(parts()[name])
    mesh = whole(nominal, 30_000)
    sigma = min(0.01, nominal.diagonal * 5e-5)
    points = mesh.points + np.random.default_rng(1).normal(0, sigma, mesh.points.shape)
    scan: Scan = TriangleMesh(points, mesh.triangles) if kind == "mesh" else PointCloud(points)
    found = taken(nominal, scan, SectionPlane("s", nominal.centre + 1e-4 * nominal.diagonal, np.array([1.0, 2, 3])))
    assert len(found.found) > 100 and np.abs(found.found).max() < 12 * sigma
    assert found.seen > 0.95
    for feature in found.features:
        if feature.measured is not None and feature.count > 40:
            limit = 2 * feature.budget.expanded if feature.shape == "point" and feature.budget else 4 * sigma
            assert abs(feature.deviation) < limit, feature.name


# -- steps and files --------------------------------------------------------------------------------------


def test_series_beside_each_other_and_about_an_axis(drawn_plate: Nominal) -> None:
    row = SectionStep(label="row", point=(0, 0, 2), count=3, spacing=3).planes(drawn_plate)
    assert [p.name for p in row] == ["row 1", "row 2", "row 3"] and [p.point[2] for p in row] == [2, 5, 8]
    face = hole_at(drawn_plate, *HOLES[0])
    fan = SectionStep(label="fan", face=face, series="radial", count=4).planes(drawn_plate)
    assert [p.name for p in fan] == ["fan 0\u00b0", "fan 45\u00b0", "fan 90\u00b0", "fan 135\u00b0"]
    for where in fan:
        assert abs(where.normal[2]) < 1e-12 and abs(where.heights(np.array([[*HOLES[0], 4.0]]))[0]) < 1e-9
    with pytest.raises(InputError, match="has no plane"):
        SectionStep(label="no", face=face).planes(drawn_plate)
    with pytest.raises(InputError, match="no face 99"):
        SectionStep(label="no", face=99).planes(drawn_plate)


@pytest.fixture(scope="module")
def files(tmp_path_factory: pytest.TempPathFactory, scan: TriangleMesh) -> tuple[Path, Path]:
    from juxtum.exchange.cad import write_step

    folder = tmp_path_factory.mktemp("plate")
    write_step(plate(), folder / "plate.step")
    write_mesh(folder / "made.stl", scan)
    return folder / "plate.step", folder / "made.stl"


FEW = ["--align", "none", "--trim", "none", "--scan-unit", "mm", "--instrument", "handheld"]


def test_files_that_others_read(files: tuple[Path, Path], tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    given = ["section", str(files[0]), str(files[1]), *FEW, "--plane", "z=5", "--plane", "x=20"]
    assert main([*given, "--out", str(tmp_path / "s.dxf"), "--between", "1,3", "--json"]) == 0
    said = json.loads(capsys.readouterr().out)
    first, second = said["sections"]
    assert (first["name"], first["normal"], second["normal"]) == ("z=5", [0, 0, 1], [1, 0, 0])
    circles = [f for f in first["features"] if f["shape"] == "circle"]
    assert len(circles) == 4 and min(f["deviation"] for f in circles) == pytest.approx(-GROWTH, abs=0.004)
    assert all(f["expanded_uncertainty"] > 0.01 for f in circles)
    assert said["dimensions"][0]["expanded_uncertainty"] > 0.01
    space = ezdxf.readfile(tmp_path / "s.dxf").modelspace()
    drawn = space.query('CIRCLE[layer=="z=5 features"]'.replace("=5", "-5"))
    assert sorted(round(c.dxf.radius, 2) for c in drawn) == [4.0, 4.0, 4.0, 4.03]
    assert all(c.dxf.center.z == pytest.approx(5.0) for c in drawn), "in part coordinates"


def test_tables_and_pictures(drawn_plate: Nominal, scan: TriangleMesh, tmp_path: Path) -> None:
    sections = [taken(drawn_plate, scan, SectionPlane(f"z <{z:g}>", np.array([0.0, 0, z]), Z)) for z in (5, 8)]
    for suffix in ("csv", "svg", "dxf"):
        write_sections(tmp_path / f"s.{suffix}", sections, MapScale(-0.02, 0.02), 100)
    rows = list(csv.DictReader((tmp_path / "s.csv").open()))
    measured = [row for row in rows if row["curve"].startswith("measured") and row["deviation"]]
    assert {row["section"] for row in rows} == {"z <5>", "z <8>"} and len(measured) > 300
    assert min(float(row["deviation"]) for row in measured) == pytest.approx(-GROWTH - SHIFT, abs=0.01)
    text = (tmp_path / "s.svg").read_text()
    assert ElementTree.fromstring(text).tag.endswith("svg") and "deviations 100 times enlarged" in text
    assert "z &lt;5&gt;" in text and '#2C6E8A"' in text, "what lies beyond its limits has its colour"
    layers = {layer.dxf.name for layer in ezdxf.readfile(tmp_path / "s.dxf").layers}
    assert {"z -5- nominal", "z -8- deviations"} <= layers


@pytest.mark.parametrize(
    ("wrong", "sentence"),
    [
        (["--plane", "q=1"], "'q=1' is not a plane"),
        (["--plane", "0,0,1,0,0,0"], "the direction of the plane has no length"),
        (["--plane", "z=infinity"], "is not a length"),
        (["--plane", "z=900"], "no plane meets the part"),
        (["--plane", "face:99"], "no face 99"),
        (["--plane", "z=5", "--series", "3"], "is not a series"),
        (["--plane", "z=5", "--series", "3,0"], "the spacing of the series is nothing"),
        (["--plane", "z=5", "--between", "1,77"], "names no two features"),
        (["--plane", "z=5", "--lower", "1", "--upper", "0"], "the lower limit is not below"),
        (["--plane", "z=5", "--out", "s.pdf"], "is not a format for sections"),
    ],
)
def test_what_cannot_be_cut_is_said(
    files: tuple[Path, Path], tmp_path: Path, capsys: pytest.CaptureFixture[str], wrong: list[str], sentence: str
) -> None:
    out = [] if "--out" in wrong else ["--out", str(tmp_path / "s.csv")]
    assert main(["section", str(files[0]), str(files[1]), *FEW, *wrong, *out]) == 2
    said = capsys.readouterr().err
    assert sentence in said and "Traceback" not in said, said


# -- in the window ----------------------------------------------------------------------------------------


def test_sections_are_cut_moved_and_taken_back_in_the_window(
    small_desk: Hand, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    desk = small_desk
    desk.go(Key.MEASURE)
    sections = desk.window.measure.sections
    sections._at.setText("5")
    sections._at.editingFinished.emit()
    # Clicked twice without waiting: both are there.
    button = desk.named("Cut here")
    button.click()
    button.click()  # type: ignore[attr-defined]
    desk.wait(lambda: len(sections.sections) == 2)
    assert [s.plane.name for s in sections.sections] == ["z = 5", "z = 5 (2)"]
    drawer = sections.drawer
    desk.wait(drawer.isVisible)
    assert not desk.window.parts.ledger.isVisible(), "the drawer takes the ledger's place"
    shown = desk.named("What the section shows", QLabel, drawer)
    assert "RMS 0.000 mm; 100 % of the drawn line seen" in shown.text()  # type: ignore[attr-defined]
    rows = desk.named("Features of the section", QListWidget, drawer)
    assert isinstance(rows, QListWidget) and rows.count() == 4 + 4
    rows.item(0).setSelected(True)  # type: ignore[union-attr]
    picture = drawer.canvas.picture
    assert picture is not None
    x, y = drawer.canvas.name_places()[2]
    from PyQt6.QtCore import QPoint
    from PyQt6.QtTest import QTest

    QTest.mouseClick(drawer.canvas, Qt.MouseButton.LeftButton, pos=QPoint(round(x), round(y)))
    said = desk.named("Dimension", QLabel, drawer).text()  # type: ignore[attr-defined]
    assert "line 1 to line 3: distance" in said and "drawn" in said and "U not known" in said
    sections._at.setText("20")
    sections._at.editingFinished.emit()
    desk.wait(lambda: any(s.plane.name == "z = 20" for s in sections.sections))
    assert sections.chosen == "z = 20" and [s.plane.point[2] for s in sections.sections] in ([20, 5], [5, 20])
    desk.window.session.undo()
    desk.wait(lambda: all(s.plane.point[2] == 5 for s in sections.sections))
    desk.go(Key.ALIGN)
    assert not drawer.isVisible() and desk.window.parts.ledger.isVisible()
    desk.go(Key.MEASURE)
    sections.choose(sections.sections[0].plane.name)
    desk.wait(drawer.isVisible)
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a: (str(tmp_path / "cut.dxf"), ""))
    desk.click("Export section\u2026")
    desk.wait(lambda: desk.window.notice.text == "The section is in cut.dxf.")
    assert ezdxf.readfile(tmp_path / "cut.dxf").modelspace().query("POLYLINE")
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a: (str(tmp_path / "cut.txt"), ""))
    desk.click("Export section\u2026")
    desk.wait(lambda: "is not a format for sections" in desk.window.notice.text)
    desk.click("Back to the ledger")
    assert not drawer.isVisible() and desk.window.parts.ledger.isVisible()


def test_readings_are_pinned_in_a_section(small_desk: Hand) -> None:
    """Clicks on the curve, two at once, each become a reading of the job that the drawing shows; elsewhere none does."""
    from PyQt6.QtCore import QPoint
    from PyQt6.QtTest import QTest

    desk = small_desk
    desk.go(Key.MEASURE)
    sections = desk.window.measure.sections
    sections._at.setText("5")
    sections._at.editingFinished.emit()
    desk.named("Cut here").click()  # type: ignore[attr-defined]
    desk.wait(lambda: sections.drawer.isVisible())
    canvas = sections.drawer.canvas
    assert canvas.picture is not None
    spots = [QPoint(*(round(v) for v in canvas.place_of(canvas.picture.feet[[row]])[0])) for row in (3, 30)]
    QTest.mouseClick(canvas, Qt.MouseButton.LeftButton, pos=spots[0])
    assert not desk.window.session.job.procedure.readings, "only where readings are wanted"
    desk.click("Pin readings in it")
    for spot in (*spots, QPoint(canvas.width() // 2, canvas.height() // 2)):
        QTest.mouseClick(canvas, Qt.MouseButton.LeftButton, pos=spot)
    desk.wait(lambda: len(desk.window.measure.derived.evaluation.readings) == 2)  # type: ignore[union-attr]
    made = desk.window.session.job.procedure.readings
    assert [r.label for r in made] == ["R1", "R2"] and all(abs(r.place[2] - 5) < 0.01 for r in made)
    shown = [named.text for named in canvas.picture.names]
    assert "R1 +0.000" in shown or "R1 -0.000" in shown, shown
    text = svg(sections.sections, MapScale(-0.2, 0.2), 1, desk.window.measure.derived.evaluation.readings)  # type: ignore[union-attr]
    assert ">R2 " in text
    desk.click("Pin readings in it")
    sections.close_drawer()
