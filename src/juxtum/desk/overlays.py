"""What is painted over the stage: cards, pins, scale bar, axes, captions."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QFontMetricsF, QPainter, QPen

from juxtum.desk.marks import paint_mark, paint_ruler
from juxtum.desk.style import THEME, colour, font
from juxtum.evaluate import Reading
from juxtum.evaluate.readings import standing
from juxtum.geometry.arrays import Floats
from juxtum.look import BODY, SMALL
from juxtum.scene.camera import Eye
from juxtum.scene.cards import Box
from juxtum.scene.palette import MapScale
from juxtum.wording import measured, uncertainty


@dataclass(frozen=True, eq=False)
class Pin:
    """A small numbered mark at a place."""

    place: Floats
    text: str
    token: str = "accent"  # noqa: S105


def card_size() -> tuple[float, float]:
    """Width and height of a reading's card."""
    return 118.0 * THEME.scale, 50.0 * THEME.scale


def paint_leader(painter: QPainter, spot: Floats, box: Box) -> None:
    """A line from a place to the nearest corner of its card."""
    x = min(max(spot[0], box.x), box.x + box.width)
    y = min(max(spot[1], box.y), box.y + box.height)
    painter.setPen(QPen(colour("ink"), 1.1))
    painter.drawLine(QPointF(*spot), QPointF(x, y))


def paint_dot(painter: QPainter, x: float, y: float, reading: Reading, small: bool) -> None:
    """The place of a reading."""
    if small:
        paint_mark(painter, QPointF(x, y), standing(reading), 7)
        return
    painter.setPen(QPen(colour("ink"), 1.2))
    painter.setBrush(colour("panel"))
    painter.drawEllipse(QPointF(x, y), 3.2, 3.2)


def paint_card(painter: QPainter, box: Box, reading: Reading, scale: MapScale, selected: bool) -> None:
    """Label, value, uncertainty and ruler of a reading."""
    k = THEME.scale
    rectangle = QRectF(box.x, box.y, box.width, box.height)
    painter.setPen(QPen(colour("accent" if selected else "rule"), 2 if selected else 1))
    painter.setBrush(colour("panel"))
    painter.drawRoundedRect(rectangle, 4, 4)
    verdict = standing(reading)
    painter.setFont(font(SMALL))
    painter.setPen(colour("ink_soft"))
    label = QFontMetricsF(painter.font()).elidedText(reading.label, Qt.TextElideMode.ElideRight, box.width - 28 * k)
    painter.drawText(QPointF(box.x + 8 * k, box.y + 14 * k), label)
    paint_mark(painter, QPointF(box.x + box.width - 11 * k, box.y + 10 * k), verdict, 9 * k)
    painter.setFont(font(BODY + 1, bold=True, mono=True))
    painter.setPen(colour("ink"))
    text = measured(reading.deviation, reading.expanded) if reading.is_seen else "not seen"
    painter.drawText(QPointF(box.x + 8 * k, box.y + 31 * k), text)
    if reading.is_seen:
        offset = QFontMetricsF(painter.font()).horizontalAdvance(text)
        painter.setFont(font(SMALL, mono=True))
        painter.setPen(colour("ink_soft"))
        painter.drawText(
            QPointF(box.x + 12 * k + offset, box.y + 31 * k),
            "\u00b1" + uncertainty(reading.expanded) if np.isfinite(reading.expanded) else "U?",
        )
        line = QRectF(box.x + 8 * k, box.y + 36 * k, box.width - 16 * k, 10 * k)
        # Without limits of its own the map's say how far it is, and nothing is decided.
        paint_ruler(
            painter, line, reading.limits or (scale.lower, scale.upper), reading.deviation, reading.expanded, verdict
        )


def paint_pin(painter: QPainter, x: float, y: float, text: str, token: str) -> None:
    """A picked place with its number."""
    painter.setFont(font(SMALL, bold=True))
    painter.setPen(QPen(colour("panel"), 1.5))
    painter.setBrush(colour(token))
    painter.drawEllipse(QPointF(x, y), 9, 9)
    painter.setPen(colour("panel"))
    painter.drawText(QRectF(x - 9, y - 9, 18, 18), Qt.AlignmentFlag.AlignCenter, text)


def paint_scale_bar(painter: QPainter, height: int, per_pixel: float) -> None:
    """A bar of a round length in mm, lower left."""
    length = 10 ** np.floor(np.log10(max(per_pixel, 1e-9) * 140))
    for factor in (5, 2):
        if length * factor <= per_pixel * 140:
            length *= factor
            break
    pixels, y = length / per_pixel, height - 20.0
    painter.setPen(QPen(colour("ink"), 1.4))
    painter.drawLine(QPointF(18, y), QPointF(18 + pixels, y))
    for x in (18.0, 18 + pixels):
        painter.drawLine(QPointF(x, y - 4), QPointF(x, y + 4))
    painter.setFont(font(SMALL))
    painter.drawText(QPointF(26 + pixels, y + 4), f"{length:g} mm")


def axes_box(width: int, height: int) -> Box:
    """Where the axes are painted, letters included."""
    return Box(width - 84.0, height - 80.0, 80.0, 80.0)


def paint_axes(painter: QPainter, eye: Eye, width: int, height: int) -> None:
    """Directions of the part's coordinates, lower right; letters, not colours, tell them apart."""
    box = axes_box(width, height)
    centre = QPointF(box.x + box.width / 2, box.y + box.height / 2)
    axes = sorted(zip("XYZ", np.eye(3), strict=True), key=lambda item: float(item[1] @ eye.towards))
    painter.setFont(font(SMALL, bold=True))
    for letter, axis in axes:
        x, y = float(axis @ eye.right), -float(axis @ eye.up)
        near = colour("ink") if float(axis @ eye.towards) > -0.3 else colour("ink_soft")
        painter.setPen(QPen(near, 1.5))
        painter.drawLine(centre, centre + QPointF(x, y) * 22)
        painter.drawText(
            QRectF(centre.x() + x * 31 - 8, centre.y() + y * 31 - 8, 16, 16), Qt.AlignmentFlag.AlignCenter, letter
        )


def paint_caption(painter: QPainter, text: str, width: int, height: int) -> None:
    """What a click does now, at the lower edge."""
    painter.setFont(font(BODY))
    length = QFontMetricsF(painter.font()).horizontalAdvance(text) + 28
    box = QRectF((width - length) / 2, height - 46, length, 30)
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(colour("ink"))
    painter.drawRoundedRect(box, 6, 6)
    painter.setPen(colour("panel"))
    painter.drawText(box, Qt.AlignmentFlag.AlignCenter, text)
