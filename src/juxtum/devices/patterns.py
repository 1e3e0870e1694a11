"""Where a scanner's light goes: directions of the rays of one frame in the device's own coordinates."""

from __future__ import annotations

import numpy as np

from juxtum.geometry.arrays import Floats, Ints
from juxtum.instruments.models import Mode

FRAMES = 30.0
"""Frames of a second."""
MOST_RAYS = 40_000


def tangents(mode: Mode) -> tuple[float, float]:
    """Tangents of half the field across and upright."""
    return mode.field[0] / 2 / mode.stand_off[1], mode.field[1] / 2 / mode.stand_off[1]


def rays_of(mode: Mode, spacing: float, rng: np.random.Generator) -> tuple[Floats, Ints]:
    """Unit directions (N, 3), x right, y up, looking along -z, and the line (N,) that each belongs to.

    Parameters
    ----------
    spacing : float
        Wanted between points along a line at the best stand-off, mm; not finer than the mode can.
    """
    wide, high = tangents(mode)
    step = max(spacing, mode.spacing[0])
    if mode.pattern == "area":
        flat, lines = _area(mode, step, wide, high, rng)
    elif mode.pattern == "cross":
        half = max(mode.lines // 2, 1)
        a, la = _family(half, wide, high, mode.field[1] / step, rng)
        b, lb = _family(max(mode.lines - half, 1), high, wide, mode.field[0] / step, rng)
        flat, lines = np.concatenate([a, b[:, ::-1]]), np.concatenate([la, lb + half])
    elif mode.pattern == "single":
        flat, lines = _family(1, 0.0, wide, mode.field[0] / step, rng)
        flat = flat[:, ::-1]
    else:
        flat, lines = _family(max(mode.lines, 1), wide, high, mode.field[1] / step, rng)
    most = int(min(mode.rate / FRAMES, MOST_RAYS)) if mode.pattern != "area" else MOST_RAYS * 8
    if len(flat) > most:
        kept = np.sort(rng.choice(len(flat), most, replace=False))
        flat, lines = flat[kept], lines[kept]
    directions = np.column_stack([flat, -np.ones(len(flat))])
    return directions / np.linalg.norm(directions, axis=1, keepdims=True), lines


def _family(lines: int, across: float, along: float, count: float, rng: np.random.Generator) -> tuple[Floats, Ints]:
    """Parallel lines: tangents (N, 2) across and along them."""
    each = max(int(count), 2)
    positions = across * (2 * (np.arange(lines) + 0.5) / lines - 1)
    steps = along * (2 * (np.arange(each) + rng.random()) / each - 1)
    return np.column_stack([np.repeat(positions, each), np.tile(steps, lines)]), np.repeat(np.arange(lines), each)


def _area(mode: Mode, step: float, wide: float, high: float, rng: np.random.Generator) -> tuple[Floats, Ints]:
    columns, rows = max(int(mode.field[0] / step), 2), max(int(mode.field[1] / step), 2)
    x = wide * (2 * (np.arange(columns) + rng.random()) / columns - 1)
    y = high * (2 * (np.arange(rows) + rng.random()) / rows - 1)
    return np.stack(np.meshgrid(x, y, indexing="xy"), -1).reshape(-1, 2), np.repeat(np.arange(rows), columns)
