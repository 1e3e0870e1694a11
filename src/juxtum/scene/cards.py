"""Where the cards of readings go: near their places, over nothing else, over no other card."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from juxtum.geometry.arrays import Floats


@dataclass(frozen=True)
class Box:
    """A rectangle in pixels from the top left corner."""

    x: float
    y: float
    width: float
    height: float

    def overlaps(self, other: Box, gap: float = 0.0) -> bool:
        """Whether two rectangles come nearer than `gap`."""
        return (
            self.x < other.x + other.width + gap
            and other.x < self.x + self.width + gap
            and self.y < other.y + other.height + gap
            and other.y < self.y + self.height + gap
        )

    def holds(self, x: float, y: float, gap: float = 0.0) -> bool:
        """Whether a place lies inside or nearer than `gap`."""
        return self.x - gap < x < self.x + self.width + gap and self.y - gap < y < self.y + self.height + gap


CELL = 16.0


def place_cards(
    anchors: Floats, card: tuple[float, float], room: Box, taken: tuple[Box, ...] = (), part: Floats | None = None
) -> list[Box | None]:
    """A rectangle for each anchor (N, 2), or None where no room is left.

    Parameters
    ----------
    card : tuple
        Width and height.
    room : Box
        All cards lie in it.
    taken : tuple of Box
        Not to be covered.
    part : array (N, 2), optional
        Where the part appears; cards lie beside it as far as there is room.
    """
    shadow = _Shadow(room, part)
    placed: list[Box | None] = [None] * len(anchors)
    centre = np.array([room.x + room.width / 2, room.y + room.height / 2])
    occupied = list(taken)
    # From the outside inwards, so that outer cards do not have to cross inner ones.
    order = sorted(range(len(anchors)), key=lambda i: -float(np.abs(anchors[i] - centre).max()))
    for index in order:
        options = [b for b in _candidates(anchors[index], card, room) if not any(b.overlaps(o, 6) for o in occupied)]
        if not options:
            continue
        best = min(options, key=lambda b: _cost(b, anchors, index, centre) + 260 * shadow.share(b))
        placed[index] = best
        occupied.append(best)
    return placed


class _Shadow:
    """Which cells of the screen the part covers."""

    def __init__(self, room: Box, part: Floats | None) -> None:
        self._room = room
        shape = int(room.height / CELL) + 2, int(room.width / CELL) + 2
        self._sums = np.zeros((shape[0] + 1, shape[1] + 1))
        if part is not None and len(part):
            x = ((part[:, 0] - room.x) / CELL).astype(int)
            y = ((part[:, 1] - room.y) / CELL).astype(int)
            inside = (x >= 0) & (x < shape[1]) & (y >= 0) & (y < shape[0])
            covered = np.zeros(shape)
            covered[y[inside], x[inside]] = 1.0
            self._sums[1:, 1:] = covered.cumsum(0).cumsum(1)

    def share(self, box: Box) -> float:
        """Share of a rectangle over the part, 0 to 1."""
        x0, x1 = int((box.x - self._room.x) / CELL), int((box.x + box.width - self._room.x) / CELL) + 1
        y0, y1 = int((box.y - self._room.y) / CELL), int((box.y + box.height - self._room.y) / CELL) + 1
        s = self._sums
        x0, x1, y0, y1 = max(x0, 0), min(x1, s.shape[1] - 1), max(y0, 0), min(y1, s.shape[0] - 1)
        area = max((x1 - x0) * (y1 - y0), 1)
        return float(s[y1, x1] - s[y0, x1] - s[y1, x0] + s[y0, x0]) / area


def _candidates(anchor: Floats, card: tuple[float, float], room: Box) -> list[Box]:
    width, height = card
    result = []
    for radius in (46, 78, 115, 160, 215, 280, 360, 460):
        for k in range(20):
            angle = 2 * np.pi * k / 20
            x = anchor[0] + radius * np.cos(angle) * 1.15 - width / 2 + np.sign(np.cos(angle)) * width / 2
            y = anchor[1] + radius * np.sin(angle) - height / 2
            box = Box(float(x), float(y), width, height)
            inside = (
                room.x <= x and x + width <= room.x + room.width and room.y <= y and y + height <= room.y + room.height
            )
            if inside:
                result.append(box)
    return result


def _cost(box: Box, anchors: Floats, index: int, centre: Floats) -> float:
    middle = np.array([box.x + box.width / 2, box.y + box.height / 2])
    leader = float(np.linalg.norm(middle - anchors[index]))
    covered = sum(box.holds(float(x), float(y), 5) for x, y in anchors)
    inward = float((middle - anchors[index]) @ (centre - anchors[index])) > 0
    return leader + 400 * covered + 90 * inward
