"""The report as PDF: cover, pictures, ledger, statistics, alignment and budget."""

from __future__ import annotations

import io
import math
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from juxtum.evaluate import Histogram, LineResult, Verdict, histogram
from juxtum.evaluate.readings import standing
from juxtum.guide.verdicts import headline
from juxtum.job import Evaluation, Job
from juxtum.job.readiness import Policy
from juxtum.job.runner import Comparison
from juxtum.look import LIGHT
from juxtum.report import drawing as d
from juxtum.report.pictures import Picture
from juxtum.scene.cards import Box, place_cards
from juxtum.scene.palette import MapScale
from juxtum.wording import measured, percent, signed, tolerance, uncertainty

WIDTH, HEIGHT = 595.28, 841.89
EDGE = 42.0
VIEW_TITLES = {"corner": "Perspective", "below": "From below"}


@dataclass(frozen=True, eq=False)
class ReportContent:
    """Everything that goes on the pages."""

    job: Job
    evaluation: Evaluation
    pictures: list[Picture]
    scale: MapScale
    comparison: Comparison | None = None


class _Pages:
    """A canvas that knows its page, its head and how much room is left."""

    def __init__(self, path: Path, content: ReportContent) -> None:
        from reportlab.pdfgen.canvas import Canvas

        d.register_fonts()
        # Without the time of day in it the same job gives the same file.
        self.canvas = Canvas(str(path), pagesize=(WIDTH, HEIGHT), invariant=1)
        self.canvas.setTitle(f"{content.job.title} {content.job.brief.serial}".strip())
        self.canvas.setAuthor(content.job.brief.operator or "Juxtum")
        self.content = content
        self.number = 0
        self.y = 0.0

    def start(self, title: str) -> None:
        """Begin a page."""
        if self.number:
            self.canvas.showPage()
        self.number += 1
        c, job = self.canvas, self.content.job
        if self.number > 1:
            d.write(c, EDGE, HEIGHT - 36, title, d.WORD_BOLD, 13)
            d.write_right(
                c, WIDTH - EDGE, HEIGHT - 36, f"{job.title}  {job.brief.serial}".strip(), d.WORD, 8, LIGHT.ink_soft
            )
            self.rule(HEIGHT - 44)
        d.write(
            c, EDGE, 24, f"Made with Juxtum  ·  alignment {self.content.evaluation.name}", d.WORD, 7, LIGHT.ink_soft
        )
        d.write_right(c, WIDTH - EDGE, 24, str(self.number), d.MONO, 8, LIGHT.ink_soft)
        self.y = HEIGHT - 66

    def rule(self, y: float) -> None:
        """A hairline across the page."""
        self.canvas.setStrokeColor(LIGHT.rule)
        self.canvas.setLineWidth(0.6)
        self.canvas.line(EDGE, y, WIDTH - EDGE, y)

    def need(self, room: float, title: str) -> None:
        """Go on to a new page when less than `room` is left."""
        if self.y - room < 44:
            self.start(title)

    def heading(self, text: str) -> None:
        """A heading within the page."""
        self.y -= 8
        d.write(self.canvas, EDGE, self.y, text, d.WORD_BOLD, 10.5)
        self.y -= 16


def write_pdf(path: Path, content: ReportContent) -> None:
    """Write the report."""
    pages = _Pages(path, content)
    area = histogram(content.evaluation.deviation, *content.scale.ends, bins=90)
    _cover(pages, area)
    _ledger(pages)
    _warnings(pages)
    _sides(pages)
    _readings(pages)
    _statistics(pages)
    _alignment(pages)
    _budgets(pages)
    pages.canvas.save()


def _cover(pages: _Pages, area: Histogram) -> None:
    pages.start("")
    c, job, evaluation = pages.canvas, pages.content.job, pages.content.evaluation
    y = HEIGHT - 74
    d.write(c, EDGE, y, d.shortened(job.title, d.WORD_BOLD, 22, WIDTH - 2 * EDGE), d.WORD_BOLD, 22)
    subtitle = "Inspection report" + (f"  ·  serial {job.brief.serial}" if job.brief.serial else "")
    d.write(c, EDGE, y - 18, subtitle, d.WORD, 11, LIGHT.ink_soft)
    pages.rule(y - 30)
    y = _fields(c, job, y - 48)
    worst = _worst(evaluation)
    d.mark(c, EDGE + 6, y - 8, worst, 11)
    d.write(c, EDGE + 20, y - 12, headline(evaluation), d.WORD_BOLD, 14, d.VERDICT_COLOURS[worst])
    rule = job.procedure.decide
    s = evaluation.statistics
    words = (
        f"{rule.rule} acceptance, alignment {evaluation.name}; {percent(s.area_seen, 0)} of the nominal area was seen"
    )
    d.write(c, EDGE + 20, y - 27, words, d.WORD, 9, LIGHT.ink_soft)
    top = y - 46
    picture = pages.content.pictures[0]
    width = WIDTH - 2 * EDGE - 96
    height = min(width * picture.pixels.shape[0] / picture.pixels.shape[1], top - 60)
    _draw_picture(pages, picture, Box(EDGE, top - height, width, height))
    d.legend(c, WIDTH - EDGE - 82, top - height + 22, (82, height - 44), pages.content.scale, area)
    d.write(c, WIDTH - EDGE - 82, top - height + 6, f"not seen {percent(1 - s.area_seen)}", d.WORD, 6.5, LIGHT.ink_soft)
    d.write(c, WIDTH - EDGE - 82, top - 12, "mm, by area", d.WORD, 6.5, LIGHT.ink_soft)
    pages.y = top - height - 6


def _worst(evaluation: Evaluation) -> Verdict:
    found = {c.verdict for c in evaluation.ledger}
    if Verdict.DOES_NOT_CONFORM in found:
        return Verdict.DOES_NOT_CONFORM
    return Verdict.CONFORMS if found == {Verdict.CONFORMS} else Verdict.NOT_DECIDED


def _readiness_rows(job: Job) -> list[tuple[str, str]]:
    """What was asked of the instrument, how it stood, and who overrode it."""
    ready = job.readiness
    rows = (
        [("Instrument check", f"{ready.policy}: {ready.reason}" if ready.reason else str(ready.policy))]
        if ready.policy is not Policy.NONE
        else []
    )
    return rows + ([("Overridden", ready.note)] if ready.note and not ready.is_met else [])


def _fields(c: Any, job: Job, y: float) -> float:
    brief = job.brief
    room, instrument = job.circumstances.environment, job.circumstances.instrument
    facts = [
        ("Part", job.title), ("Serial", brief.serial), ("Drawing", brief.drawing), ("Customer", brief.customer),
        ("Operator", brief.operator), ("Date", brief.date),
        ("Instrument", f"{instrument.name} {instrument.serial}".strip() if instrument else "not stated"),
        ("Length error", f"{instrument.a:.3f} + {instrument.b:.3f} L mm (L in m)" if instrument else "not known"),
        ("Environment", "not stated" if room.temperature is None else f"{room.temperature:.1f} \u00b1 {room.temperature_u:.1f} \u00b0C"),
        ("Nominal", job.nominal.name if job.nominal else ""), ("Scan", job.scan.name if job.scan else ""),
        ("Note", brief.note), *_readiness_rows(job),
    ]  # fmt: skip
    half = (WIDTH - 2 * EDGE) / 2
    for index, (name, value) in enumerate(facts):
        x = EDGE + (index % 2) * half
        d.write(c, x, y, name, d.WORD, 8, LIGHT.ink_soft)
        d.write(c, x + 66, y, d.shortened(value or "\u2013", d.WORD, 9, half - 74), d.WORD, 9)
        if index % 2:
            y -= 15
    return y - (21 if len(facts) % 2 else 6)


def _draw_picture(pages: _Pages, picture: Picture, box: Box) -> None:
    c = pages.canvas
    c.drawImage(_as_jpeg(picture), box.x, box.y, box.width, box.height)
    if not picture.pinned:
        return
    size = (62.0, 22.0)
    anchors = np.array([[p.x * box.width, p.y * box.height] for p in picture.pinned])
    part = picture.part * np.array([box.width, box.height])
    places = place_cards(anchors, size, Box(2, 2, box.width - 4, box.height - 4), part=part)
    for pinned, anchor, place in zip(picture.pinned, anchors, places, strict=True):
        x, y = box.x + anchor[0], box.y + box.height - anchor[1]
        c.setStrokeColor(LIGHT.ink)
        c.setLineWidth(0.5)
        if place is not None:
            c.line(x, y, box.x + place.x + size[0] / 2, box.y + box.height - place.y - size[1] / 2)
        c.setFillColor(LIGHT.panel)
        c.circle(x, y, 1.6, stroke=1, fill=1)
        if place is not None:
            r = pinned.reading
            inside = standing(r) is not Verdict.DOES_NOT_CONFORM
            d.card(c, box.x + place.x, box.y + box.height - place.y - size[1], size, r.label, r.deviation, inside)


def _as_jpeg(picture: Picture) -> Any:
    """JPEG goes into a PDF as it is; bare pixels would be packed again, which takes seconds a picture."""
    from PIL import Image
    from reportlab.lib.utils import ImageReader

    buffer = io.BytesIO()
    Image.fromarray(picture.pixels).save(buffer, "JPEG", quality=93, subsampling=0)
    buffer.seek(0)
    return ImageReader(buffer)


def _sides(pages: _Pages) -> None:
    pictures = pages.content.pictures[1:]
    gap = 12.0
    width = (WIDTH - 2 * EDGE - gap) / 2
    for index, picture in enumerate(pictures):
        height = width * picture.pixels.shape[0] / picture.pixels.shape[1]
        if index % 6 == 0:
            pages.start("The sides that show data")
            d.key(pages.canvas, EDGE, pages.y, 280, pages.content.scale)
            pages.y -= 20
        x = EDGE + (index % 2) * (width + gap)
        _draw_picture(pages, picture, Box(x, pages.y - height, width, height))
        d.write(
            pages.canvas,
            x,
            pages.y - height - 10,
            VIEW_TITLES.get(picture.view, picture.view.capitalize()),
            d.WORD,
            8,
            LIGHT.ink_soft,
        )
        if index % 2 or index == len(pictures) - 1:
            pages.y -= height + 26


def _ledger(pages: _Pages) -> None:
    title = "Ledger"
    pages.heading(title)
    meaning = next((r.measured.meaning for r in pages.content.evaluation.ledger if r.measured.meaning), "")
    if meaning:
        for part in d.wrapped(f"The value of a profile is the {meaning}.", d.WORD, 7.5, WIDTH - 2 * EDGE):
            d.write(pages.canvas, EDGE, pages.y, part, d.WORD, 7.5, LIGHT.ink_soft)
            pages.y -= 10
        pages.y -= 4
    _ledger_head(pages)
    for result in pages.content.evaluation.ledger:
        if pages.y < 70:
            pages.start(title)
            _ledger_head(pages)
        _ledger_row(pages, result)


def _warnings(pages: _Pages) -> None:
    """What stands against the numbers, each in its own lines."""
    title = "What stands against it"
    words = pages.content.evaluation.warnings
    if not words:
        return
    pages.need(50, title)
    pages.heading(title)
    for text in words:
        for part in d.wrapped(text[:1].upper() + text[1:] + ".", d.WORD, 8.5, WIDTH - 2 * EDGE):
            pages.need(14, title)
            d.write(pages.canvas, EDGE, pages.y, part, d.WORD, 8.5, LIGHT.undecided)
            pages.y -= 12


_COLUMNS = {
    "no": EDGE,
    "name": EDGE + 26,
    "tol": EDGE + 246,
    "value": EDGE + 296,
    "u": EDGE + 338,
    "ruler": EDGE + 348,
    "verdict": EDGE + 432,
}


def _ledger_head(pages: _Pages) -> None:
    c, y, x = pages.canvas, pages.y, _COLUMNS
    for key, text in (("no", "No."), ("name", "Characteristic"), ("verdict", "Verdict")):
        d.write(c, x[key], y, text, d.WORD, 7.5, LIGHT.ink_soft)
    for key, text in (("tol", "Limit"), ("value", "Measured"), ("u", "U")):
        d.write_right(c, x[key], y, text, d.WORD, 7.5, LIGHT.ink_soft)
    pages.rule(y - 5)
    pages.y -= 19


def _ledger_row(pages: _Pages, r: LineResult) -> None:
    c, y, x, line = pages.canvas, pages.y, _COLUMNS, r.line
    d.write(c, x["no"], y, line.id, d.MONO, 8)
    d.write(c, x["name"], y, d.shortened(line.title, d.WORD_BOLD, 8.5, 185), d.WORD_BOLD, 8.5)
    d.write_right(c, x["tol"], y, tolerance(line.limits.lower, line.limits.upper), d.MONO, 8)
    d.write_right(c, x["value"], y, measured(r.value, r.expanded), d.MONO_BOLD, 8.5)
    d.write_right(c, x["u"], y, uncertainty(r.expanded), d.MONO, 8, LIGHT.ink_soft)
    d.ruler(c, x["ruler"], y + 3, 72, (line.limits.lower, line.limits.upper), r.value, r.expanded, r.verdict)
    d.mark(c, x["verdict"], y + 3, r.verdict, 6.5)
    d.write(c, x["verdict"] + 8, y, str(r.verdict), d.WORD, 8)
    facts = (
        r.reason,
        f"probability of conformity {percent(r.probability)}",
        f"{percent(r.area_seen, 0)} seen",
        _both(r),
    )
    words = "; ".join(filter(None, facts)) if r.points else r.reason
    d.write(c, x["name"], y - 10.5, d.shortened(words, d.WORD, 7, WIDTH - EDGE - x["name"]), d.WORD, 7, LIGHT.ink_soft)
    pages.rule(y - 16)
    pages.y -= 30


def _both(r: LineResult) -> str:
    """The values of both sides, since the row shows the worse one."""
    return ", ".join(f"{s.side} {measured(s.value, s.expanded)}" for s in r.measured.sides if s.words)


def _readings(pages: _Pages) -> None:
    readings = pages.content.evaluation.readings
    if not readings:
        return
    pages.need(90, "Readings")
    pages.heading("Readings")
    scale = pages.content.scale
    for r in readings:
        pages.need(16, "Readings")
        y = pages.y
        d.write(pages.canvas, EDGE, y, d.shortened(r.label, d.WORD, 8.5, 110), d.WORD, 8.5)
        d.write(pages.canvas, EDGE + 120, y, "  ".join(f"{v:9.2f}" for v in r.place), d.MONO, 7.5, LIGHT.ink_soft)
        d.write_right(pages.canvas, EDGE + 330, y, measured(r.deviation, r.expanded), d.MONO_BOLD, 8.5)
        d.write_right(pages.canvas, EDGE + 376, y, uncertainty(r.expanded), d.MONO, 8, LIGHT.ink_soft)
        d.ruler(
            pages.canvas,
            EDGE + 396,
            y + 3,
            90,
            r.limits or (scale.lower, scale.upper),
            r.deviation,
            r.expanded,
            standing(r),
        )
        pages.y -= 15


def _statistics(pages: _Pages) -> None:
    s, scale = pages.content.evaluation.statistics, pages.content.scale
    pages.need(150, "Statistics")
    pages.heading("Statistics of the map, weighted by area")
    facts = [
        ("points", f"{s.points}"), ("mean", signed(s.mean, 4)), ("standard deviation", f"{s.sd:.4f}"), ("RMS", f"{s.rms:.4f}"),
        ("smallest", signed(s.min, 4)), ("largest", signed(s.max, 4)),
        (f"within {tolerance(scale.lower, scale.upper)}", percent(s.within_tolerance, 2)), ("area seen", percent(s.area_seen)),
        ("beyond search", f"{s.beyond_search}"), ("outliers, left out", f"{s.outliers}"),
        *((f"{name} % of area below", signed(v, 4)) for name, v in s.percentiles.items()),
    ]  # fmt: skip
    third = (WIDTH - 2 * EDGE) / 3
    for index, (name, value) in enumerate(facts):
        x = EDGE + (index % 3) * third
        d.write(pages.canvas, x, pages.y, name, d.WORD, 8, LIGHT.ink_soft)
        d.write_right(pages.canvas, x + third - 16, pages.y, value, d.MONO, 8.5)
        if index % 3 == 2 or index == len(facts) - 1:
            pages.y -= 14


def _alignment(pages: _Pages) -> None:
    a = pages.content.evaluation.alignment
    pages.need(170, "Alignment")
    pages.heading(f"Alignment used: {pages.content.evaluation.name}")
    c = pages.canvas
    d.write(c, EDGE, pages.y, f"{a.method}; RMS {a.rms:.4f} mm over {a.used} points", d.WORD, 8.5)
    pages.y -= 14
    locked = "   ".join(f"{axis} {by}" for axis, by in a.locked.items())
    d.write(c, EDGE, pages.y, f"locked by: {locked}", d.WORD, 8, LIGHT.ink_soft)
    pages.y -= 14
    for row in a.transform.matrix:
        d.write(c, EDGE, pages.y, "  ".join(f"{v:14.8f}" for v in row), d.MONO, 7.5)
        pages.y -= 11
    for note in a.notes:
        d.write(c, EDGE, pages.y, note, d.WORD, 8, LIGHT.undecided)
        pages.y -= 12
    other = pages.content.comparison
    if other is not None:
        m = other.motion
        words = f"From '{other.first}' to '{other.second}' the part moves at most {m.largest:.3f} mm and turns {m.angle:.4f}\u00b0; "
        words += f"{len(other.changes)} verdicts change" if other.changes else "no verdict changes"
        d.write(c, EDGE, pages.y, words, d.WORD, 8, LIGHT.ink_soft)
        pages.y -= 12


def _budgets(pages: _Pages) -> None:
    title = "Uncertainty budgets"
    shown = [r for r in pages.content.evaluation.ledger if r.points]
    if not shown:
        return
    pages.need(120, title)
    pages.heading(title)
    c = pages.canvas
    for r in shown:
        pages.need(20 + 12 * len(r.budget.contributions), title)
        head = ", ".join(filter(None, (f"{r.line.id}  {r.line.title}", r.side.words)))
        d.write(c, EDGE, pages.y, d.shortened(head, d.WORD_BOLD, 8.5, 330), d.WORD_BOLD, 8.5)
        d.write_right(
            c,
            WIDTH - EDGE,
            pages.y,
            f"U = {r.expanded:.4f} mm (k = {r.k:.3g})" if r.budget.is_known else "U not known",
            d.MONO,
            8,
        )
        pages.y -= 12
        largest = (
            max((line.standard for line in r.budget.contributions if math.isfinite(line.standard)), default=0.0) or 1.0
        )
        for line in r.budget.contributions:
            d.write(c, EDGE + 12, pages.y, line.source, d.WORD, 8, LIGHT.ink_soft)
            c.setFillColor(LIGHT.field)
            c.rect(EDGE + 300, pages.y, 120, 5, stroke=0, fill=1)
            c.setFillColor(LIGHT.ink_soft)
            if math.isfinite(line.standard):
                c.rect(EDGE + 300, pages.y, 120 * line.standard / largest, 5, stroke=0, fill=1)
            d.write_right(
                c,
                WIDTH - EDGE,
                pages.y,
                f"{line.standard:.4f}" if math.isfinite(line.standard) else "not known",
                d.MONO,
                8,
            )
            pages.y -= 11
        pages.y -= 6
