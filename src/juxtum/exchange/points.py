"""Point lists: XYZ, CSV and the like, with points or commas as decimal sign."""

from __future__ import annotations

import codecs
import io
import re
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import numpy.typing as npt

from juxtum.exchange.columns import Columns, columns_of
from juxtum.exchange.raw import RawMesh, refuse, text_lines

_NUMBER = re.compile(rb"[+\-.\d]|nan\b|inf\b", re.IGNORECASE)
_COMMENTS = (b"#", b"/", b"%")
_DECIMAL_COMMA = re.compile(rb"\d,\d")


def read(path: Path) -> RawMesh:
    """Points from the columns that the header names X, Y and Z, or the first three; its unit counts where it names one."""
    lines = [line.strip() for line in text_lines(path)]
    if lines:
        lines[0] = lines[0].removeprefix(codecs.BOM_UTF8)
    first = next((row for row, line in enumerate(lines) if _NUMBER.match(line)), len(lines))
    head = [line for line in lines[:first] if line]
    words = [line for line in head if line[:1] not in _COMMENTS]
    lines = [line for line in lines[first:] if line and line[:1] not in _COMMENTS]
    if not lines or len(words) > 50:
        refuse(path, "this file holds no list of points", "Give three columns of numbers: X, Y and Z")
    columns = next(
        (c for line in reversed(head[-50:]) if (c := columns_of(line.decode("latin-1"), path)) is not None), Columns()
    )
    separator, comma = _layout(lines[0])
    normals = columns.normals or _unnamed_normals(lines, separator, named=bool(words))
    table = _table(path, lines, _Layout(separator, comma, (*columns.places, *(normals or ())), first))
    return RawMesh(table[:, :3], None, columns.unit, table[:, 3:] if normals else None)


def _unnamed_normals(lines: list[bytes], separator: bytes | None, *, named: bool) -> tuple[int, int, int] | None:
    """Columns 4 to 6 of a list of six without a header; whether they are unit vectors is seen once they are read."""
    rows = [line.split(separator) for line in (lines[0], lines[len(lines) // 2], lines[-1])]
    return None if named or any(len(row) != 6 for row in rows) else (3, 4, 5)


@dataclass(frozen=True)
class _Layout:
    separator: bytes | None
    comma: bool
    places: tuple[int, ...]
    skipped: int


def _layout(line: bytes) -> tuple[bytes | None, bool]:
    """The separator (None for blanks) and whether numbers have decimal commas."""
    if b";" in line:
        return b";", bool(_DECIMAL_COMMA.search(line))
    if b"\t" in line or re.search(rb"\d\s+[+\-\d]", line):
        blank = re.sub(rb",\s", b" ", line)
        return (None, True) if _DECIMAL_COMMA.search(blank) else (b"," if b"," in line else None, False)
    return (b",", False) if b"," in line else (None, False)


def _table(path: Path, lines: list[bytes], layout: _Layout) -> npt.NDArray[np.float64]:
    if layout.comma:
        lines = [line.replace(b",", b".") for line in lines]
    try:
        quick = np.loadtxt(
            io.BytesIO(b"\n".join(lines)),
            delimiter=_text(layout.separator),
            usecols=layout.places,
            comments=None,
            ndmin=2,
        )
        return np.asarray(quick, dtype=np.float64)
    except (ValueError, IndexError):
        # Row by row it takes longer, but the row that is wrong can be named.
        return _row_by_row(path, lines, layout)


def _text(separator: bytes | None) -> str | None:
    return None if separator is None else separator.decode()


def _row_by_row(path: Path, lines: list[bytes], layout: _Layout) -> npt.NDArray[np.float64]:
    result = np.empty((len(lines), len(layout.places)))
    for number, line in enumerate(lines):
        try:
            values = line.split(layout.separator)
            result[number] = [float(values[place]) for place in layout.places]
        except (ValueError, IndexError):
            refuse(
                path, f"row {number + layout.skipped + 1} does not hold three numbers: '{line[:40].decode('latin-1')}'"
            )
    return result
