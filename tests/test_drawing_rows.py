"""Rows of a drawing that cannot be read, each with the sentence it must give, its line and its column."""

from __future__ import annotations

from pathlib import Path

import pytest

from juxtum.errors import InputError
from juxtum.evaluate.drawing import read_drawing
from juxtum.nominal import Nominal
from test_drawing import DATUMS, HEADS, named, part

__all__ = ["named", "part"]

SENTENCES = [
    ("1,flatness,{top},,,,,,", "the width of the zone is missing", "line 8, column upper"),
    ("1,flatness,{top},,,-1,,,", "the width of the zone is not above zero", "column upper"),
    ("1,flatness,{hole},,,0.1,,,", "has no flatness", "column features"),
    ("1,dance,{top},,,0.1,,,", "'dance' is no kind of characteristic", "column kind"),
    ("1,position,999,A,,0.1,,d,", "999", "column features"),
    ("1,position,x,A,,0.1,,d,", "'x' names no features", "column features"),
    ("1,position,{hole},E,,0.1,,d,", "there is no datum 'E'", "column datums"),
    ("1,position,{hole},A|A,,0.1,,d,", "a datum is named twice", "column datums"),
    ("1,parallelism,{top},,,0.1,,,", "parallelism needs a datum", "column datums"),
    ("1,diameter,{hole},,,0.1,,,", "a size needs both deviations", "column lower"),
    ("1,diameter,{hole},,,-0.1,0.1,,", "the lower deviation 0.1 is not below the upper -0.1", "column lower"),
    ("1,diameter,{hole},,,inf,0.1,,", "'inf' is not a size", "column upper"),
    ("1,diameter,{hole},,,much,0.1,,", "'much' is not a number", "column upper"),
    ("1,diameter,{top},,,0.1,-0.1,,", "has no diameter", "column features"),
    ("1,coaxiality,{hole},A,,0.1,,,", "coaxiality needs a datum with an axis", "column datums"),
    ("1,symmetry,{near}|{far},,,0.1,,,", "symmetry needs a datum", "column datums"),
    ("E,datum,999,,,,,,", "the nominal has no face 999", "line 8, column features"),
    ("A,datum,{top},,,,,,", "there are two datums 'A'", "line 8, column id"),
    ("1,coaxiality,{top},D,,0.1,,,", "is a plane, which has no axis", "column features"),
    ("1,cylindricity,{top},,,0.1,,,", "has no cylindricity", "column features"),
    ("1,distance,{top},,,0.1,-0.1,,", "distance is about two features", "column features"),
    ("1,distance,{top}|{foot},,,0.1,-0.1,along 0 0,", "'along' wants 3 numbers after it", "column modifier"),
    ("1,diameter,{hole},,,0.1,-0.1,M,", "'M' does not belong to diameter", "column modifier"),
    ("1,width,{front}|{left},,,0.1,-0.1,,", "its two sides are not parallel", "column features"),
    ("1,runout,{boss},D,,0.1,,,\n1,flatness,{top},,,0.1,,,", "there are two characteristics '1'", "line 9, column id"),
    ("a,datum,{top},,,,,,", "'a' is no letter of a datum", "column id"),
    ("E,datum,{top},,,,,tight,", "a datum is not 'tight'", "column modifier"),
    ("1,flatness,{top},,,0.1,,,a title, with a comma", "cells under 9 columns", "line 8"),
    ("", "the drawing has no characteristics", "d.csv"),
]  # fmt: skip


@pytest.mark.parametrize(("row", "what", "where"), SENTENCES)
def test_a_row_that_cannot_be_read_is_told(
    row: str, what: str, where: str, part: Nominal, named: dict[str, int], tmp_path: Path
) -> None:
    path = tmp_path / "d.csv"
    path.write_text(f"{HEADS}\n{(DATUMS + row).format(**named)}\n")
    with pytest.raises(InputError) as told:
        read_drawing(path, part)
    assert what in told.value.what and where in told.value.where and told.value.next, told.value
