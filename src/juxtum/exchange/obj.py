"""Wavefront OBJ: vertices and faces; materials and texture are passed over, and of groups all but the invented one."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from juxtum.exchange.raw import INVENTED, RawMesh, as_triangles, of_triangles, refuse, text_lines


def read(path: Path) -> RawMesh:
    """Points and triangles; polygons become fans of triangles."""
    rows: list[list[float]] = []
    polygons: list[list[int]] = []
    marks, is_marked = list[bool](), False
    for number, line in enumerate(text_lines(path), 1):
        words = line.split()
        try:
            if words[:1] == [b"v"]:
                x, y, z = words[1:4]
                rows.append([float(x), float(y), float(z)])
            elif words[:1] == [b"f"]:
                polygons.append(_corners(words[1:], len(rows)))
                marks.append(is_marked)
            elif words[:1] == [b"g"]:
                is_marked = words[1:] == [INVENTED.encode()]
        except ValueError:
            refuse(path, f"line {number} does not hold the numbers it should")
    if not rows:
        refuse(path, "this file holds no OBJ vertices", "Check the file's ending or export it again")
    invented = of_triangles(polygons, marks)
    return RawMesh(np.array(rows), as_triangles(polygons) if polygons else None, invented=invented)


def _corners(words: list[bytes], known: int) -> list[int]:
    """Indices from 0; negative ones count back from the newest vertex."""
    numbers = [int(word.split(b"/")[0]) for word in words]
    if len(numbers) < 3 or 0 in numbers:
        raise ValueError
    return [n - 1 if n > 0 else known + n for n in numbers]
