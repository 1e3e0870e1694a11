"""Sections on the page: the picture of each, and its lines and arcs in words."""

from __future__ import annotations

from typing import Any

import numpy as np
from reportlab.platypus import KeepTogether, Spacer

from juxtum.evaluate.sections import Section
from juxtum.guide.sections import feature_words, section_words
from juxtum.look import LIGHT
from juxtum.report import drawing as d
from juxtum.report.blocks.base import ROOM, Block, Drawn, ReportContent, heading, words
from juxtum.scene.section_picture import SectionPicture, section_picture, usual_enlargement

TALLEST = 300.0
MARGIN = 16.0
WIDTHS = {"drawn": 0.5, "measured": 0.8, "whisker": 0.5}


def _sections(content: ReportContent) -> list[Any]:
    sections = [s for s in content.evaluation.sections if s.drawn.curves]
    if not sections:
        return []
    enlarged = usual_enlargement(sections)
    told: list[Any] = []
    for section in sections:
        head, rows = _one(
            section, section_picture(section, content.scale, enlarged, readings=content.evaluation.readings)
        )
        told += [KeepTogether(head if told else [heading("Sections"), *head]), *rows]
    return told


def _one(section: Section, picture: SectionPicture) -> tuple[list[Any], list[Any]]:
    """What stays together, and what may go on over the page."""
    size = np.maximum(np.ptp(picture.bounds, axis=0), 1e-6)
    factor = min((ROOM - 2 * MARGIN) / size[0], (TALLEST - 2 * MARGIN) / size[1])
    height = float(factor * size[1]) + 2 * MARGIN

    def paint(canvas: Any) -> None:
        low = picture.bounds[0]
        for stroke in picture.strokes:
            path = canvas.beginPath()
            places = MARGIN + factor * (stroke.points - low)
            path.moveTo(*places[0])
            for place in places[1:]:
                path.lineTo(*place)
            if stroke.is_closed:
                path.close()
            canvas.setStrokeColor(stroke.colour)
            canvas.setLineWidth(WIDTHS[stroke.role])
            canvas.drawPath(path, stroke=1, fill=0)
        for named in picture.names:
            x, y = MARGIN + factor * (named.place - low) + (16 if named.is_reading else 7) * named.aside
            d.write(canvas, float(x) - 2, float(y) - 2, named.text, d.MONO, 6, LIGHT.accent)

    caption = f"{section.plane.name}; deviations {picture.enlarged} times enlarged. {section_words(section)}"
    shown = [feature for feature in section.features if feature.measured is not None]
    rows = [words(feature_words(feature), 8, LIGHT.ink_soft) for feature in shown]
    missing = [feature.name for feature in section.features if feature.measured is None]
    if missing:
        rows.append(words(f"the scan shows too little of {', '.join(missing)}", 8, LIGHT.ink_soft))
    return [words(caption, 8.5), Drawn(ROOM, height, paint)], [*rows, Spacer(0, 8)]


SECTIONS = Block("sections", _sections)
