"""Statistics of the map, the alignment it was made in, and what each uncertainty is made of."""

from __future__ import annotations

import math
from typing import Any

from reportlab.platypus import KeepTogether, Spacer

from juxtum.evaluate import LineResult
from juxtum.look import LIGHT
from juxtum.report import drawing as d
from juxtum.report.blocks.base import ROOM, Block, Drawn, ReportContent, facts_table, heading, number, table, words
from juxtum.wording import percent, signed, tolerance


def _statistics(content: ReportContent) -> list[Any]:
    s, scale = content.evaluation.statistics, content.scale
    facts = [
        ("points", f"{s.points}"), ("mean", signed(s.mean, 4)), ("standard deviation", f"{s.sd:.4f}"),
        ("RMS", f"{s.rms:.4f}"), ("smallest", signed(s.min, 4)), ("largest", signed(s.max, 4)),
        (f"within {tolerance(scale.lower, scale.upper)}", percent(s.within_tolerance, 2)),
        ("area seen", percent(s.area_seen)), ("beyond search", f"{s.beyond_search}"),
        ("outliers, left out", f"{s.outliers}"),
        *((f"{name} % of area below", signed(v, 4)) for name, v in s.percentiles.items()),
    ]  # fmt: skip
    return [KeepTogether([heading("Statistics of the map, weighted by area"), facts_table(facts)])]


def _alignment(content: ReportContent) -> list[Any]:
    a, other = content.evaluation.alignment, content.comparison
    locked = "   ".join(f"{axis} {by}" for axis, by in a.locked.items())
    matrix = [[number(f"{v:.8f}", 7.5) for v in row] for row in a.transform.matrix]
    told = [
        heading(f"Alignment used: {content.evaluation.name}"),
        words(f"{a.method}; RMS {a.rms:.4f} mm over {a.used} points"),
        words(f"locked by: {locked}", 8, LIGHT.ink_soft),
        table(matrix, [86.0] * 4),
        *(words(note, 8, LIGHT.undecided) for note in a.notes),
    ]
    if other is not None:
        m = other.motion
        text = f"From '{other.first}' to '{other.second}' the part moves at most {m.largest:.3f} mm and turns {m.angle:.4f}\u00b0; "
        text += f"{len(other.changes)} verdicts change" if other.changes else "no verdict changes"
        told.append(words(text, 8, LIGHT.ink_soft))
    return [KeepTogether(told)]


def _budgets(content: ReportContent) -> list[Any]:
    shown = [_budget(r) for r in content.evaluation.ledger if r.points]
    return [heading("Uncertainty budgets"), *shown] if shown else []


def _budget(r: LineResult) -> Any:
    """The contributions of one line, each with a bar as long as its share of the largest."""
    whole = f"U = {r.expanded:.4f} mm (k = {r.k:.3g})" if r.budget.is_known else "U not known"
    title = ", ".join(filter(None, (f"{r.line.id}  {r.line.title}", r.side.words)))
    head = table([[words(title, 8.5, font=d.WORD_BOLD), number(whole)]], [ROOM - 140, 140])
    known = [line.standard for line in r.budget.contributions if math.isfinite(line.standard)]
    largest = max(known, default=0.0) or 1.0
    rows = []
    for line in r.budget.contributions:
        share = line.standard / largest if math.isfinite(line.standard) else 0.0

        def paint(c: Any, share: float = share) -> None:
            c.setFillColor(LIGHT.field)
            c.rect(0, 1, 120, 5, stroke=0, fill=1)
            c.setFillColor(LIGHT.ink_soft)
            c.rect(0, 1, 120 * share, 5, stroke=0, fill=1)

        value = f"{line.standard:.4f}" if math.isfinite(line.standard) else "not known"
        rows.append(["", words(line.source, 8, LIGHT.ink_soft), Drawn(120, 7, paint), number(value)])
    return KeepTogether([head, table(rows, [12.0, 288.0, 130.0, ROOM - 430]), Spacer(0, 6)])


STATISTICS = Block("statistics", _statistics)
ALIGNMENT = Block("alignment", _alignment)
BUDGETS = Block("budgets", _budgets)
