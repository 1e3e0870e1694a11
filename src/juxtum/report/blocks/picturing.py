"""Pictures of the part on a page, with the cards of what is pinned to it; and the sides that show data."""

from __future__ import annotations

import io
from typing import Any

import numpy as np
from reportlab.platypus import KeepTogether, Spacer

from juxtum.evaluate import Verdict
from juxtum.evaluate.readings import standing
from juxtum.look import LIGHT
from juxtum.report import drawing as d
from juxtum.report.blocks.base import ROOM, Block, Drawn, ReportContent, heading, table
from juxtum.report.pictures import Picture
from juxtum.scene.cards import Box, place_cards

VIEW_TITLES = {"corner": "Perspective", "below": "From below"}
CARD = (62.0, 22.0)
GAP = 12.0


def height_of(picture: Picture, width: float) -> float:
    """How tall a picture is at a width."""
    rows, columns = picture.pixels.shape[:2]
    return width * float(rows / columns)


def draw_picture(c: Any, picture: Picture, box: Box) -> None:
    """A picture into a box of the page, and what is pinned to it."""
    c.drawImage(_as_jpeg(picture), box.x, box.y, box.width, box.height)
    if not picture.pinned:
        return
    anchors = np.array([[p.x * box.width, p.y * box.height] for p in picture.pinned])
    part = picture.part * np.array([box.width, box.height])
    places = place_cards(anchors, CARD, Box(2, 2, box.width - 4, box.height - 4), part=part)
    for pinned, anchor, place in zip(picture.pinned, anchors, places, strict=True):
        x, y = box.x + anchor[0], box.y + box.height - anchor[1]
        c.setStrokeColor(LIGHT.ink)
        c.setLineWidth(0.5)
        if place is not None:
            c.line(x, y, box.x + place.x + CARD[0] / 2, box.y + box.height - place.y - CARD[1] / 2)
        c.setFillColor(LIGHT.panel)
        c.circle(x, y, 1.6, stroke=1, fill=1)
        if place is not None:
            r = pinned.reading
            inside = standing(r) is not Verdict.DOES_NOT_CONFORM
            d.card(c, box.x + place.x, box.y + box.height - place.y - CARD[1], CARD, r.label, r.deviation, inside)


def _as_jpeg(picture: Picture) -> Any:
    """JPEG goes into a PDF as it is; bare pixels would be packed again, which takes seconds a picture."""
    from PIL import Image
    from reportlab.lib.utils import ImageReader

    buffer = io.BytesIO()
    Image.fromarray(picture.pixels).save(buffer, "JPEG", quality=93, subsampling=0)
    buffer.seek(0)
    return ImageReader(buffer)


def _sides(content: ReportContent) -> list[Any]:
    pictures = content.pictures[1:]
    if not pictures:
        return []
    cells: list[Any] = [_side(picture) for picture in pictures]
    cells += [""] * (len(cells) % 2)
    rows = [cells[k : k + 2] for k in range(0, len(cells), 2)]
    key = Drawn(ROOM, 16, lambda c: d.key(c, 0, 9, 280, content.map_scale, content.map_unit))
    widths = [ROOM / 2, ROOM / 2]
    first = KeepTogether([heading("The sides that show data"), key, Spacer(0, 6), table(rows[:1], widths)])
    return [first, table(rows[1:], widths)] if rows[1:] else [first]


def _side(picture: Picture) -> Drawn:
    width = (ROOM - GAP) / 2
    height = height_of(picture, width)
    title = VIEW_TITLES.get(picture.view, picture.view.capitalize())

    def paint(c: Any) -> None:
        draw_picture(c, picture, Box(0, 14, width, height))
        d.write(c, 0, 4, title, d.WORD, 8, LIGHT.ink_soft)

    return Drawn(width, height + 16, paint)


SIDES = Block("sides", _sides)
