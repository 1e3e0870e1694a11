"""Tables from spreadsheets: the first sheet of an XLSX file as text."""

from __future__ import annotations

import zipfile
from pathlib import Path

from juxtum.errors import InputError

MOST_BYTES = 60_000_000
"""Unpacked."""
MOST_COLUMNS = 200


def read_sheet(path: Path, most_rows: int) -> list[list[str]]:
    """Rows of the first sheet; numbers as they would be typed, cells without anything as empty text.

    Raises
    ------
    InputError
        When it is no such file, or too large.
    """
    try:
        with zipfile.ZipFile(path) as packed:
            unpacked = sum(entry.file_size for entry in packed.infolist())
    except (zipfile.BadZipFile, OSError) as problem:
        raise InputError("this is no XLSX file", path.name, "Save the table as XLSX or CSV") from problem
    if unpacked > MOST_BYTES:
        raise InputError("this is too large to be a table", path.name, "Give fewer rows")
    # Late: the library takes its time to load.
    from openpyxl import load_workbook

    try:
        book = load_workbook(path, read_only=True, data_only=True)
        sheet = book.worksheets[0]
        rows = []
        for row in sheet.iter_rows(max_row=most_rows + 2, max_col=MOST_COLUMNS, values_only=True):
            rows.append([_text(cell) for cell in row])
        book.close()
    except Exception as problem:
        raise InputError(
            "this is no XLSX file that can be read", path.name, "Save the table as XLSX or CSV"
        ) from problem
    while rows and not any(rows[-1]):
        rows.pop()
    return [_trimmed(row) for row in rows]


def _text(cell: object) -> str:
    if cell is None:
        return ""
    if isinstance(cell, float) and cell.is_integer():
        return str(int(cell))
    return str(cell).strip()


def _trimmed(row: list[str]) -> list[str]:
    while row and not row[-1]:
        row.pop()
    return row
