"""Where the cards of readings go: near their places, over nothing else, over no other card."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from juxtum.geometry.arrays import Bools, Floats


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
    size = np.array(card, dtype=float)
    placed: list[Box | None] = [None] * len(anchors)
    centre = np.array([room.x + room.width / 2, room.y + room.height / 2])
    occupied = np.array([(t.x, t.y, t.width, t.height) for t in taken], dtype=float).reshape(-1, 4)
    # From the outside inwards, so that outer cards do not have to cross inner ones.
    order = sorted(range(len(anchors)), key=lambda i: -float(np.abs(anchors[i] - centre).max()))
    for index in order:
        corners = _candidates(anchors[index], size, room)
        corners = corners[~_overlapped(corners, size, occupied, 6.0)]
        if len(corners) == 0:
            continue
        cost = _costs(corners + size / 2, size, anchors, index, centre) + 260 * shadow.shares(corners, size)
        x, y = corners[int(np.argmin(cost))]
        placed[index] = Box(float(x), float(y), *card)
        occupied = np.vstack([occupied, [x, y, *card]])
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

    def shares(self, corners: Floats, size: Floats) -> Floats:
        """Share (N,) over the part of the rectangles with their top left corners (N, 2), 0 to 1."""
        s = self._sums
        last = np.array([s.shape[1] - 1, s.shape[0] - 1])
        here = corners - (self._room.x, self._room.y)
        x0, y0 = np.maximum((here / CELL).astype(int), 0).T
        x1, y1 = np.minimum(((here + size) / CELL).astype(int) + 1, last).T
        area = np.maximum((x1 - x0) * (y1 - y0), 1)
        return np.asarray((s[y1, x1] - s[y0, x1] - s[y1, x0] + s[y0, x0]) / area)


def _candidates(anchor: Floats, size: Floats, room: Box) -> Floats:
    """Top left corners (N, 2) of cards round an anchor that lie in the room, the nearest first."""
    angle = 2 * np.pi * np.arange(20) / 20
    radius = np.array([46.0, 78, 115, 160, 215, 280, 360, 460])[:, None]
    x = anchor[0] + radius * np.cos(angle) * 1.15 - size[0] / 2 + np.sign(np.cos(angle)) * size[0] / 2
    y = anchor[1] + radius * np.sin(angle) - size[1] / 2
    corners = np.stack([x.ravel(), y.ravel()], axis=1)
    low, high = np.array([room.x, room.y]), np.array([room.x + room.width, room.y + room.height])
    return corners[((low <= corners) & (corners + size <= high)).all(1)]


def _overlapped(corners: Floats, size: Floats, occupied: Floats, gap: float) -> Bools:
    """Which rectangles (N,) come nearer than `gap` to one of others (M, 4: corner and size)."""
    at, wide = occupied[None, :, :2], occupied[None, :, 2:]
    here = corners[:, None]
    near: Bools = (here < at + wide + gap) & (at < here + size + gap)
    return np.asarray(np.any(np.all(near, axis=2), axis=1))


def _costs(middles: Floats, size: Floats, anchors: Floats, index: int, centre: Floats) -> Floats:
    """What is wrong with cards (N,) about their middles (N, 2): long leaders, places covered, leading inwards."""
    ways = middles - anchors[index]
    covered = (np.abs(middles[:, None] - anchors[None]) < size / 2 + 5).all(2).sum(1)
    inward = ways @ (centre - anchors[index]) > 0
    return np.asarray(np.linalg.norm(ways, axis=1) + 400 * covered + 90 * inward)
