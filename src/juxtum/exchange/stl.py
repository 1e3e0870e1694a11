"""STL, both kinds."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from juxtum.exchange.limits import check_counts, read_head
from juxtum.exchange.raw import RawMesh, refuse, text_lines
from juxtum.geometry.topology import weld

MARKED = b"Juxtum, millimetres; last two bytes 1: invented"
"""Begins a file whose triangles say whether they were measured."""
_RECORD = np.dtype([("normal", "<f4", 3), ("corners", "<f4", (3, 3)), ("extra", "<u2")])


def read(path: Path) -> RawMesh:
    """Points and triangles; equal corners become one point."""
    head = read_head(path, 1024)
    size = path.stat().st_size
    count = int.from_bytes(head[80:84], "little") if len(head) >= 84 else -1
    if count >= 0 and size == 84 + 50 * count:
        return _read_binary(path, count)
    if head.lstrip().startswith(b"solid") and b"\0" not in head and (b"facet" in head or b"endsolid" in head):
        return _read_text(path)
    if count < 0 or head.lstrip().startswith(b"solid") or b"\0" not in head:
        refuse(path, "this is not an STL file", "Check the file's ending or export it again")
    room = (size - 84) // 50
    if count > room:
        refuse(path, f"the file ends too early: its header names {count} triangles, there are {room}", "Copy it again")
    return _read_binary(path, count)


def _read_binary(path: Path, count: int) -> RawMesh:
    check_counts(0, count, path)
    if count == 0:
        refuse(path, "the file holds no triangles")
    records = np.fromfile(path, dtype=_RECORD, count=count, offset=84)
    corners = records["corners"].reshape(-1, 3)
    points, triangles = weld(np.ascontiguousarray(corners))
    with path.open("rb") as file:
        # Others put other things, such as colours, into the two bytes that are left.
        is_ours = file.read(len(MARKED)) == MARKED
    return RawMesh(points.astype(np.float64), triangles, invented=records["extra"] == 1 if is_ours else None)


def _read_text(path: Path) -> RawMesh:
    lines = text_lines(path)
    words = [line.split() for line in lines]
    rows = [w[1:4] for w in words if w and w[0].lower() == b"vertex"]
    if not any(w and w[0].lower() == b"endsolid" for w in words[-50:]):
        refuse(path, "the file ends too early: 'endsolid' is missing", "Copy it again")
    if not rows:
        refuse(path, "the file holds no triangles")
    try:
        corners = np.array([[float(x) for x in row] for row in rows], dtype=np.float64)
    except ValueError:
        refuse(path, "a vertex is not made of numbers with decimal points")
    if corners.ndim != 2 or corners.shape[1] != 3 or len(corners) % 3:
        refuse(path, "a triangle does not have three vertices of three numbers")
    points, triangles = weld(corners)
    return RawMesh(points, triangles)
