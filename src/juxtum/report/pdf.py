"""The report as PDF: its blocks one after another; pages and tables break by themselves."""

from __future__ import annotations

from functools import partial
from pathlib import Path
from typing import Any

from reportlab.platypus import BaseDocTemplate, Frame, PageTemplate

from juxtum.look import LIGHT
from juxtum.report import drawing as d
from juxtum.report.blocks import BLOCKS, ReportContent

WIDTH, HEIGHT = 595.28, 841.89
EDGE, HEAD, FOOT = 42.0, 52.0, 40.0


def write_pdf(path: Path, content: ReportContent) -> None:
    """Write the report."""
    d.register_fonts()
    job = content.job
    # Without the time of day in it the same job gives the same file.
    document = BaseDocTemplate(
        str(path), pagesize=(WIDTH, HEIGHT), invariant=1, title=f"{job.title} {job.brief.serial}".strip(),
        author=job.brief.operator or "Juxtum",
    )  # fmt: skip
    room = {"leftPadding": 0, "rightPadding": 0, "topPadding": 0, "bottomPadding": 0}
    first = Frame(EDGE, FOOT, WIDTH - 2 * EDGE, HEIGHT - FOOT - EDGE, id="first", **room)
    later = Frame(EDGE, FOOT, WIDTH - 2 * EDGE, HEIGHT - FOOT - HEAD, id="later", **room)
    paint = partial(_page, content)
    document.addPageTemplates(
        [
            PageTemplate("first", [first], onPage=paint, autoNextPageTemplate="later"),
            PageTemplate("later", [later], onPage=paint),
        ]
    )
    document.build([piece for block in BLOCKS for piece in block.make(content)])


def _page(content: ReportContent, canvas: Any, document: Any) -> None:
    """Head and foot."""
    job, y = content.job, HEIGHT - 36
    if document.page > 1:
        d.write(canvas, EDGE, y, "Inspection report", d.WORD, 8, LIGHT.ink_soft)
        d.write_right(canvas, WIDTH - EDGE, y, f"{job.title}  {job.brief.serial}".strip(), d.WORD, 8, LIGHT.ink_soft)
        canvas.setStrokeColor(LIGHT.rule)
        canvas.setLineWidth(0.6)
        canvas.line(EDGE, y - 8, WIDTH - EDGE, y - 8)
    d.write(canvas, EDGE, 24, f"Made with Juxtum  ·  alignment {content.evaluation.name}", d.WORD, 7, LIGHT.ink_soft)
    d.write_right(canvas, WIDTH - EDGE, 24, str(document.page), d.MONO, 8, LIGHT.ink_soft)
