"""Marks, rulers, legends and cards as vectors on the report's pages."""

from __future__ import annotations

import io
from collections.abc import Sequence
from itertools import pairwise
from typing import Any

import numpy as np

from juxtum.evaluate import Histogram, Verdict
from juxtum.look import LIGHT, asset
from juxtum.scene.palette import MapScale, colours
from juxtum.wording import signed, signed_short

WORD, WORD_BOLD, MONO, MONO_BOLD = "JuxtumWord", "JuxtumWordBold", "JuxtumMono", "JuxtumMonoBold"
_FILES = {
    WORD: "AtkinsonHyperlegible-Regular.ttf",
    WORD_BOLD: "AtkinsonHyperlegible-Bold.ttf",
    MONO: "AtkinsonHyperlegibleMono-Regular.ttf",
    MONO_BOLD: "AtkinsonHyperlegibleMono-Bold.ttf",
}
VERDICT_COLOURS = {
    Verdict.CONFORMS: LIGHT.conforms,
    Verdict.DOES_NOT_CONFORM: LIGHT.not_conforming,
    Verdict.NOT_DECIDED: LIGHT.undecided,
}


def register_fonts() -> None:
    """Make the shipped fonts known to the PDF writer."""
    from reportlab import rl_config
    from reportlab.pdfbase import pdfmetrics
    from reportlab.pdfbase.ttfonts import TTFont

    # Pictures as bytes: as text they are a quarter larger, and turning them into it takes a second a report.
    rl_config.useA85 = 0
    for name, file in _FILES.items():
        if name not in pdfmetrics.getRegisteredFontNames():
            pdfmetrics.registerFont(TTFont(name, str(asset("fonts") / file)))


SIGNS = (
    ("\u2264 ", "max "),
    ("\u2264", "max "),
    ("\u2265 ", "min "),
    ("\u2265", "min "),
    ("\u00d8", "dia "),
    ("\u2300", "dia "),
    ("\u0394", "d"),
)


def printable(text: str) -> str:
    """Signs that the shipped fonts lack, in words."""
    for sign, word in SIGNS:
        text = text.replace(sign, word)
    return "".join(c if c.isprintable() else " " for c in text)


def write(
    canvas: Any, x: float, y: float, text: str, font: str = WORD, size: float = 9, colour: str = LIGHT.ink
) -> None:
    """Text from the left."""
    canvas.setFillColor(colour)
    canvas.setFont(font, size)
    canvas.drawString(x, y, printable(text))


def write_right(
    canvas: Any, x: float, y: float, text: str, font: str = MONO, size: float = 9, colour: str = LIGHT.ink
) -> None:
    """Text that ends at x."""
    canvas.setFillColor(colour)
    canvas.setFont(font, size)
    canvas.drawRightString(x, y, printable(text))


def shortened(text: str, font: str, size: float, width: float) -> str:
    """Text cut to a width with an ellipsis."""
    from reportlab.pdfbase.pdfmetrics import stringWidth

    text = printable(text)
    if stringWidth(text, font, size) <= width:
        return text
    while text and stringWidth(text + "\u2026", font, size) > width:
        text = text[:-1]
    return text + "\u2026"


def wrapped(text: str, font: str, size: float, width: float) -> list[str]:
    """Text broken into lines of a width."""
    from reportlab.lib.utils import simpleSplit

    return list(simpleSplit(printable(text), font, size, width))


def mark(canvas: Any, x: float, y: float, verdict: Verdict, size: float = 7) -> None:
    """A verdict's mark about a middle: disc, square or half-filled diamond."""
    colour = VERDICT_COLOURS[verdict]
    canvas.setFillColor(colour)
    canvas.setStrokeColor(colour)
    canvas.setLineWidth(0.9)
    half = size / 2
    if verdict is Verdict.CONFORMS:
        canvas.circle(x, y, half, stroke=0, fill=1)
    elif verdict is Verdict.DOES_NOT_CONFORM:
        canvas.rect(x - half, y - half, size, size, stroke=0, fill=1)
    else:
        _polygon(canvas, [(x, y + half * 1.25), (x - half * 1.25, y), (x, y - half * 1.25)], fill=1)
        _polygon(canvas, [(x, y + half * 1.25), (x + half * 1.25, y), (x, y - half * 1.25)], fill=0)


def disc(canvas: Any, x: float, y: float, size: float, text: str) -> None:
    """A number in a white disc."""
    canvas.setFillColor(LIGHT.panel)
    canvas.setStrokeColor(LIGHT.ink)
    canvas.setLineWidth(0.7)
    canvas.circle(x, y, size, stroke=1, fill=1)
    canvas.setFillColor(LIGHT.ink)
    font = size * (1.15 if len(text) < 3 else 0.85)
    canvas.setFont(WORD_BOLD, font)
    canvas.drawCentredString(x, y - font * 0.35, text)


def arrow(canvas: Any, tail: tuple[float, float], head: tuple[float, float], colour: str) -> None:
    """A line with a solid head."""
    along = np.subtract(head, tail)
    along = along / max(float(np.hypot(*along)), 1e-9)
    across = np.array([-along[1], along[0]])
    foot = np.asarray(head) - 7 * along
    canvas.setStrokeColor(colour)
    canvas.setFillColor(colour)
    canvas.setLineWidth(1.6)
    canvas.line(*tail, *foot)
    _polygon(canvas, [tuple(p) for p in (np.asarray(head), foot + 3 * across, foot - 3 * across)], fill=1)


def picture(canvas: Any, pixels: Any, box: tuple[float, float, float, float]) -> None:
    """Pixels in a box: left, bottom, width, height."""
    from PIL import Image
    from reportlab.lib.utils import ImageReader

    image = io.BytesIO()
    Image.fromarray(pixels).save(image, "JPEG", quality=88)
    image.seek(0)
    canvas.drawImage(ImageReader(image), *box)


def _polygon(canvas: Any, corners: Sequence[tuple[float, float]], fill: int) -> None:
    path = canvas.beginPath()
    path.moveTo(*corners[0])
    for corner in corners[1:]:
        path.lineTo(*corner)
    path.close()
    canvas.drawPath(path, stroke=1, fill=fill)


def ruler(
    canvas: Any,
    x: float,
    y: float,
    width: float,
    limits: tuple[float | None, float | None],
    value: float,
    expanded: float,
    verdict: Verdict,
) -> None:
    """A tolerance ruler from x to x + width about the height y."""
    from juxtum.evaluate.ruler import lay_out

    r = lay_out(limits[0], limits[1], value, expanded)
    canvas.setFillColor(LIGHT.field)
    canvas.rect(x + r.zone[0] * width, y - 2, (r.zone[1] - r.zone[0]) * width, 4, stroke=0, fill=1)
    canvas.setFillColor(LIGHT.rule)
    canvas.rect(x + r.safe[0] * width, y - 2, max(r.safe[1] - r.safe[0], 0) * width, 4, stroke=0, fill=1)
    canvas.setStrokeColor(LIGHT.ink)
    canvas.setLineWidth(0.7)
    for tick in r.ticks:
        canvas.line(x + tick * width, y - 4.5, x + tick * width, y + 4.5)
    if r.dot is not None and r.whisker is not None:
        canvas.setStrokeColor(VERDICT_COLOURS[verdict])
        canvas.line(x + r.whisker[0] * width, y, x + r.whisker[1] * width, y)
        mark(canvas, x + r.dot * width, y, verdict, 4.5)


def legend(canvas: Any, x: float, y: float, size: tuple[float, float], scale: MapScale, area: Histogram) -> None:
    """The histogram turned on its side, coloured as the map; y is its lower end."""
    width, height = size
    low, high = scale.ends
    middles = (area.edges[1:] + area.edges[:-1]) / 2
    tallest = max(float(np.sqrt(area.shares.max())), 1e-9)
    for middle, share, colour in zip(middles, area.shares, colours(middles, scale), strict=True):
        bottom = y + (middle - low) / (high - low) * height
        canvas.setFillColorRGB(*colour)
        canvas.rect(x, bottom - height / len(middles) / 2, 6, height / len(middles) + 0.3, stroke=0, fill=1)
        canvas.rect(
            x + 8,
            bottom - height / len(middles) / 2,
            float(np.sqrt(share)) / tallest * (width - 36),
            height / len(middles) + 0.3,
            stroke=0,
            fill=1,
        )
    canvas.setStrokeColor(LIGHT.ink)
    canvas.setLineWidth(0.6)
    for value in (low, scale.lower, 0.0, scale.upper, high):
        place = y + (value - low) / (high - low) * height
        limit = value in (scale.lower, scale.upper)
        if limit:
            canvas.line(x - 3, place, x + width - 26, place)
        write(
            canvas,
            x + width - 24,
            place - 2.5,
            signed_short(round(value, 4)) if value else "0",
            MONO_BOLD if limit else MONO,
            6.5,
        )


def key(canvas: Any, x: float, y: float, width: float, scale: MapScale, unit: str = "mm") -> None:
    """The colours of the map in one line with their borders."""
    borders = (scale.ends[0], *scale.steps, scale.ends[1])
    part = width / (len(borders) - 1)
    for k, (low, high) in enumerate(pairwise(borders)):
        canvas.setFillColorRGB(*colours([(low + high) / 2], scale)[0])
        canvas.rect(x + k * part, y, part, 6, stroke=0, fill=1)
        if k:
            limit = low in (scale.lower, scale.upper)
            canvas.setFont(MONO_BOLD if limit else MONO, 6.5)
            canvas.setFillColor(LIGHT.ink if limit else LIGHT.ink_soft)
            canvas.drawCentredString(x + k * part, y - 8, signed(low, 2))
    write(canvas, x + width + 8, y, f"{unit}; hatched: not seen", WORD, 6.5, LIGHT.ink_soft)


def card(canvas: Any, x: float, y: float, size: tuple[float, float], label: str, value: float, inside: bool) -> None:
    """A small card of a reading; x and y are its lower left corner."""
    width, height = size
    canvas.setFillColor(LIGHT.panel)
    canvas.setStrokeColor(LIGHT.rule)
    canvas.setLineWidth(0.5)
    canvas.roundRect(x, y, width, height, 2, stroke=1, fill=1)
    write(canvas, x + 4, y + height - 8, shortened(label, WORD, 6, width - 8), WORD, 6, LIGHT.ink_soft)
    write(canvas, x + 4, y + 4, signed(value), MONO_BOLD, 8, LIGHT.ink if inside else LIGHT.not_conforming)
