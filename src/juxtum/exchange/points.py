"""Point lists: XYZ, CSV and the like, with points or commas as decimal sign."""

from __future__ import annotations

import io
import re
from pathlib import Path

import numpy as np
import numpy.typing as npt

from juxtum.exchange.raw import RawMesh, refuse, text_lines

_DECIMAL_COMMA = re.compile(rb"\d,\d")


def read(path: Path) -> RawMesh:
    """Points from the first three columns; header and comment lines are passed over."""
    lines = [line.strip() for line in text_lines(path)]
    lines = [line for line in lines if line and line[:1] not in (b"#", b"/", b"%")]
    skipped = 0
    while lines and not re.match(rb"[+\-.\d]|nan|inf", lines[0], re.IGNORECASE):
        lines.pop(0)
        skipped += 1
        if skipped > 50:
            break
    if not lines or skipped > 50:
        refuse(path, "this file holds no list of points", "Give three columns of numbers: X, Y and Z")
    separator, comma = _layout(lines[0])
    return RawMesh(_table(path, lines, separator, comma, skipped), None)


def _layout(line: bytes) -> tuple[bytes | None, bool]:
    """The separator (None for blanks) and whether numbers have decimal commas."""
    if b";" in line:
        return b";", bool(_DECIMAL_COMMA.search(line))
    if b"\t" in line or re.search(rb"\d\s+[+\-\d]", line):
        blank = re.sub(rb",\s", b" ", line)
        return (None, True) if _DECIMAL_COMMA.search(blank) else (b"," if b"," in line else None, False)
    return (b",", False) if b"," in line else (None, False)


def _table(path: Path, lines: list[bytes], separator: bytes | None, comma: bool, skipped: int) -> npt.NDArray[np.float64]:
    if comma:
        lines = [line.replace(b",", b".") for line in lines]
    try:
        quick = np.loadtxt(io.BytesIO(b"\n".join(lines)), delimiter=_text(separator), usecols=(0, 1, 2), comments=None, ndmin=2)
        return np.asarray(quick, dtype=np.float64)
    except (ValueError, IndexError):
        # Row by row it takes longer, but the row that is wrong can be named.
        return _row_by_row(path, lines, separator, skipped)


def _text(separator: bytes | None) -> str | None:
    return None if separator is None else separator.decode()


def _row_by_row(path: Path, lines: list[bytes], separator: bytes | None, skipped: int) -> npt.NDArray[np.float64]:
    result = np.empty((len(lines), 3))
    for number, line in enumerate(lines):
        try:
            x, y, z = line.split(separator)[:3]
            result[number] = float(x), float(y), float(z)
        except ValueError:
            refuse(path, f"row {number + skipped + 1} does not hold three numbers: '{line[:40].decode('latin-1')}'")
    return result
