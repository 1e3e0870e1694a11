"""VC-8 valve clip: a small moulded clip, eight or more of which are measured as one tray."""

from __future__ import annotations

from typing import Any

from juxtum.demo.solids import box, cut, cylinder, fused


def build_clip() -> Any:
    """The solid of the clip (an Open CASCADE shape): a foot, a split ring and a hook."""
    foot = box((-18, -9, 0), (36, 18, 4))
    ring = cylinder((0, -9, 17), (0, 1, 0), 15.5, 18)
    hook = fused(box((14, -6, 3), (4, 12, 20)), [box((11, -6, 20), (7, 12, 4))])
    body = fused(foot, [ring, hook])
    bore = cylinder((0, -20, 17), (0, 1, 0), 12.0, 40)
    mouth = box((-7, -20, 22), (14, 40, 20))
    hole = cylinder((-14, 0, -1), (0, 0, 1), 2.2, 10)
    return cut(body, [bore, mouth, hole])
