"""The ledger, what stands against it, and the readings: every value beside its limits."""

from __future__ import annotations

from typing import Any

from juxtum.evaluate import LineResult, Verdict
from juxtum.evaluate.readings import standing
from juxtum.guide.verdicts import limit_words, value_words
from juxtum.look import LIGHT
from juxtum.report import drawing as d
from juxtum.report.blocks.base import ROOM, Block, Drawn, ReportContent, hairline, heading, number, table, words
from juxtum.wording import measured, percent, uncertainty

COLUMNS = (26.0, 172.0, 62.0, 52.0, 40.0, 84.0)
"""Number, characteristic, limits, value, U and ruler; the verdict takes what is left."""


def _ledger(content: ReportContent) -> list[Any]:
    results = content.evaluation.ledger
    meaning = next((r.measured.meaning for r in results if r.measured.meaning), "")
    told = [words(f"The value of a profile is the {meaning}.", 7.5, LIGHT.ink_soft)] if meaning else []
    heads = [words(t, 7.5, LIGHT.ink_soft) for t in ("No.", "Characteristic")]
    heads += [number(t, 7.5, LIGHT.ink_soft, d.WORD) for t in ("Limit", "Measured", "U")]
    rows: list[list[Any]] = [[*heads, "", words("Verdict", 7.5, LIGHT.ink_soft)]]
    commands: list[tuple[Any, ...]] = [hairline(0, 0)]
    for r in results:
        at = len(rows)
        rows += [_row(r), ["", words(_facts(r), 7, LIGHT.ink_soft), "", "", "", "", ""]]
        commands += [
            ("SPAN", (1, at + 1), (-1, at + 1)), ("NOSPLIT", (0, at), (-1, at + 1)), hairline(at + 1, at + 1),
            ("TOPPADDING", (0, at), (-1, at), 4), ("BOTTOMPADDING", (0, at + 1), (-1, at + 1), 4),
        ]  # fmt: skip
    widths = [*COLUMNS, ROOM - sum(COLUMNS)]
    return [heading("Ledger"), *told, table(rows, widths, *commands, head=1)]


def _row(r: LineResult) -> list[Any]:
    limits = (r.line.limits.lower, r.line.limits.upper)
    return [
        words(r.line.id, 8, font=d.MONO),
        words(r.line.title, 8.5, font=d.WORD_BOLD),
        number(limit_words(r.line.limits)),
        number(value_words(r.line.limits, r.value, r.expanded), 8.5, font=d.MONO_BOLD),
        number(uncertainty(r.expanded), 8, LIGHT.ink_soft),
        Drawn(80, 10, lambda c: d.ruler(c, 4, 5, 72, limits, r.value, r.expanded, r.verdict)),
        _verdict(r.verdict),
    ]


def _verdict(verdict: Verdict) -> Drawn:
    def paint(c: Any) -> None:
        d.mark(c, 4, 5, verdict, 6.5)
        d.write(c, 12, 2, str(verdict), d.WORD, 8)

    return Drawn(80, 10, paint)


def _facts(r: LineResult) -> str:
    if not r.points:
        return r.reason
    both = ", ".join(f"{s.side} {measured(s.value, s.expanded)}" for s in r.measured.sides if s.words)
    datums = f"datums {r.line.datums}" if r.line.datums else ""
    facts = (
        datums, r.reason, f"probability of conformity {percent(r.probability)}", f"{percent(r.area_seen, 0)} seen", both
    )  # fmt: skip
    return "; ".join(filter(None, facts))


def _warnings(content: ReportContent) -> list[Any]:
    """What stands against the numbers, each in a sentence of its own."""
    against = content.evaluation.warnings
    if not against:
        return []
    lines = [words(text[:1].upper() + text[1:] + ".", 8.5, LIGHT.undecided) for text in against]
    return [heading("What stands against it"), *lines]


def _readings(content: ReportContent) -> list[Any]:
    readings = content.evaluation.readings
    if not readings:
        return []
    rows = []
    for r in readings:
        limits = r.limits or (content.scale.lower, content.scale.upper)

        def paint(c: Any, r: Any = r, limits: Any = limits) -> None:
            d.ruler(c, 4, 5, 90, limits, r.deviation, r.expanded, standing(r))

        rows.append(
            [
                words(r.label, 8.5),
                number("  ".join(f"{v:.2f}" for v in r.place), 7.5, LIGHT.ink_soft),
                number(measured(r.deviation, r.expanded), 8.5, font=d.MONO_BOLD),
                number(uncertainty(r.expanded), 8, LIGHT.ink_soft),
                Drawn(100, 10, paint),
            ]
        )
    heads = [words("Reading", 7.5, LIGHT.ink_soft)]
    heads += [number(t, 7.5, LIGHT.ink_soft, d.WORD) for t in ("X  Y  Z", "Deviation", "U")]
    widths = [130.0, 130.0, 66.0, 50.0, ROOM - 376]
    return [heading("Readings"), table([[*heads, ""], *rows], widths, hairline(0, 0), head=1)]


LEDGER = Block("ledger", _ledger)
WARNINGS = Block("warnings", _warnings)
READINGS = Block("readings", _readings)
