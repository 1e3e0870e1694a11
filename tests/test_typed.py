"""Characteristics in one line, limits by code, and drawings as spreadsheets."""

from __future__ import annotations

import json
from itertools import pairwise
from pathlib import Path

import numpy as np
import openpyxl
import pytest
from hypothesis import given
from hypothesis import strategies as st
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QLineEdit

from hand import Hand
from helpers import HOLES, hole_at, plate
from juxtum.cli.main import main
from juxtum.errors import InputError
from juxtum.evaluate.drawing import COLUMNS, read_drawing
from juxtum.evaluate.fits import ABOVE, BELOW, GRADES, STEPS, limits_of
from juxtum.evaluate.typed import typed_characteristic, typed_datum
from juxtum.exchange.cad import write_step
from juxtum.exchange.mesh_writing import write_mesh
from juxtum.guide.findings import Key
from juxtum.nominal import Nominal
from juxtum.nominal.model import sample_surface


@pytest.fixture(scope="module")
def part() -> Nominal:
    return Nominal.from_shape(plate())


# -- codes ------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("code", "size", "of", "lower", "upper"),
    [
        ("H7", 25, "hole", 0, 21), ("H7", 72, "hole", 0, 30), ("H8", 10, "hole", 0, 22), ("H11", 120, "hole", 0, 220),
        ("G7", 25, "hole", 7, 28), ("F8", 40, "hole", 25, 64), ("E9", 40, "hole", 50, 112), ("D10", 40, "hole", 80, 180),
        ("JS7", 25, "hole", -10.5, 10.5), ("K7", 25, "hole", -15, 6), ("M7", 25, "hole", -21, 0), ("N7", 25, "hole", -28, -7),
        ("P7", 25, "hole", -35, -14), ("R7", 70, "hole", -62, -32), ("N9", 25, "hole", -52, 0), ("K8", 25, "hole", -23, 10),
        ("h6", 25, "shaft", -13, 0), ("g6", 25, "shaft", -20, -7), ("f7", 40, "shaft", -50, -25), ("js6", 25, "shaft", -6.5, 6.5),
        ("k6", 25, "shaft", 2, 15), ("m6", 25, "shaft", 8, 21), ("n6", 25, "shaft", 15, 28), ("p6", 25, "shaft", 22, 35),
        ("r6", 70, "shaft", 43, 62), ("s6", 25, "shaft", 35, 48), ("2768-m", 40, "length", -300, 300), ("2768-f", 5, "length", -50, 50),
        ("ISO 2768-c", 200, "length", -1200, 1200),
    ],
)  # fmt: skip
def test_limits_by_code(code: str, size: float, of: str, lower: float, upper: float) -> None:
    assert limits_of(code, size, of) == pytest.approx((lower / 1000, upper / 1000))  # type: ignore[arg-type]


def test_the_tables_follow_their_formulas() -> None:
    """ISO 286-1: i = 0.45 D^(1/3) + 0.001 D, grades 6 to 14 as multiples of it; f = 5.5 D^0.41, n = 5 D^0.34, D in the middle."""
    ends = (1, *STEPS)
    middle = np.array([np.sqrt(a * b) for a, b in pairwise(ends)])
    unit = 0.45 * np.cbrt(middle) + 0.001 * middle
    for grade, times in {6: 10, 7: 16, 8: 25, 9: 40, 10: 64, 11: 100, 12: 160, 13: 250, 14: 400}.items():
        assert np.array(GRADES[grade])[1:] == pytest.approx((times * unit)[1:], rel=0.12), grade
    for letter, factor, power in (("d", 16, 0.44), ("e", 11, 0.41), ("f", 5.5, 0.41), ("g", 2.5, 0.34)):
        assert np.array(ABOVE[letter])[1:] == pytest.approx((factor * middle**power)[1:], rel=0.13, abs=1), letter
    assert np.array(BELOW["n"])[1:] == pytest.approx((5 * middle**0.34)[1:], rel=0.15, abs=1)


@given(st.sampled_from([*ABOVE, "js", *BELOW]), st.integers(5, 8), st.floats(0.5, 500))
def test_a_class_is_as_wide_as_its_grade_and_fits_its_opposite(letter: str, grade: int, size: float) -> None:
    shaft = limits_of(f"{letter}{grade}", size, "shaft")
    hole = limits_of(f"{letter.upper()}{grade}", size, "hole")
    assert hole[1] - hole[0] == pytest.approx(shaft[1] - shaft[0])
    if letter in ABOVE:
        assert hole[0] == pytest.approx(-shaft[1]), "mirrored about the nominal"


@pytest.mark.parametrize(
    ("code", "size", "of", "sentence"),
    [
        ("h7", 25, "hole", "a tolerance class of a shaft, and this is a hole"),
        ("H7", 25, "length", "and this is a length"),
        ("H7", 800, "hole", "there is no H7 for 800 mm"),
        ("H3", 25, "hole", "grade 3 is not known"),
        ("X7", 25, "hole", "class 'x' is not known"),
        ("K9", 25, "hole", "given up to grade 8"),
        ("2768-f", 3000, "length", "gives nothing for 3000 mm"),
        ("2768-m", 30, "angle", "by the length of their sides"),
        ("seven", 25, "hole", "is no code of limits"),
    ],
)
def test_a_code_that_does_not_serve_says_so(code: str, size: float, of: str, sentence: str) -> None:
    with pytest.raises(InputError) as refused:
        limits_of(code, size, of)  # type: ignore[arg-type]
    assert sentence in refused.value.sentence


# -- lines ------------------------------------------------------------------------------------------------


def test_lines_say_what_the_table_says(part: Nominal, tmp_path: Path) -> None:
    """Every row of a table, typed: the same characteristic to the last field."""
    holes = [hole_at(part, *place) for place in HOLES]
    top = next(f.number for f in part.faces if f.kind == "plane" and f.centre[2] == pytest.approx(10))
    side = next(f.number for f in part.faces if f.kind == "plane" and f.feature.normal[0] < -0.9)  # type: ignore[union-attr]
    other = next(f.number for f in part.faces if f.kind == "plane" and f.feature.normal[0] > 0.9)  # type: ignore[union-attr]
    pattern = ";".join(map(str, holes))
    table = [
        ("flatness", str(top), "", "", "0.05", "", "", f"flatness 0.05 of face {top}"),
        ("diameter", pattern, "", "8", "H7", "", "", f"hole 8 H7 of {pattern}"),
        (
            "diameter",
            str(holes[0]),
            "",
            "8",
            "0.1",
            "-0.05",
            "two-point",
            f"diameter \u23008 +0.1/-0.05 two-point of hole {holes[0]}",
        ),
        ("position", pattern, "A", "", "0.2", "", "d M", f"position d0.2 M A of {pattern}"),
        ("distance", f"{side}|{other}", "", "80", "2768-m", "", "x", f"distance 80 ISO 2768-m x of {side}|{other}"),
        ("width", f"{side}|{other}", "", "80", "0.2", "-0.2", "", f"width 80 \u00b10.2 of {side} | {other}"),
        ("perpendicularity", str(holes[1]), "A", "", "0.1", "", "d", f"perpendicularity d0,1 A of {holes[1]}"),
    ]
    rows = [[str(k), *row[:3], row[3], row[4], row[5], row[6], ""] for k, row in enumerate(table, 1)]
    rows.append(["A", "datum", str(top), "", "", "", "", "gauss", ""])
    (tmp_path / "d.csv").write_text("\n".join(",".join(row) for row in [list(COLUMNS), *rows]))
    book = openpyxl.Workbook()
    for row in [list(COLUMNS), *rows]:
        book.active.append(
            [float(cell) if cell.replace(".", "").lstrip("-").isdigit() else cell or None for cell in row]
        )
    book.save(tmp_path / "d.xlsx")
    drawn = read_drawing(tmp_path / "d.csv", part)
    assert read_drawing(tmp_path / "d.xlsx", part) == drawn, "a spreadsheet says the same"
    datums = {"A": typed_datum(f"A={top} gauss", part)}
    sizes: dict[tuple[object, ...], tuple[float, float]] = {((h,),): (8.0, 8.015) for h in holes}
    for number, (row, made) in enumerate(zip(table, drawn, strict=True), 1):
        typed = typed_characteristic(row[7], str(number), part, datums, sizes)
        if row[0] == "position":
            assert typed.bonus == made.bonus == "most"  # type: ignore[union-attr]
            typed = typed.model_copy(update={"size_limits": made.size_limits})  # type: ignore[union-attr]
        assert typed == made, row[7]


@pytest.mark.parametrize(
    ("line", "sentence"),
    [
        ("", "it does not say of which faces"),
        ("flatness 0.05", "it does not say of which faces"),
        ("flat 0.05 of 3", "'flat' is no kind of characteristic"),
        ("flatness of 3", "it does not say how wide its zone is"),
        ("diameter 8 of {hole}", "it does not say how far the size may deviate"),
        ("diameter 8 \u00b1x of {hole}", "'x' is not a number"),
        ("diameter 8 h7 of {hole}", "and this is a hole"),
        ("flatness 0.05 of {hole}", "is not a plane, so it has no flatness"),
        ("flatness 0.05 of 99", "no face 99"),
        ("position d0.2 A|Q of {hole}", "there is no datum"),
        ("flatness 0.05 sideways of 3", "'sideways' does not belong to"),
        ("flatness -1 of 3", "the width of the zone is not above zero"),
    ],
)
def test_a_line_that_is_not_understood_says_what(part: Nominal, line: str, sentence: str) -> None:
    text = line.format(hole=hole_at(part, *HOLES[0]))
    with pytest.raises(InputError) as refused:
        typed_characteristic(text, "1", part, {}, {})
    assert sentence in refused.value.sentence, refused.value.sentence


@pytest.mark.parametrize("content", [b"PK\x03\x04 not a book", b"id,kind\n", b"\0" * 900])
def test_what_is_no_spreadsheet_says_so(part: Nominal, tmp_path: Path, content: bytes) -> None:
    (tmp_path / "d.xlsx").write_bytes(content)
    with pytest.raises(InputError, match="no XLSX file"):
        read_drawing(tmp_path / "d.xlsx", part)


def test_from_the_command_line(part: Nominal, tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    write_step(plate(), tmp_path / "n.step")
    write_mesh(tmp_path / "s.stl", sample_surface(part.mesh, part.triangle_faces, 2.0).mesh)
    top = next(f.number for f in part.faces if f.kind == "plane" and f.centre[2] == pytest.approx(10))
    given = [
        "inspect",
        str(tmp_path / "n.step"),
        str(tmp_path / "s.stl"),
        "--scan-unit",
        "mm",
        "--trim",
        "none",
        "--align",
        "none",
    ]
    typed = [
        "--datum",
        f"A={top}",
        "--characteristic",
        f"flatness 0.1 of {top}",
        "--characteristic",
        f"hole 8 H9 of {hole_at(part, *HOLES[0])}",
    ]
    assert main([*given, *typed, "--instrument", "handheld", "--json", "--out", str(tmp_path / "out")]) == 0
    lines = json.loads(capsys.readouterr().out)["characteristics"]
    assert [(c["id"], c["kind"]) for c in lines] == [("1", "flatness"), ("2", "diameter")]
    assert (lines[1]["nominal"], lines[1]["lower"], lines[1]["upper"]) == (8, 0, 0.036)
    assert main([*given, "--characteristic", "flatness of 3", "--out", str(tmp_path / "out")]) == 2
    assert "typed line: it does not say how wide its zone is" in capsys.readouterr().err


def test_lines_are_typed_in_the_window(small_desk: Hand) -> None:
    desk = small_desk
    desk.go(Key.BRIEF)
    nominal = desk.window.session.derived.nominal
    assert nominal is not None
    top = next(f.number for f in nominal.faces if f.centre[2] == pytest.approx(10, abs=0.01))
    field = desk.named("Typed characteristic")
    assert isinstance(field, QLineEdit)
    before = len(desk.window.session.job.procedure.characteristics)
    # Twice without waiting: two lines with numbers of their own.
    for limit in ("0.1", "0.2"):
        field.setText(f"flatness {limit} of face {top}")
        QTest.keyClick(field, Qt.Key.Key_Return)
    desk.wait(lambda: len(desk.window.session.derived.job.procedure.characteristics) == before + 2)
    made = desk.window.session.job.procedure.characteristics[-2:]
    assert [c.limit for c in made] == [0.1, 0.2] and made[0].id != made[1].id  # type: ignore[union-attr]
    field.setText("flatness of 3")
    QTest.keyClick(field, Qt.Key.Key_Return)
    assert "how wide its zone is" in desk.window.notice.text and field.text() == "flatness of 3", (
        "it stays to be mended"
    )
