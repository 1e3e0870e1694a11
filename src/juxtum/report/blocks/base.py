"""What a block of the report is, and the pieces it is set from."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any
from xml.sax.saxutils import escape

from reportlab.lib.styles import ParagraphStyle
from reportlab.platypus import Flowable, Paragraph, Table

from juxtum.evaluate import Deviation
from juxtum.job import Evaluation, Job
from juxtum.job.runner import Comparison
from juxtum.job.shares import ShownMap
from juxtum.look import LIGHT
from juxtum.report import drawing as d
from juxtum.report.pictures import Picture
from juxtum.scene.palette import MapScale

ROOM = 595.28 - 2 * 42.0
"""Width that blocks have, points."""


@dataclass(frozen=True, eq=False)
class ReportContent:
    """Everything that goes on the pages."""

    job: Job
    evaluation: Evaluation
    pictures: list[Picture]
    scale: MapScale
    comparison: Comparison | None = None
    shown: ShownMap | None = None
    """The map as the pictures show it; as deviations within the limits where nothing is said."""

    @property
    def map_scale(self) -> MapScale:
        """Of the pictures."""
        return self.scale if self.shown is None else MapScale(self.shown.lower, self.shown.upper, self.shown.colours)

    @property
    def map_deviation(self) -> Deviation:
        """Of the pictures."""
        return self.evaluation.deviation if self.shown is None else self.shown.deviation

    @property
    def map_unit(self) -> str:
        """In which the pictures are coloured."""
        return "mm" if self.shown is None or self.shown.unit == "mm" else "share of the tolerance"


@dataclass(frozen=True)
class Block:
    """A part of the report: its name, and what it is set from; nothing where there is nothing to tell.

    Pages and tables break by themselves; a block only says what stands in it.
    """

    name: str
    make: Callable[[ReportContent], list[Any]]


class Drawn(Flowable):  # type: ignore[misc]
    """A picture of fixed size, drawn about its lower left corner."""

    def __init__(self, width: float, height: float, paint: Callable[[Any], None]) -> None:
        super().__init__()
        self.width, self.height, self._paint = width, height, paint

    def wrap(self, room: float, height: float) -> tuple[float, float]:
        """Its size, whatever room there is."""
        return self.width, self.height

    def draw(self) -> None:
        """Onto the page."""
        self._paint(self.canv)


def words(
    text: str, size: float = 8.5, colour: str = LIGHT.ink, font: str = d.WORD, *, to_the_right: bool = False
) -> Any:
    """A paragraph; what people typed is never read as markup."""
    style = ParagraphStyle(
        "words", fontName=font, fontSize=size, leading=1.25 * size, textColor=colour, alignment=2 if to_the_right else 0
    )
    return Paragraph(escape(d.printable(text)), style)


def number(text: str, size: float = 8, colour: str = LIGHT.ink, font: str = d.MONO) -> Any:
    """Figures that end at the right of their column."""
    return words(text, size, colour, font, to_the_right=True)


def heading(text: str) -> Any:
    """What stands above a block; it never ends a page."""
    style = ParagraphStyle(
        "heading", fontName=d.WORD_BOLD, fontSize=10.5, leading=13, textColor=LIGHT.ink, spaceBefore=14, spaceAfter=6,
        keepWithNext=1,
    )  # fmt: skip
    return Paragraph(escape(d.printable(text)), style)


def table(rows: Sequence[Sequence[Any]], widths: Sequence[float], *commands: tuple[Any, ...], head: int = 0) -> Any:
    """Rows of paragraphs and drawings without frame; the first `head` rows stand on each page again."""
    plain = [
        ("LEFTPADDING", (0, 0), (-1, -1), 0), ("RIGHTPADDING", (0, 0), (-1, -1), 4), ("TOPPADDING", (0, 0), (-1, -1), 1),
        ("BOTTOMPADDING", (0, 0), (-1, -1), 1.5), ("VALIGN", (0, 0), (-1, -1), "MIDDLE"),
    ]  # fmt: skip
    return Table(rows, colWidths=widths, style=[*plain, *commands], repeatRows=head, hAlign="LEFT")


def facts_table(facts: Sequence[tuple[str, str]], across: int = 3) -> Any:
    """Names and values, so many to a line."""
    cells: list[tuple[Any, Any, Any]] = [
        (words(name, 8, LIGHT.ink_soft), number(value, 8.5), "") for name, value in facts
    ]
    cells += [("", "", "")] * (-len(cells) % across)
    rows = [[c for cell in cells[k : k + across] for c in cell] for k in range(0, len(cells), across)]
    room = ROOM / across
    return table(rows, [0.6 * room, 0.4 * room - 16, 16] * across)


def hairline(first: int, last: int) -> tuple[Any, ...]:
    """A line below rows of a table."""
    return ("LINEBELOW", (0, first), (-1, last), 0.6, LIGHT.rule)
