"""Ledger and readings as CSV and as a spreadsheet."""

from __future__ import annotations

import csv
import math
from pathlib import Path
from typing import Any

from juxtum.evaluate.readings import standing
from juxtum.job import Evaluation, Job

LEDGER_COLUMNS = (
    "no.", "characteristic", "kind", "nominal", "lower", "upper", "value", "U", "k", "probability conforming", "verdict", "reason",
)  # fmt: skip
READING_COLUMNS = ("reading", "x", "y", "z", "face", "deviation", "U", "points", "lower", "upper", "verdict")


def ledger_rows(evaluation: Evaluation) -> list[list[Any]]:
    """One row for each characteristic, as `LEDGER_COLUMNS`."""
    rows = []
    for c in evaluation.ledger:
        line = c.line
        limits = (line.limits.nominal, line.limits.lower, line.limits.upper)
        expanded = c.expanded if c.points else None
        rows.append(
            [line.id, line.title, line.kind, *limits, c.value, expanded, c.k, c.probability, str(c.verdict), c.reason]
        )
    return rows


def reading_rows(evaluation: Evaluation) -> list[list[Any]]:
    """One row for each reading, as `READING_COLUMNS`."""
    return [
        [
            r.label,
            *r.place,
            r.face,
            r.deviation,
            r.expanded if r.is_seen else None,
            r.count,
            *(r.limits or (None, None)),
            str(standing(r)),
        ]
        for r in evaluation.readings
    ]


def _cell(value: Any) -> Any:
    """Numbers rounded to a tenth of a micrometre, blanks for what is not known, no formulas from names."""
    if value is None or (isinstance(value, float) and not math.isfinite(value)):
        return ""
    if isinstance(value, float):
        return round(float(value), 6)
    if isinstance(value, str) and value[:1] in "=+-@\t\r":
        return "'" + value
    return value


def write_csv(path: Path, evaluation: Evaluation) -> None:
    """Ledger, then readings, in one file with a blank line between."""
    with path.open("w", newline="", encoding="utf-8") as file:
        sheet = csv.writer(file)
        sheet.writerow(LEDGER_COLUMNS)
        sheet.writerows([[_cell(v) for v in row] for row in ledger_rows(evaluation)])
        if evaluation.readings:
            sheet.writerow([])
            sheet.writerow(READING_COLUMNS)
            sheet.writerows([[_cell(v) for v in row] for row in reading_rows(evaluation)])
        if words := evaluation.warnings:
            sheet.writerow([])
            sheet.writerows([["note", _cell(text)] for text in words])


def write_xlsx(path: Path, job: Job, evaluation: Evaluation) -> None:
    """A spreadsheet with the ledger, the readings and the statistics."""
    import xlsxwriter

    options = {"strings_to_formulas": False, "strings_to_urls": False, "nan_inf_to_errors": False}
    with xlsxwriter.Workbook(str(path), options) as book:
        head = book.add_format({"bold": True, "bottom": 1})
        number = book.add_format({"num_format": "+0.000;-0.000;0.000"})
        _sheet(book, "Ledger", LEDGER_COLUMNS, ledger_rows(evaluation), head, number)
        _sheet(book, "Readings", READING_COLUMNS, reading_rows(evaluation), head, number)
        s, instrument = evaluation.statistics, job.circumstances.instrument
        facts: list[list[Any]] = [
            ["part", job.brief.part], ["serial", job.brief.serial], ["drawing", job.brief.drawing],
            ["operator", job.brief.operator], ["instrument", instrument.name if instrument is not None else "not stated"], ["date", job.brief.date],
            ["alignment", evaluation.name], ["points", s.points], ["area seen", s.area_seen], ["mean", s.mean],
            ["standard deviation", s.sd], ["RMS", s.rms], ["min", s.min], ["max", s.max],
            ["within tolerance", s.within_tolerance], ["beyond search", s.beyond_search],
            *([f"percentile {name}", value] for name, value in s.percentiles.items()),
            *(["note", text] for text in evaluation.warnings),
        ]  # fmt: skip
        _sheet(book, "Statistics", ("what", "value"), facts, head, number)


def _sheet(book: Any, name: str, columns: tuple[str, ...], rows: list[list[Any]], head: Any, number: Any) -> None:
    sheet = book.add_worksheet(name)
    sheet.write_row(0, 0, columns, head)
    for y, row in enumerate(rows, 1):
        for x, value in enumerate(row):
            cell = _cell(value)
            sheet.write(y, x, cell, number if isinstance(cell, float) else None)
    for x, column in enumerate(columns):
        longest = max([len(column)] + [len(str(_cell(row[x]))) for row in rows])
        sheet.set_column(x, x, min(longest + 2, 60))
    sheet.freeze_panes(1, 0)
