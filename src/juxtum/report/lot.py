"""A lot as a table: one row for each characteristic of each part."""

from __future__ import annotations

import csv
from pathlib import Path

import numpy as np

from juxtum.exchange.writing import write_atomically
from juxtum.job.lot import LotRow

HEAD = (
    "part",
    "id",
    "title",
    "value",
    "unit",
    "lower",
    "upper",
    "expanded_uncertainty",
    "verdict",
    "reason",
    "rms",
    "problem",
)


def write_lot(path: Path, rows: tuple[LotRow, ...]) -> None:
    """Write the table as CSV; a part that nothing came of has a row that says why."""

    def write(target: Path) -> None:
        with target.open("w", encoding="utf-8", newline="") as file:
            table = csv.writer(file)
            table.writerow(HEAD)
            for row in rows:
                table.writerows(_cells(row))

    write_atomically(path, write)


def _cells(row: LotRow) -> list[list[object]]:
    if not row.verdicts:
        return [[row.name, *[""] * (len(HEAD) - 2), row.problem]]
    found: list[list[object]] = []
    for line in row.ledger:
        limits = line.line.limits
        is_known = bool(line.points)
        found.append([
            row.name, line.line.id, line.line.title, f"{line.value:.6g}" if is_known else "", limits.unit,
            "" if limits.lower is None else limits.lower, "" if limits.upper is None else limits.upper,
            f"{line.expanded:.3g}" if is_known else "", str(line.verdict), line.reason, f"{row.rms:.4g}", "",
        ])  # fmt: skip
    return found + _walls(row)


def _walls(row: LotRow) -> list[list[object]]:
    """The walls as a line of their own, where anything is asked of them: the thinnest place, or why there is none."""
    taken = row.walls
    if taken is None or taken.verdict is None:
        return []
    made = taken.found
    if made is None or made.decision is None:
        return [
            [
                row.name,
                "walls",
                "thinnest wall",
                "",
                "mm",
                "",
                "",
                "",
                str(taken.verdict),
                taken.problem,
                f"{row.rms:.4g}",
                "",
            ]
        ]
    limits, thinnest = made.limits, made.thinnest
    return [[
        row.name, "walls", "thinnest wall", f"{thinnest.value:.6g}", "mm", "" if limits.least is None else limits.least,
        "" if limits.most is None else limits.most, f"{thinnest.expanded:.3g}" if np.isfinite(thinnest.expanded) else "",
        str(taken.verdict), made.decision.reason, f"{row.rms:.4g}", "",
    ]]  # fmt: skip
