"""Headers of point lists: which columns hold X, Y and Z, in which unit, and what is refused in a sentence."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from juxtum.errors import InputError
from juxtum.exchange.columns import Columns, columns_of
from juxtum.exchange.meshes import read_mesh
from juxtum.units import Unit

pytestmark = pytest.mark.quick

HERE = Path("list.csv")
MM, INCH = Unit.MILLIMETRE, Unit.INCH
READ: list[tuple[str, Columns | None]] = [
    ("X,Y,Z", Columns()),
    ("x y z", Columns()),
    ("# z; y; x", Columns((2, 1, 0))),
    ("name\tX\tY\tZ", Columns((1, 2, 3))),
    ("Y [in]; X [in]; Z [in]", Columns((1, 0, 2), INCH)),
    ("x(mm) y(mm) z(mm)", Columns((0, 1, 2), MM)),
    ("X/mm,Y/mm,Z/mm", Columns((0, 1, 2), MM)),
    ("x_coord, y_coord, z_coord", Columns()),
    ("XPOS YPOS ZPOS", Columns()),
    ("X Y Z mm", Columns((0, 1, 2), MM)),
    ("x,y,z,nx,ny,nz", Columns((0, 1, 2), None, (3, 4, 5))),
    ("nx ny nz x y z", Columns((3, 4, 5), None, (0, 1, 2))),
    ("x;y;z;i;j;k", Columns((0, 1, 2), None, (3, 4, 5))),
    ('x ["],y ["],z ["]', Columns((0, 1, 2), INCH)),
    ("point, red, green, blue", None),
    ("# made on a Tuesday", None),
    ("% x marks the spot", None),
]
REFUSED = [
    ("x,y", "does not name X, Y and Z once each"),
    ("x,y,z,x", "does not name X, Y and Z once each"),
    ("x [mm],y [in],z [mm]", "names more than one unit"),
    ("x [furlong],y [furlong],z [furlong]", "the unit 'furlong' of its header is not known"),
]


@pytest.mark.parametrize(("header", "found"), READ)
def test_headers_are_read(header: str, found: Columns | None) -> None:
    assert columns_of(header, HERE) == found


@pytest.mark.parametrize(("header", "words"), REFUSED)
def test_headers_are_refused_in_a_sentence(header: str, words: str) -> None:
    with pytest.raises(InputError, match=words) as problem:
        columns_of(header, HERE)
    assert problem.value.where.endswith("list.csv") and problem.value.next


@pytest.mark.parametrize("mark", [",", ";", "\t", " "])
@pytest.mark.parametrize("order", ["xyz", "zxy", "yzx"])
def test_columns_land_where_they_belong(mark: str, order: str, tmp_path: Path) -> None:
    places = np.random.default_rng(1).uniform(-90, 90, (30, 3)).round(4)
    swapped = places[:, ["xyz".index(c) for c in order]]
    lines = [mark.join(order), *(mark.join(f"{v:.4f}" for v in row) for row in swapped)]
    path = tmp_path / "list.csv"
    path.write_text("\n".join(lines))
    assert np.array_equal(read_mesh(path).scan.points, places)


@pytest.mark.parametrize(
    ("row", "what"),
    [
        ("1,2", "row 4"),
        ("1,2,three", "row 4"),
        ("1,nan,3", "not finite"),
        ("1,2,1e400", "not finite"),
    ],
)
def test_a_row_that_cannot_be_read_is_named(row: str, what: str, tmp_path: Path) -> None:
    path = tmp_path / "list.csv"
    path.write_text("\n".join(["x,y,z", "1,2,3", "4,5,6", row, "7,8,9"]))
    with pytest.raises(InputError) as problem:
        read_mesh(path)
    assert what in str(problem.value), str(problem.value)
