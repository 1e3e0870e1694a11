"""HB-36 sluice hinge beam: a welded beam of 3.6 m with a hinge at each end, three paddle seats and thin gussets.

Part coordinates: X along the beam, Y across it (the axes of the hinges), Z up; the origin lies in the middle of the
lower flange's underside.
"""

from __future__ import annotations

from typing import Any

from juxtum.demo.solids import box, cut, cylinder, fused

LENGTH = 3600.0
WIDTH = 160.0
HEIGHT = 200.0
FLANGE = 12.0
WEB = 10.0
HINGE_X = 1800.0
HINGE_HEIGHT = 100.0
HINGE_RADIUS = 70.0
HINGE_BORE = 35.0
SEATS = (-900.0, 0.0, 900.0)
SEAT = (220.0, 120.0, 15.0)
GUSSETS = (-1250.0, -450.0, 450.0, 1250.0)
SHEET = 3.0
GUSSET_HOLE = 9.0
GREASE_RADIUS = 3.0


def build_beam() -> Any:
    """The solid of the beam (an Open CASCADE shape)."""
    return cut(_body(), _openings())


def _body() -> Any:
    half, inner = LENGTH / 2, HEIGHT - 2 * FLANGE
    lower = box((-half, -WIDTH / 2, 0), (LENGTH, WIDTH, FLANGE))
    upper = box((-half, -WIDTH / 2, HEIGHT - FLANGE), (LENGTH, WIDTH, FLANGE))
    web = box((-half, -WEB / 2, FLANGE - 1), (LENGTH, WEB, inner + 2))
    hinges = [cylinder((sign * HINGE_X, -WIDTH / 2, HINGE_HEIGHT), (0, 1, 0), HINGE_RADIUS, WIDTH) for sign in (-1, 1)]
    seats = [box((x - SEAT[0] / 2, -SEAT[1] / 2, HEIGHT - 1), (SEAT[0], SEAT[1], SEAT[2] + 1)) for x in SEATS]
    sheets = [
        box((x - SHEET / 2, side, FLANGE - 1), (SHEET, WIDTH / 2 - WEB / 2 - 4, inner + 2))
        for x in GUSSETS
        for side in (WEB / 2 - 0.5, -WIDTH / 2 + 4 + 0.5)
    ]
    return fused(lower, [upper, web, *hinges, *seats, *sheets])


def _openings() -> list[Any]:
    tools = []
    for sign in (-1, 1):
        tools.append(cylinder((sign * HINGE_X, -WIDTH, HINGE_HEIGHT), (0, 1, 0), HINGE_BORE, 2 * WIDTH))
        top = HINGE_HEIGHT + HINGE_RADIUS
        start = (sign * (HINGE_X + 20.0), 0.0, HINGE_HEIGHT + 10)
        tools.append(cylinder(start, (0, 0, 1), GREASE_RADIUS, top - start[2] + 10))
    for x in GUSSETS:
        for y in (42.0, -42.0):
            tools.append(cylinder((x - 10, y, HINGE_HEIGHT), (1, 0, 0), GUSSET_HOLE, 20))
    for x in SEATS:
        for dx in (-80.0, 80.0):
            tools.append(cylinder((x + dx, 0, HEIGHT - 8), (0, 0, 1), 7.0, 60))
    return tools
