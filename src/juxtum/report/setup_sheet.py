"""The set-up sheet for the shop floor: pictures with numbered targets, a list, the order of work; PDF and CSV."""

from __future__ import annotations

import csv
import io
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from juxtum.errors import InputError
from juxtum.exchange.writing import write_atomically
from juxtum.job import Job
from juxtum.look import LIGHT
from juxtum.plan.cautions import cautions
from juxtum.plan.planner import Planner
from juxtum.plan.targets.marking import ruler_marks
from juxtum.plan.targets.naming import face_counts
from juxtum.report import drawing as d
from juxtum.report.setup_notes import setup_notes
from juxtum.report.sheet_pictures import PICTURE, STRIP, SheetPicture, take_sheet_pictures
from juxtum.report.sheet_positions import (
    PositionPicture,
    draw_position_pictures,
    height_of,
    take_position_pictures,
)

WIDTH, HEIGHT, EDGE = 595.28, 841.89, 36.0
STRIPS_ON_A_PAGE = 7
ROW = 12.0
ON_FIRST_PAGE = 4
NUMBERS_AT = 320.0
STICKING = (
    "Stick them near the places shown; a few millimetres do not matter, the scanner learns where they are. Not in rows,",
    "one and a half diameters clear of edges, holes and roundings, on clean and dry surface. Count them face by face.",
)


@dataclass(frozen=True, eq=False)
class Taken:
    """What a sheet is made of: pictures of where targets sit, strips of a long part, how it lies, and sentences."""

    pictures: list[SheetPicture]
    strips: list[SheetPicture]
    positions: list[PositionPicture]
    notes: tuple[str, ...]


def write_setup_sheet(folder: Path, job: Job, planner: Planner) -> list[Path]:
    """Write `setup-sheet.pdf` and `targets.csv`.

    Raises
    ------
    InputError
        When the plan has no targets.
    """
    if not planner.plan.is_tracked:
        raise InputError("the plan has no targets yet", "set-up sheet", "Plan the targets first")
    folder.mkdir(parents=True, exist_ok=True)
    pictures, strips = take_sheet_pictures(planner)
    assessment = planner.assess()
    positions = take_position_pictures(planner, assessment)
    notes = setup_notes(planner, assessment)
    table = targets_table(planner)
    write_atomically(folder / "targets.csv", lambda path: path.write_text(table, "utf-8"))
    write_atomically(
        folder / "setup-sheet.pdf", lambda path: _draw(path, job, planner, Taken(pictures, strips, positions, notes))
    )
    return [folder / "setup-sheet.pdf", folder / "targets.csv"]


def targets_table(planner: Planner) -> str:
    """All targets as CSV."""
    text = io.StringIO()
    writer = csv.writer(text)
    writer.writerow(
        ("number", "x", "y", "z", "nx", "ny", "nz", "face", "from_edge", "first_ruler", "second_ruler", "locked")
    )
    for k, t in enumerate(planner.plan.placed, 1):
        marks = [m.words for m in ruler_marks(planner.nominal, t)]
        numbers = [f"{v:.3f}" for v in (*t.place, *t.normal)]
        writer.writerow((k, *numbers, t.face, f"{t.edge:.1f}", *[*marks, "", ""][:2], "yes" if t.is_locked else "no"))
    return text.getvalue()


def _draw(path: Path, job: Job, planner: Planner, taken: Taken) -> None:
    from reportlab.pdfgen.canvas import Canvas

    pictures, strips, positions = taken.pictures, taken.strips, taken.positions
    d.register_fonts()
    canvas = Canvas(str(path), pagesize=(WIDTH, HEIGHT), invariant=1)
    canvas.setTitle(f"Set-up sheet {job.title} {job.brief.serial}".strip())
    _head(canvas, job, planner, 1)
    _pictures(canvas, pictures)
    _facts(canvas, planner)
    canvas.showPage()
    page = 2
    for start in range(0, len(strips), STRIPS_ON_A_PAGE):
        _head(canvas, job, planner, page)
        _draw_strips(canvas, strips[start : start + STRIPS_ON_A_PAGE])
        canvas.showPage()
        page += 1
    page, y = _counts(canvas, job, planner, page, taken.notes)
    if y - height_of(positions, WIDTH - 2 * EDGE) < 48:
        canvas.showPage()
        page, y = page + 1, HEIGHT - 76.0
        _head(canvas, job, planner, page)
    draw_position_pictures(canvas, positions, (EDGE, y), WIDTH - 2 * EDGE)
    y -= height_of(positions, WIDTH - 2 * EDGE)
    more = pictures[ON_FIRST_PAGE:]
    if more and y - _tall(more) < 48:
        canvas.showPage()
        _head(canvas, job, planner, page + 1)
        y = HEIGHT - 70
    _more_pictures(canvas, more, y)
    _unpictured(canvas, planner, [*pictures, *strips])
    canvas.save()


def _draw_strips(canvas: Any, strips: list[SheetPicture]) -> None:
    wide = WIDTH - 2 * EDGE
    tall = wide * STRIP[1] / STRIP[0]
    y = HEIGHT - 76.0
    for strip in strips:
        y -= tall
        _place_picture(canvas, strip, (EDGE, y, wide, tall), 5.6)
        y -= 15


def _place_picture(canvas: Any, picture: SheetPicture, box: tuple[float, float, float, float], size: float) -> None:
    """Pixels, bars, numbered discs and the title below."""
    x, y, w, h = box
    d.picture(canvas, picture.pixels, box)
    for x1, y1, x2, y2 in picture.bars:
        canvas.setStrokeColor(LIGHT.accent)
        canvas.setLineWidth(2.2)
        canvas.line(x + x1 * w, y + (1 - y1) * h, x + x2 * w, y + (1 - y2) * h)
    for number, px, py in picture.marks:
        d.disc(canvas, x + px * w, y + (1 - py) * h, size, str(number))
    d.write(canvas, x, y - 10, picture.caption, d.WORD, 7.5, LIGHT.ink_soft)


def _head(canvas: Any, job: Job, planner: Planner, page: int) -> None:
    d.write(canvas, EDGE, HEIGHT - 44, f"Set-up sheet: {job.title}", d.WORD_BOLD, 17)
    words = " · ".join(
        w for w in (job.brief.serial and f"serial {job.brief.serial}", job.brief.drawing, job.brief.operator) if w
    )
    d.write(canvas, EDGE, HEIGHT - 58, words, d.WORD, 9, LIGHT.ink_soft)
    count = len(planner.plan.targets)
    words = f"{count} target{'' if count == 1 else 's'}" if count else "nothing to stick"
    d.write_right(canvas, WIDTH - EDGE, HEIGHT - 44, words, d.WORD_BOLD, 17, LIGHT.accent)
    d.write_right(canvas, WIDTH - EDGE, HEIGHT - 58, f"disc {planner.rules().diameter:g} mm", d.WORD, 9, LIGHT.ink_soft)
    canvas.setStrokeColor(LIGHT.rule)
    canvas.setLineWidth(0.7)
    canvas.line(EDGE, HEIGHT - 65, WIDTH - EDGE, HEIGHT - 65)
    d.write(canvas, EDGE, 22, "Made with Juxtum", d.WORD, 7, LIGHT.ink_soft)
    d.write_right(canvas, WIDTH - EDGE, 22, str(page), d.MONO, 8, LIGHT.ink_soft)


def _pictures(canvas: Any, pictures: list[SheetPicture]) -> None:
    """One large and up to three small ones."""
    wide = WIDTH - 2 * EDGE
    tall = wide * PICTURE[1] / PICTURE[0]
    boxes = [(EDGE, HEIGHT - 74 - tall, wide, tall)]
    small = (wide - 16) / 3
    below = HEIGHT - 74 - tall - 22 - small * PICTURE[1] / PICTURE[0]
    boxes += [(EDGE + k * (small + 8), below, small, small * PICTURE[1] / PICTURE[0]) for k in range(3)]
    for index, (picture, box) in enumerate(zip(pictures, boxes, strict=False)):
        crowded = len(picture.marks) > 60
        _place_picture(canvas, picture, box, 2.6 if crowded and index else 7.5 if index == 0 and not crowded else 5.0)


def _facts(canvas: Any, planner: Planner) -> None:
    """Instrument, order of work and cautions in three columns."""
    effort = planner.effort()
    plan, model, mode = planner.plan, planner.model, planner.mode
    near, best, far = mode.stand_off
    facts = [
        model.name, f"mode: {mode.name}", f"method: {model.chain(plan.chain).name}", f"spacing {effort.spacing:g} mm",
        f"stand-off {near:.0f} - {best:.0f} - {far:.0f} mm", f"part {plan.stance}", f"coat: {plan.coat}",
        f"{effort.effort.points / 1e6:.1f} M points, {effort.effort.peak / 1e9:.1f} GB",
    ]  # fmt: skip
    work = [f"{e.clock}  {e.what}" for e in effort.schedule.entries]
    columns = (
        ("Instrument", facts),
        ("Order of work", work),
        ("Cautions", [*cautions(plan, planner.task.mass(planner.nominal)), *effort.schedule.warnings]),
    )
    wide = (WIDTH - 2 * EDGE - 24) / 3
    for k, (title, lines) in enumerate(columns):
        x, y = EDGE + k * (wide + 12), 228.0
        d.write(canvas, x, y, title, d.WORD_BOLD, 10)
        y -= 14
        for line in lines:
            for piece in d.wrapped(line, d.WORD, 8, wide):
                d.write(canvas, x, y, piece, d.WORD, 8)
                y -= 10.5
            y -= 2


def _tall(pictures: list[SheetPicture]) -> float:
    """Height of pictures that stand two in a row."""
    return -(-len(pictures) // 2) * ((WIDTH - 2 * EDGE - 12) / 2 * PICTURE[1] / PICTURE[0] + 22)


def _more_pictures(canvas: Any, pictures: list[SheetPicture], top: float) -> None:
    """Those that did not fit on the first page, two in a row."""
    wide = (WIDTH - 2 * EDGE - 12) / 2
    tall = wide * PICTURE[1] / PICTURE[0]
    for index, picture in enumerate(pictures):
        x, y = EDGE + (index % 2) * (wide + 12), top - 10 - (index // 2 + 1) * tall - (index // 2) * 22
        _place_picture(canvas, picture, (x, y, wide, tall), 5.0)


def _unpictured(canvas: Any, planner: Planner, pictures: list[SheetPicture]) -> None:
    """Targets that no picture shows are named: nobody should look for them."""
    shown = {number for picture in pictures for number, _, _ in picture.marks}
    missing = [str(k) for k in range(1, len(planner.plan.placed) + 1) if k not in shown]
    if missing:
        words = f"On no picture, since other faces hide them: {', '.join(missing)}."
        d.write(canvas, EDGE, 36, d.shortened(words, d.WORD, 8, WIDTH - 2 * EDGE), d.WORD, 8, LIGHT.undecided)


def _counts(canvas: Any, job: Job, planner: Planner, page: int, said: tuple[str, ...]) -> tuple[int, float]:
    """How many targets each face gets, and which: a hand sticks them within a few millimetres, the scanner learns where."""
    y = 0.0
    notes = [piece for note in said for piece in d.wrapped(note, d.WORD, 8.5, WIDTH - 2 * EDGE)]
    if not planner.plan.targets:
        _head(canvas, job, planner, page)
        for k, note in enumerate(notes):
            d.write(canvas, EDGE, HEIGHT - 80 - 11 * k, note, d.WORD, 8.5)
        return page, HEIGHT - 92 - 11 * len(notes)
    for number, count in enumerate(face_counts(planner.nominal, planner.plan.placed)):
        lines = d.wrapped(", ".join(map(str, count.numbers)), d.MONO, 8, WIDTH - EDGE - NUMBERS_AT)
        if number == 0 or y - ROW * len(lines) < 48:
            page += number > 0
            if number:
                canvas.showPage()
            _head(canvas, job, planner, page)
            above = [*STICKING, *notes] if number == 0 else [*STICKING]
            for k, note in enumerate(above):
                d.write(canvas, EDGE, HEIGHT - 80 - 11 * k, note, d.WORD, 8.5, LIGHT.ink if k > 1 else LIGHT.ink_soft)
            y = HEIGHT - 92 - 11 * len(above)
            for x, word in ((EDGE, "how many"), (EDGE + 52, "face"), (NUMBERS_AT, "numbers in the pictures")):
                d.write(canvas, x, y, word, d.WORD, 7, LIGHT.ink_soft)
            y -= ROW + 2
        if number % 2 == 0:
            canvas.setFillColor(LIGHT.paper)
            canvas.rect(EDGE - 2, y + 8 - ROW * len(lines), WIDTH - 2 * EDGE + 4, ROW * len(lines), stroke=0, fill=1)
        d.write(canvas, EDGE, y, str(len(count.numbers)), d.MONO_BOLD, 9)
        words = f"{count.words} (face {count.face})" if count.face else count.words
        d.write(canvas, EDGE + 52, y, d.shortened(words, d.WORD, 8.5, NUMBERS_AT - EDGE - 60), d.WORD, 8.5)
        for line in lines:
            d.write(canvas, NUMBERS_AT, y, line, d.MONO, 8)
            y -= ROW
    return page, y
