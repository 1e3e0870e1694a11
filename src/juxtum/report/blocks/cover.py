"""The cover: what was measured, what it came to, and the map."""

from __future__ import annotations

from typing import Any

from reportlab.platypus import HRFlowable, Spacer

from juxtum.evaluate import Histogram, histogram
from juxtum.guide.verdicts import headline, worst_verdict
from juxtum.instruments.stated import Instrument
from juxtum.job import Job
from juxtum.job.joins import measured_title
from juxtum.job.readiness import Policy
from juxtum.job.touching import touches_in
from juxtum.look import LIGHT
from juxtum.report import drawing as d
from juxtum.report.blocks.base import ROOM, Block, Drawn, ReportContent, table, words
from juxtum.report.blocks.picturing import draw_picture, height_of
from juxtum.scene.cards import Box
from juxtum.wording import percent

LEGEND = 96.0
TALLEST = 400.0
"""The map leaves room for the head of the ledger on the same page."""


def _made(content: ReportContent) -> list[Any]:
    job, evaluation = content.job, content.evaluation
    subtitle = "Inspection report" + (f"  ·  serial {job.brief.serial}" if job.brief.serial else "")
    seen = evaluation.statistics.area_seen
    stand = f"{job.procedure.decide.rule} acceptance, alignment {evaluation.name}; {percent(seen, 0)} of the nominal area was seen"
    worst = worst_verdict(evaluation)
    mark = Drawn(16, 14, lambda c: d.mark(c, 6, 6, worst, 11))
    return [
        words(d.shortened(job.title, d.WORD_BOLD, 22, ROOM), 22, font=d.WORD_BOLD),
        words(subtitle, 11, LIGHT.ink_soft),
        HRFlowable(width="100%", thickness=0.6, color=LIGHT.rule, spaceBefore=6, spaceAfter=8),
        _fields(job),
        Spacer(0, 8),
        table([[mark, words(headline(evaluation), 14, d.VERDICT_COLOURS[worst], d.WORD_BOLD)]], [20, ROOM - 20]),
        table([["", words(stand, 9, LIGHT.ink_soft)]], [20, ROOM - 20]),
        Spacer(0, 8),
        _map(content),
    ]


def _readiness_rows(job: Job) -> list[tuple[str, str]]:
    """What was asked of the instrument, how it stood, and who overrode it."""
    ready = job.readiness
    asked = f"{ready.policy}: {ready.reason}" if ready.reason else str(ready.policy)
    rows = [] if ready.policy is Policy.NONE else [("Instrument check", asked)]
    return rows + (
        [("Overridden", f"{ready.note} ({ready.by})")]
        if ready.note and not ready.is_met and not ready.objection
        else []
    )


def _fields(job: Job) -> Any:
    brief = job.brief
    room, instrument = job.circumstances.environment, job.circumstances.instrument
    warm = room.temperature
    facts = [
        ("Part", job.title), ("Serial", brief.serial), ("Drawing", brief.drawing), ("Customer", brief.customer),
        ("Operator", brief.operator), ("Date", brief.date),
        ("Instrument", f"{instrument.name} {instrument.serial}".strip() if instrument else "not stated"),
        ("Its errors", _errors(instrument)),
        ("Environment", "not stated" if warm is None else f"{warm:.1f} \u00b1 {room.temperature_u:.1f} \u00b0C"),
        ("Nominal", job.nominal.name if job.nominal else ""), ("Scan", measured_title(job)),
        *((("Touched", ", ".join(held.file.name for held in touches_in(job))),) if touches_in(job) else ()),
        ("Note", brief.note), *_readiness_rows(job),
    ]  # fmt: skip
    cells = [(words(name, 8, LIGHT.ink_soft), words(value or "\u2013", 9)) for name, value in facts]
    cells += [("", "")] * (len(cells) % 2)
    rows = [(*cells[k], *cells[k + 1]) for k in range(0, len(cells), 2)]
    half = ROOM / 2 - 70
    return table(rows, [70, half, 70, half], ("VALIGN", (0, 0), (-1, -1), "TOP"))


def _errors(instrument: Instrument | None) -> str:
    if instrument is None:
        return "not known"
    again = f"; repeatability {instrument.repeatability:.4f} mm" if instrument.repeatability > 0 else ""
    return f"length {instrument.a:.3f} + {instrument.b:.3f} L mm (L in m){again}"


def _map(content: ReportContent) -> Any:
    """The first picture, and beside it the legend with the share of area at each colour."""
    picture, scale = content.pictures[0], content.map_scale
    width = ROOM - LEGEND
    height = min(height_of(picture, width), TALLEST)
    width = width * height / height_of(picture, width)
    seen = content.evaluation.statistics.area_seen
    area: Histogram = histogram(content.map_deviation, *scale.ends, bins=90)
    x = ROOM - 82

    def paint(c: Any) -> None:
        draw_picture(c, picture, Box(0, 0, width, height))
        d.legend(c, x, 22, (82, height - 44), scale, area)
        d.write(c, x, 6, f"not seen {percent(1 - seen)}", d.WORD, 6.5, LIGHT.ink_soft)
        d.write(c, x, height - 12, f"{content.map_unit}, by area", d.WORD, 6.5, LIGHT.ink_soft)

    return Drawn(ROOM, height, paint)


COVER = Block("cover", _made)
