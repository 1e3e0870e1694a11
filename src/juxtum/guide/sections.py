"""What is said of sections."""

from __future__ import annotations

import numpy as np

from juxtum.evaluate.sections import Dimension, Section, SectionFeature
from juxtum.evaluate.sections.pieces import Piece
from juxtum.wording import measured, percent, signed, uncertainty


def feature_words(f: SectionFeature) -> str:
    """A feature in a line: what is drawn, what was measured, and how sure that is."""
    if f.measured is None or f.budget is None:
        return f"{f.name}, face {f.face}: {f.reason}"
    expanded = f.budget.expanded
    sure = f"\u00b1{uncertainty(expanded)}" if f.budget.is_known else "U not known"
    if f.shape == "line":
        words = f"{f.name}, face {f.face}: {measured(f.deviation, expanded)} {sure} mm, turned by {_turned(f)}"
    elif f.shape == "slot":
        words = f"{f.name}: {_slot_size(f.drawn)} drawn, {_slot_size(f.measured)} measured, {_slot_sure(f)}; {_off(f)}"
    elif f.shape == "point":
        words = f"{f.name}: {_off(f)}, {sure} mm"
    else:
        diameter = 2 * abs(f.drawn.radius)
        words = (
            f"{f.name}, face {f.face}: \u00d8{diameter:.3f} drawn, \u00d8{2 * abs(f.measured.radius):.3f} measured, "
            f"radius {measured(f.deviation, expanded)} {sure} mm"
        )
    return f"{words}; {f.reason}" if f.reason else words


def _slot_size(piece: Piece) -> str:
    return f"{piece.length:.3f} \u00d7 {2 * abs(piece.radius):.3f}"


def _slot_sure(f: SectionFeature) -> str:
    """How sure length and width are."""
    if f.budget is None or not f.budget.is_known:
        return "U not known"
    return f"length \u00b1{uncertainty(f.length_expanded)}, width \u00b1{uncertainty(2 * f.budget.expanded)} mm"


def _off(f: SectionFeature) -> str:
    """Where it lies, beside where it is drawn."""
    assert f.measured is not None
    right, up = f.measured.point - f.drawn.point
    return f"{signed(float(right), 3)} to the right and {signed(float(up), 3)} up of the drawn one"


def _turned(f: SectionFeature) -> str:
    if not np.isfinite(f.turn_expanded):
        return f"{signed(f.turn, 3)}\u00b0"
    return f"{measured(f.turn, f.turn_expanded)} \u00b1{uncertainty(f.turn_expanded)}\u00b0"


def section_words(section: Section) -> str:
    """A section in a sentence or two: from where to where it deviates, and what was not seen of it."""
    found = section.found
    if not section.drawn.curves:
        return "The plane does not meet the part."
    if not len(found):
        return "The scan shows nothing of it."
    low, high = float(found.min()), float(found.max())
    words = f"From {signed(low, 3)} to {signed(high, 3)} mm, RMS {float(np.sqrt(np.mean(found**2))):.3f} mm"
    words += f"; {percent(section.seen, 0)} of the drawn line seen."
    drawn, there = section.drawn.area, section.measured_area
    if drawn is not None:
        words += f" Area {drawn:.1f} mm\u00b2 drawn"
        words += f", {there:.1f} mm\u00b2 measured." if there is not None else "; the measured curve is open."
    return words


def dimension_words(one: str, two: str, found: Dimension) -> str:
    """A dimension between two features."""
    unit = "mm" if found.kind == "distance" else "\u00b0"
    if not np.isfinite(found.measured):
        return f"{one} to {two}: {found.kind} {found.nominal:.3f} {unit} drawn, not measured"
    off = found.measured - found.nominal
    sure = f"\u00b1{uncertainty(found.expanded)}" if np.isfinite(found.expanded) else "U not known"
    return f"{one} to {two}: {found.kind} {found.nominal:.3f} {unit} drawn, {found.measured:.3f} measured, {signed(off, 3)} {sure}"
