"""What the readers of single formats hand on."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import NoReturn

import numpy as np
import numpy.typing as npt

from juxtum.errors import InputError
from juxtum.units import Unit


@dataclass(frozen=True, eq=False)
class RawMesh:
    """Unchecked points (N, 3) and triangles (M, 3), or None for a point list."""

    points: npt.NDArray[np.float64]
    triangles: npt.NDArray[np.int32] | None
    unit: Unit | None = None
    normals: npt.NDArray[np.float64] | None = None
    """Of the points (N, 3), where the file has some."""
    invented: npt.NDArray[np.bool_] | None = None
    """Which triangles (M,) the file marks as made up to close a hole."""


def refuse(path: Path, what: str, next: str = "Export the file again") -> NoReturn:
    """Raise an `InputError` about a file."""
    raise InputError(what, str(path), next)


def text_lines(path: Path) -> list[bytes]:
    """Lines of a text file whatever its line ends; refuses binary content."""
    data = path.read_bytes()
    if b"\0" in data[:65536]:
        refuse(path, "this should be text but holds binary data", "Check the file's ending")
    return data.replace(b"\r\n", b"\n").replace(b"\r", b"\n").split(b"\n")


INVENTED = "invented"
"""What a triangle that nobody measured is called in files."""


def of_triangles(polygons: list[list[int]], marks: list[bool]) -> npt.NDArray[np.bool_] | None:
    """Marks of polygons as marks of the triangles that become of them; None where nothing is marked."""
    if len(marks) != len(polygons) or not any(marks):
        return None
    return np.repeat(marks, [max(len(polygon) - 2, 0) for polygon in polygons])


def as_triangles(polygons: list[list[int]]) -> npt.NDArray[np.int32]:
    """Fans of triangles from polygons."""
    low, high = -(2**31), 2**31 - 1
    rows: list[tuple[int, ...]] = [(p[0], p[i], p[i + 1]) for p in polygons for i in range(1, len(p) - 1)]
    if any(not low <= n <= high for p in polygons for n in p):
        # Numbers that no array of points has are kept as such: what names them is refused later.
        rows = [tuple(min(max(n, low), high) for n in row) for row in rows]
    return np.array(rows, dtype=np.int64).reshape(-1, 3).astype(np.int32)
