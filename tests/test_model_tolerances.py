"""Tolerances that a CAD model states itself: read as they are written, or left out with a sentence."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest
from benchmarks.joins import whole
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QComboBox

from hand import Hand
from juxtum.cli.main import main
from juxtum.demo import solids
from juxtum.desk.briefing.model_lines import ModelLines
from juxtum.evaluate.drawing_model import model_drawing
from juxtum.exchange.kept_models import model_arrays
from juxtum.exchange.meshes import write_ply
from juxtum.exchange.model_line import ModelLine
from juxtum.exchange.model_says import with_lines
from juxtum.exchange.model_tolerances import read_lines
from juxtum.exchange.part21 import Statements
from juxtum.exchange.solid import CadArrays, TessellationRule
from juxtum.guide.findings import Key
from juxtum.nominal import Nominal
from stating import Stating

LEFT, FRONT, TOP_Z, HOLE = 1, 2, 3, 7
"""Faces of the plate that tests use; its lower face is 5."""


def plate(shift: float = 0.0, radius: float = 4.0) -> Any:
    """40 x 30 x 10 mm with a hole of 8 mm at 12, 12."""
    hole = solids.cylinder((12 + shift, 12, -1), (0, 0, 1), radius, 12)
    return solids.cut(solids.box((0, 0, 0), (40, 30, 10)), [hole])


@pytest.fixture
def stated(tmp_path: Path) -> Stating:
    """The plate, nothing stated yet."""
    return Stating(plate(), tmp_path / "plate.step")


def read(path: Path) -> Nominal:
    """As the application reads it, in the process of the CAD library."""
    return Nominal.from_arrays(model_arrays(path))


def test_a_drawing_in_the_model(stated: Stating) -> None:
    """Names, datums, a position with its zone and its material condition, a fit, a projected zone, a pattern, an angle."""
    s = stated
    s.named(HOLE, r"Bohrung \X2\00D8\X0\8")
    a, b, c = s.datum("A", 5), s.datum("B", LEFT), s.datum("C", FRONT)
    system = s.system(a, b, c)
    m = "GEOMETRIC_TOLERANCE_WITH_MODIFIERS((.MAXIMUM_MATERIAL_REQUIREMENT.))"
    place = s.tolerance("POSITION", 0.2, s.aspect(HOLE), system, m)
    zone = s.zone(place)
    s.add(f"PROJECTED_ZONE_DEFINITION(#{zone},(),#{s.whole},#{s.length(20.0)})")
    s.tolerance("FLATNESS", 0.05, s.aspect(TOP_Z))
    s.tolerance("PARALLELISM", 0.1, s.aspect(TOP_Z), s.system(a))
    hole = s.aspect(HOLE)
    s.size(
        f"DIMENSIONAL_SIZE(#{hole},'diameter')", [s.item("nominal value", 8.0)], "LIMITS_AND_FITS('H','hole','7','')"
    )
    s.size(f"DIMENSIONAL_LOCATION('linear distance','',#{s.aspect(5)},#{s.aspect(TOP_Z)})",
           [s.item("nominal value", 10.0)], s.range(-0.1, 0.2))  # fmt: skip
    nominal = read(s.write())
    assert nominal.face(HOLE).title == "face 7 \u201cBohrung \u00d88\u201d, cylinder \u00d88.000" and not nominal.unread
    made = model_drawing(nominal)
    assert not made.left
    words = [(k.tag, k.faces, getattr(k, "limit", None) or (k.lower, k.upper)) for k in made.characteristics]
    assert words[:3] == [("position", (7,), 0.2), ("flatness", (3,), 0.05), ("parallelism", (3,), 0.1)]
    assert words[3][0] == "diameter" and words[3][2] == pytest.approx((0, 0.015))
    assert words[4] == ("distance", (5, 3), (-0.1, 0.2))
    position = made.characteristics[0]
    assert [d.letter for d in position.datums] == ["A", "B", "C"] and position.bonus == "most"
    assert position.projected == 20 and position.size_limits == pytest.approx((8.0, 8.015))


def test_datum_targets_in_the_model(stated: Stating) -> None:
    """Three areas under the plate, two points on a side whose face nobody named, one on an end."""
    s = stated
    a, b, c = s.datum("A", 5), s.add(f"DATUM('','',#{s.whole},.F.,'B')"), s.datum("C", LEFT)
    for place in ((5, 5, 0), (35, 5, 0), (20, 25, 0)):
        s.target(a, place, "circle", 6.0)
    s.target(b, (5, 0, 5))
    s.target(b, (35, 0, 5))
    s.target(c, (0, 15, 5))
    s.tolerance("POSITION", 0.2, s.aspect(HOLE), s.system(a, b, c))
    made = model_drawing(read(s.write()))
    assert not made.left
    (position,) = made.characteristics
    found = {d.letter: (d.of, [(t.place, t.diameter) for t in d.targets]) for d in position.datums}  # type: ignore[union-attr]
    assert found["A"] == (((5,),), [((5, 5, 0), 6), ((35, 5, 0), 6), ((20, 25, 0), 6)])
    assert found["B"] == (((FRONT,),), [((5, 0, 5), 0), ((35, 0, 5), 0)])
    assert found["C"] == (((LEFT,),), [((0, 15, 5), 0)])


@pytest.mark.parametrize(
    ("form", "place", "diameter", "sentence"),
    [
        ("rectangle", (5, 5, 0), 0.0, "its target 1 is a rectangle, and is not read"),
        ("circle", (5, 5, 0), 0.0, "its target 1 says not where it is, or how large"),
        ("point", (5, 5, -4), 0.0, "lies more than 0.5 mm off the part"),
        ("point", (0, 15, 5), 0.0, "lies on face 1, which is not the datum's"),
    ],
)
def test_a_target_that_is_not_read_leaves_its_datum_out(
    stated: Stating, form: str, place: tuple[float, float, float], diameter: float, sentence: str
) -> None:
    s = stated
    a = s.datum("A", 5)
    s.target(a, place, form, diameter)
    s.tolerance("PARALLELISM", 0.1, s.aspect(TOP_Z), s.system(a))
    s.tolerance("FLATNESS", 0.1, s.aspect(TOP_Z))
    made = model_drawing(read(s.write()))
    assert [one.tag for one in made.characteristics] == ["flatness"]
    assert any("datum A" in words and sentence in words for words in made.left), made.left
    assert any("there is no datum 'A'" in words for words in made.left)


@pytest.mark.parametrize(("lower", "upper"), [(-0.05, 0.1), (0.05, 0.1), (-0.1, -0.05), (0.0, 0.1)])
def test_limits_keep_their_signs(stated: Stating, lower: float, upper: float) -> None:
    """The CAD library's own reading turns +0.05 to -0.05, and both below zero into something else."""
    s = stated
    s.size(f"DIMENSIONAL_SIZE(#{s.aspect(HOLE)},'diameter')", [s.item("nominal value", 8.0)], s.range(lower, upper))
    (line,) = model_drawing(read(s.write())).characteristics
    assert (line.lower, line.upper, line.nominal) == (lower, upper, 8.0)


def test_limits_as_two_values_and_in_inches(stated: Stating) -> None:
    """Upper and lower limit in place of deviations; a file in inches."""
    s = stated
    base = s.length(25.4)
    inch = s.add(f"( CONVERSION_BASED_UNIT('INCH',#{base}) LENGTH_UNIT() NAMED_UNIT(*) )")
    items = [s.item(name, value / 25.4, inch) for name, value in (("lower limit", 7.9), ("upper limit", 8.3))]
    s.size(f"DIMENSIONAL_SIZE(#{s.aspect(HOLE)},'diameter')", items)
    note = s.add("DESCRIPTIVE_REPRESENTATION_ITEM('dimensional note','envelope requirement')")
    two = s.add("DESCRIPTIVE_REPRESENTATION_ITEM('dimensional note','two point size')")
    s.size(f"DIMENSIONAL_SIZE(#{s.aspect(HOLE)},'diameter')", [*items, note, two])
    line, noted = model_drawing(read(s.write())).characteristics
    assert noted.envelope and noted.size == "two-point" and not line.envelope
    assert (line.nominal, line.lower, line.upper) == pytest.approx((8.1, -0.2, 0.2), abs=1e-5)


def test_patterns_slots_and_common_datums(tmp_path: Path) -> None:
    """Two holes of one tolerance are a pattern, halves of one hole one feature, two sides a middle plane, A-B one datum."""
    holes = [solids.cylinder((x, 15, -1), (0, 0, 1), 3, 12) for x in (8, 32)]
    part = solids.cut(solids.box((0, 0, 0), (40, 30, 10)), [*holes, solids.box((18, -1, 5), (4, 40, 10))])
    nominal = Nominal.from_shape(part)
    round_ones = [face.number for face in nominal.faces if face.kind == "cylinder"]
    sides = [f.number for f in nominal.faces if abs(f.centre[0] - 18) < 1e-6 or abs(f.centre[0] - 22) < 1e-6]
    tops = [f.number for f in nominal.faces if abs(f.centre[2] - 10) < 1e-6]
    s = Stating(part, tmp_path / "slot.step")
    a, b = (s.datum(letter, top) for letter, top in zip("AB", tops, strict=True))
    group = s.aspect(kind="COMPOSITE_SHAPE_ASPECT")
    for face in round_ones:
        s.add(f"SHAPE_ASPECT_RELATIONSHIP('','',#{group},#{s.aspect(face)})")
    s.tolerance("PERPENDICULARITY", 0.1, group, s.system((a, b)))
    s.tolerance("SYMMETRY", 0.2, s.aspect(*sides), s.system(a))
    s.tolerance("FLATNESS", 0.1, s.aspect(*tops), 0, "GEOMETRIC_TOLERANCE_WITH_MODIFIERS((.COMMON_ZONE.))")
    made = model_drawing(read(s.write()))
    square, middle, flat = made.characteristics
    assert len(square.members) == 2 and square.datums[0].letter == "A-B"
    assert len(middle.members) == 1 and len(middle.members[0]) == 2
    assert flat.members == (((*tops,),),) and not made.left


def odd_words(s: Stating) -> None:
    s.tolerance("FLATNESS", 0.1, s.aspect(5), 0, "GEOMETRIC_TOLERANCE_WITH_MODIFIERS((.TANGENT_PLANE.))")


def odd_unit(s: Stating) -> None:
    s.tolerance("FLATNESS", 0.1, s.aspect(5), 0, f"GEOMETRIC_TOLERANCE_WITH_DEFINED_UNIT(#{s.length(25.0)})")


def odd_edge(s: Stating) -> None:
    aspect, edge = s.aspect(), s.text.split(" = EDGE_CURVE")[0].rsplit("#", 1)[1]
    s.add(f"GEOMETRIC_ITEM_SPECIFIC_USAGE('','',#{aspect},#{s.whole},#{edge})")
    s.tolerance("STRAIGHTNESS", 0.1, aspect)


def odd_nothing(s: Stating) -> None:
    s.tolerance("FLATNESS", 0.1, s.aspect())


def odd_datum(s: Stating) -> None:
    s.tolerance("PARALLELISM", 0.1, s.aspect(TOP_Z), s.system(s.datum("A")))


def odd_size(s: Stating) -> None:
    s.size(f"DIMENSIONAL_SIZE(#{s.aspect(7)},'diameter')", [s.item("nominal value", 4.0)], s.range(-0.1, 0.1))


def odd_limits(s: Stating) -> None:
    s.size(f"DIMENSIONAL_SIZE(#{s.aspect(7)},'diameter')", [s.item("nominal value", 8.0)], s.range(0.1, -0.1))


def odd_name(s: Stating) -> None:
    s.size(f"DIMENSIONAL_SIZE(#{s.aspect(7)},'curve length')", [s.item("nominal value", 8.0)], s.range(-0.1, 0.1))


def odd_note(s: Stating) -> None:
    note = s.add("DESCRIPTIVE_REPRESENTATION_ITEM('dimensional note','statistical')")
    items = [s.item("nominal value", 8.0), note]
    s.size(f"DIMENSIONAL_SIZE(#{s.aspect(7)},'diameter')", items, s.range(-0.1, 0.1))


def odd_kind(s: Stating) -> None:
    s.tolerance("ROUNDNESS", 0.1, s.aspect(5))


def odd_measure(s: Stating) -> None:
    s.mm = s.whole
    s.tolerance("FLATNESS", 0.1, s.aspect(5))


@pytest.mark.parametrize(
    ("state", "said"),
    [
        (odd_words, "its modifier 'tangent plane' is not read"),
        (odd_unit, "a tolerance per length or area is not read"),
        (odd_edge, "it hangs on an edge curve, not on faces"),
        (odd_nothing, "no face belongs to it"),
        (odd_datum, "there is no datum 'A'"),
        (odd_size, "it states 4 where the model's own faces have 8"),
        (odd_limits, "the lower deviation 0.1 is not below the upper -0.1"),
        (odd_name, "a size called 'curve length' is not read"),
        (odd_note, "its note 'statistical' is not read"),
        (odd_kind, "plane"),
        (odd_measure, "its unit cannot be read"),
    ],
)
def test_what_is_left_out_is_said(stated: Stating, state: Any, said: str) -> None:
    """Beside a line that is sound, which is taken all the same."""
    stated.tolerance("FLATNESS", 0.05, stated.aspect(TOP_Z))
    state(stated)
    made = model_drawing(read(stated.write()))
    assert [one.faces for one in made.characteristics] == [(TOP_Z,)]
    assert any(said in sentence for sentence in made.left), made.left


@pytest.mark.parametrize(
    "text",
    [
        "#1 = FLATNESS_TOLERANCE('','',#1,#1);",
        "#1 = FLATNESS_TOLERANCE();",
        "#1 = FLATNESS_TOLERANCE(('',(((',#2;",
        "#1 = FLATNESS_TOLERANCE" + "(" * 500 + ")" * 500 + ";",
        "#1 = SHAPE_ASPECT_RELATIONSHIP('','',#2,#3); #4 = SHAPE_ASPECT_RELATIONSHIP('','',#3,#2); #2 = SHAPE_ASPECT('','',#9,.T.);"
        "#5 = FLATNESS_TOLERANCE('','',#6,#2); #6 = LENGTH_MEASURE_WITH_UNIT(LENGTH_MEASURE(1.),#6);",
        "#1 = PLUS_MINUS_TOLERANCE(#2,#3); #3 = DIMENSIONAL_SIZE(#3,'diameter'); #2 = TOLERANCE_VALUE(1,2);",
        "#1 = TOLERANCE_ZONE('',$,$,$,$,#2); #3 = DATUM('','',#1,.F.,$); #4 = POSITION_TOLERANCE('','',#5,#6,(#7));",
        "#1 = DIMENSIONAL_CHARACTERISTIC_REPRESENTATION(#2,#3); #2 = ANGULAR_SIZE(#1,'',.X.); #3 = REPRESENTATION('',1,2);",
    ],
)
def test_odd_statements_end_in_sentences(text: str) -> None:
    """Whatever stands in a file: no line that is not stated, and no error."""
    lines, left = read_lines(Statements(f"DATA;{text}ENDSEC;"))
    assert lines == [] and all(sentence.endswith((".", "read", "faces", "it", "features")) for sentence in left)


def test_from_the_command_line(stated: Stating, tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    """A hole 0.05 off and 0.04 too large, measured by what the model states; a line left out is no pass."""
    s = stated
    system = s.system(s.datum("A", 5), s.datum("B", LEFT), s.datum("C", FRONT))
    s.zone(s.tolerance("POSITION", 0.2, s.aspect(HOLE), system))
    s.size(f"DIMENSIONAL_SIZE(#{s.aspect(HOLE)},'diameter')", [s.item("nominal value", 8.0)], s.range(0.0, 0.1))
    scan = tmp_path / "scan.ply"
    write_ply(scan, whole(Nominal.from_shape(plate(0.05, 4.02), rule=TessellationRule(0.002, 0.1)), 12_000))
    given = [
        "--align",
        "none",
        "--drawing",
        "model",
        "--instrument",
        "handheld",
        "--strict",
        "--json",
        "--out",
        str(tmp_path / "out"),
    ]
    main(["inspect", str(s.write()), str(scan), *given])
    found = json.loads(capsys.readouterr().out)["characteristics"]
    assert [line["kind"] for line in found] == ["position", "diameter"]
    assert [line["value"] for line in found] == pytest.approx([0.1, 8.04], abs=0.004)
    odd_words(s)
    assert main(["inspect", str(s.write()), str(scan), *given]) == 1
    told = capsys.readouterr()
    last = json.loads(told.out)["characteristics"][-1]
    assert "tangent plane" in told.err
    assert (last["kind"], last["verdict"]) == ("not-taken", "not decided") and last["title"].startswith("Flatness")
    assert "tangent plane" in last["reason"] and "by hand" in last["reason"] and last["upper"] is None


def test_a_model_without_tolerances_says_so(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    """Nothing to take is no empty drawing."""
    s = Stating(plate(), tmp_path / "bare.step")
    scan = tmp_path / "scan.ply"
    write_ply(scan, Nominal.from_shape(plate()).samples.mesh)
    s.path.write_text(s.text)
    assert main(["inspect", str(s.path), str(scan), "--drawing", "model", "--out", str(tmp_path / "out")]) == 2
    assert "the model states no tolerances that could be read" in capsys.readouterr().err


def test_kept_with_the_model(stated: Stating, tmp_path: Path) -> None:
    """What was read is there again when the arrays come from the disk."""
    stated.named(HOLE, "bore")
    stated.tolerance("FLATNESS", 0.05, stated.aspect(TOP_Z))
    arrays = model_arrays(stated.write())
    arrays.save(tmp_path / "kept.npz")
    again = CadArrays.load(tmp_path / "kept.npz")
    assert again.lines == arrays.lines and len(again.lines) == 1 and isinstance(again.lines[0], ModelLine)
    assert again.marks == arrays.marks and again.marks[HOLE - 1].name == "bore"
    assert with_lines(again, stated.path).lines != ()


def test_in_the_window(small_desk: Hand, stated: Stating) -> None:
    """At Brief: how many there are and what is not read; a click takes them, a second one at once changes nothing."""
    d, s = small_desk, stated
    s.tolerance("FLATNESS", 0.05, s.aspect(TOP_Z))
    s.size(f"DIMENSIONAL_SIZE(#{s.aspect(HOLE)},'diameter')", [s.item("nominal value", 8.0)], s.range(-0.1, 0.1))
    odd_words(s)
    d.go(Key.BRIEF)
    assert not [b for b in d.window.findChildren(ModelLines) if b.isVisible()]
    d.window.bringing.nominal(s.write())
    d.wait(lambda: any(b.isVisible() for b in d.window.findChildren(ModelLines)))
    take = d.named("Take the model's tolerances")
    said = d.named("Tolerances in the model").text()  # type: ignore[attr-defined]
    assert said.startswith("Tolerances that the model states of its faces: 2. Left out:") and "tangent plane" in said
    for _ in range(2):
        QTest.mouseClick(take, Qt.MouseButton.LeftButton)
    d.wait()
    made = d.window.session.job.procedure.characteristics
    assert [(k.tag, k.faces) for k in made] == [("flatness", (TOP_Z,)), ("diameter", (HOLE,)), ("not-taken", ())]
    assert "2 characteristics from the model" in d.window.notice.text and "tangent plane" in d.window.notice.text
    assert list(d.ledger()) == ["1", "2", "3"]
    d.click("Change characteristic 3")
    kinds = d.named("Kind of characteristic", QComboBox)
    kinds.setCurrentIndex(kinds.findData("flatness"))
    d.named("Features").setText("5")  # type: ignore[attr-defined]
    d.window.brief._characteristics._put.click()
    d.wait(lambda: d.window.session.job.procedure.characteristics[2].tag == "flatness")
    assert d.window.session.job.procedure.characteristics[2].faces == (5,)
